//! A history as a picture: latencies over time, failures marked, verdicts as bands.

use std::path::Path;
use std::sync::Once;

use jiff::Timestamp;
use pindrel_core::health::{Incident, Verdict};
use pindrel_engine::CheckHistory;
use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::{FontStyle, register_font};

use crate::error::CliError;

const SIZE: (u32, u32) = (1280, 800);
const FONT: &str = "sans-serif";

const DAY: i64 = 86_400;
/// The most marks of the axis of times, but for the one at its begin.
const MOST_MARKS: i64 = 9;

const INK: RGBColor = RGBColor(0x22, 0x2b, 0x36);
const FAINT: RGBColor = RGBColor(0x8a, 0x94, 0xa0);
const GRID: RGBColor = RGBColor(0xe3, 0xe7, 0xec);
const LINE: RGBColor = RGBColor(0x1f, 0x6f, 0xb2);
const BAND: RGBColor = RGBColor(0xb9, 0xd6, 0xee);
const UP: RGBColor = RGBColor(0x4c, 0xa6, 0x6b);
const DOWN: RGBColor = RGBColor(0xc9, 0x3f, 0x3f);
const UNKNOWN: RGBColor = RGBColor(0xc9, 0xce, 0xd4);

/// What draws a history between two times.
pub(crate) type Draw = fn(&CheckHistory, Timestamp, Timestamp) -> Result<Vec<u8>, String>;

fn fonts() {
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        // A font that cannot be read leaves the texts out, which the pictures of the tests would show.
        let _ = register_font(FONT, FontStyle::Normal, dejavu::sans::regular());
    });
}

/// Draws a history as SVG.
pub(crate) fn svg(history: &CheckHistory, from: Timestamp, to: Timestamp) -> Result<Vec<u8>, String> {
    fonts();
    let mut text = String::new();
    {
        let area = SVGBackend::with_string(&mut text, SIZE).into_drawing_area();
        draw(&area, history, from, to)?;
        area.present().map_err(|error| error.to_string())?;
    }
    Ok(text.into_bytes())
}

/// Draws a history as PNG.
pub(crate) fn png(history: &CheckHistory, from: Timestamp, to: Timestamp) -> Result<Vec<u8>, String> {
    fonts();
    let (width, height) = SIZE;
    let mut pixels = vec![0; 3 * width as usize * height as usize];
    {
        let area = BitMapBackend::with_buffer(&mut pixels, SIZE).into_drawing_area();
        draw(&area, history, from, to)?;
        area.present().map_err(|error| error.to_string())?;
    }
    let mut bytes = Vec::new();
    let mut encoder = png::Encoder::new(&mut bytes, width, height);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    let mut writer = encoder.write_header().map_err(|error| error.to_string())?;
    writer.write_image_data(&pixels).map_err(|error| error.to_string())?;
    writer.finish().map_err(|error| error.to_string())?;
    Ok(bytes)
}

/// Writes a picture.
pub(crate) fn write(file: &Path, bytes: &[u8]) -> Result<(), CliError> {
    std::fs::write(file, bytes).map_err(|error| CliError::File {
        path: file.display().to_string(),
        doing: "written",
        why: pindrel_core::text::display_text::io_reason(&error),
    })
}

/// The verdicts over time, from one change to the next.
fn bands(history: &CheckHistory, from: i64, to: i64) -> Vec<(i64, i64, Verdict)> {
    let changes = history.incidents.iter().filter_map(|entry| match &entry.what {
        Incident::Verdict { to: verdict } => Some((entry.at.as_second().clamp(from, to), *verdict)),
        Incident::Failure { .. } => None,
    });
    let changes: Vec<(i64, Verdict)> = changes.collect();
    let record = &history.report.record;
    // What held before the first change is known only where nothing has changed since.
    let first = match (changes.is_empty(), record.since) {
        (true, Some(since)) if since.as_second() <= from => record.verdict,
        _ => Verdict::Unknown,
    };
    let mut bands = Vec::with_capacity(changes.len() + 1);
    let mut begin = (from, first);
    for (at, verdict) in changes {
        bands.push((begin.0, at, begin.1));
        begin = (at, verdict);
    }
    bands.push((begin.0, to, begin.1));
    bands.retain(|(begin, end, _)| begin < end);
    bands
}

/// The round times of a span, in seconds, at which its axis has marks: a few, as far apart as people count.
fn round_times(from: i64, to: i64) -> Vec<i64> {
    const STEPS: [i64; 18] = [
        10,
        20,
        30,
        60,
        120,
        300,
        600,
        900,
        1_800,
        3_600,
        7_200,
        10_800,
        21_600,
        43_200,
        DAY,
        2 * DAY,
        7 * DAY,
        14 * DAY,
    ];
    let step = STEPS.into_iter().find(|step| (to - from) / step <= MOST_MARKS).unwrap_or((to - from) / MOST_MARKS);
    let first = from + (-from).rem_euclid(step);
    (0..).map(|n| first + n * step).take_while(|at| *at <= to).collect()
}

fn draw<DB: DrawingBackend>(
    area: &DrawingArea<DB, Shift>,
    history: &CheckHistory,
    from: Timestamp,
    to: Timestamp,
) -> Result<(), String> {
    let failed = |error: DrawingAreaErrorKind<DB::ErrorType>| error.to_string();
    // Nothing is drawn of a time of which nothing is known.
    let first = history.points.first().map(|point| point.begin).into_iter();
    let first = first.chain(history.incidents.first().map(|entry| entry.at)).min();
    let to = to.as_second();
    let from = first.map_or(from, |first| from.max(first)).as_second().min(to - 60);
    area.fill(&WHITE).map_err(failed)?;
    let points = &history.points;
    let highest = points.iter().filter_map(|point| point.latency).map(|(_, most)| most.as_secs_f64() * 1e3);
    let highest = highest.fold(1.0_f64, f64::max) * 1.25;

    let name = &history.report.check.name;
    let (results, lost) = points
        .iter()
        .fold((0_u64, 0_u64), |(all, bad), point| (all + u64::from(point.results), bad + u64::from(point.failed)));
    let style = |size: u32, colour: RGBColor| (FONT, size).into_font().color(&colour);
    let now = history.report.record.verdict;
    area.draw(&Text::new(name.clone(), (40, 24), style(30, INK))).map_err(failed)?;
    let sum = format!("{now} now; {lost} of {results} results failed; times are UTC");
    area.draw(&Text::new(sum, (40, 62), style(18, FAINT))).map_err(failed)?;

    let plot = area.margin(100, 60, 30, 40);
    let mut chart = ChartBuilder::on(&plot)
        .x_label_area_size(44)
        .y_label_area_size(70)
        .build_cartesian_2d((from..to).with_key_points(round_times(from, to)), 0.0..highest)
        .map_err(failed)?;
    let label = |second: &i64| {
        let form = if to - from > DAY && second % DAY == 0 {
            "%b %d"
        } else if second % 60 == 0 {
            "%H:%M"
        } else {
            "%H:%M:%S"
        };
        Timestamp::from_second(*second).map_or_else(|_| String::new(), |at| at.strftime(form).to_string())
    };
    chart
        .configure_mesh()
        .disable_x_mesh()
        .bold_line_style(GRID)
        .light_line_style(WHITE)
        .axis_style(FAINT)
        .x_labels(9)
        .y_labels(6)
        .x_label_formatter(&label)
        .y_label_formatter(&|millis| if highest < 10.0 { format!("{millis:.1} ms") } else { format!("{millis:.0} ms") })
        .label_style(style(16, INK))
        .draw()
        .map_err(failed)?;

    // Verdicts stand behind everything, failures before it.
    for (begin, end, verdict) in bands(history, from, to) {
        let colour = match verdict {
            Verdict::Up => UP.mix(0.10),
            Verdict::Down => DOWN.mix(0.18),
            Verdict::Unknown => UNKNOWN.mix(0.25),
        };
        let band = Rectangle::new([(begin, 0.0), (end, highest)], colour.filled());
        chart.draw_series(std::iter::once(band)).map_err(failed)?;
    }
    // A line breaks where a minute has no result that passed.
    let mut runs: Vec<Vec<(i64, f64, f64)>> = Vec::new();
    let mut end = i64::MIN;
    for point in points {
        let begin = point.begin.as_second();
        let length = i64::try_from(point.length.as_secs()).unwrap_or(60);
        let Some((median, most)) = point.latency else { continue };
        let here = (middle(begin, length, from, to), median.as_secs_f64() * 1e3, most.as_secs_f64() * 1e3);
        match runs.last_mut().filter(|_| begin - end < length) {
            Some(run) => run.push(here),
            None => runs.push(vec![here]),
        }
        end = begin + length;
    }
    for run in &runs {
        let upper = run.iter().map(|(at, _, most)| (*at, *most));
        let outline: Vec<(i64, f64)> = upper.chain(run.iter().rev().map(|(at, median, _)| (*at, *median))).collect();
        chart.draw_series(std::iter::once(Polygon::new(outline, BAND.mix(0.7)))).map_err(failed)?;
        let line = run.iter().map(|(at, median, _)| (*at, *median));
        chart.draw_series(LineSeries::new(line, LINE.stroke_width(2))).map_err(failed)?;
        let dots = run.iter().map(|(at, median, _)| Circle::new((*at, *median), 3, LINE.filled()));
        chart.draw_series(dots).map_err(failed)?;
    }
    let failures = points.iter().filter(|point| point.failed > 0).map(|point| {
        let length = i64::try_from(point.length.as_secs()).unwrap_or(60);
        let at = middle(point.begin.as_second(), length, from, to);
        Cross::new((at, highest * 0.04), 6, DOWN.stroke_width(3))
    });
    chart.draw_series(failures).map_err(failed)?;
    legend(area, style(16, INK)).map_err(failed)
}

/// The middle of what is seen of some time.
fn middle(begin: i64, length: i64, from: i64, to: i64) -> i64 {
    let (begin, end) = (begin.clamp(from, to), (begin + length).clamp(from, to));
    begin + (end - begin) / 2
}

fn legend<DB: DrawingBackend>(
    area: &DrawingArea<DB, Shift>,
    style: TextStyle<'_>,
) -> Result<(), DrawingAreaErrorKind<DB::ErrorType>> {
    let (top, left) = (28, 640);
    let text = |says: &'static str, at: i32, row: i32| Text::new(says, (left + at + 26, top + row), style.clone());
    area.draw(&PathElement::new(vec![(left, top + 9), (left + 18, top + 9)], LINE.stroke_width(3)))?;
    area.draw(&text("median", 0, 0))?;
    area.draw(&Rectangle::new([(left + 150, top + 2), (left + 168, top + 16)], BAND.filled()))?;
    area.draw(&text("up to the 95th percentile", 150, 0))?;
    area.draw(&Cross::new((left + 440, top + 9), 6, DOWN.stroke_width(3)))?;
    area.draw(&text("failures", 430, 0))?;
    for (n, (says, colour)) in
        [("up", UP.mix(0.25)), ("down", DOWN.mix(0.35)), ("unknown", UNKNOWN.mix(0.6))].iter().enumerate()
    {
        let at = n as i32 * 150;
        area.draw(&Rectangle::new([(left + at, top + 32), (left + at + 18, top + 46)], colour.filled()))?;
        area.draw(&text(says, at, 30))?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use pindrel_core::health::{CheckFailure, CheckRecord, CheckTerms, Checked, HealthCheck, HistoryEntry};
    use pindrel_core::judging::facts::Unreachable;
    use pindrel_engine::{CheckReport, HistoryPoint};

    use super::*;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + second).unwrap()
    }

    #[test]
    fn the_axis_has_a_few_marks_at_round_times() {
        // From, to; the first mark, how far they are apart, and how many there are.
        let table = [
            ((0, 60), (0, 10, 7)),
            ((5, 65), (10, 10, 6)),
            ((1, 700), (120, 120, 5)),
            ((100, 3_700), (600, 600, 6)),
            ((7, 7 + 2 * DAY), (21_600, 21_600, 8)),
            ((DAY, 31 * DAY), (7 * DAY, 7 * DAY, 4)),
            ((1, 900 * DAY), (100 * DAY - 1, 100 * DAY - 1, 9)),
        ];
        for ((from, to), (first, apart, count)) in table {
            let marks = round_times(from, to);
            assert_eq!(
                (marks[0], marks[1] - marks[0], marks.len()),
                (first, apart, count),
                "{from} to {to}: {marks:?}"
            );
        }
        for span in (60..400 * DAY).step_by(86_311) {
            let marks = round_times(1_800_000_001, 1_800_000_001 + span);
            assert!((2..=10).contains(&marks.len()), "{span} s: {marks:?}");
        }
    }

    fn history(incidents: &[(i64, Verdict)], points: &[(i64, Option<u64>, u32)]) -> CheckHistory {
        let mut incidents: Vec<HistoryEntry> = incidents
            .iter()
            .map(|(second, to)| HistoryEntry { at: at(*second), what: Incident::Verdict { to: *to } })
            .collect();
        let why = CheckFailure::NotConnected { why: Unreachable::Refused };
        incidents.push(HistoryEntry { at: at(5_000), what: Incident::Failure { address: String::new(), why } });
        let points = points.iter().map(|(begin, millis, failed)| HistoryPoint {
            begin: at(*begin),
            length: Duration::from_secs(60),
            results: 6,
            failed: *failed,
            latency: millis.map(|millis| (Duration::from_millis(millis), Duration::from_millis(millis * 2))),
        });
        let what = Checked::Tcp("192.0.2.1:5432".parse().unwrap());
        let check = HealthCheck { name: "<store> & co".into(), what, terms: CheckTerms::default() };
        let (record, slots, members) = (CheckRecord::default(), Vec::new(), Vec::new());
        let report = CheckReport { check, endpoint: None, record, is_stale: false, latency: None, slots, members };
        CheckHistory { report, incidents, points: points.collect() }
    }

    #[test]
    fn verdicts_are_bands_without_gaps() {
        let changes = [(-50, Verdict::Up), (100, Verdict::Down), (100, Verdict::Unknown), (400, Verdict::Up)];
        let (from, to) = (at(0).as_second(), at(1_000).as_second());
        let found = bands(&history(&changes, &[]), from, to);
        let expected = [(0, 100, Verdict::Up), (100, 400, Verdict::Unknown), (400, 1_000, Verdict::Up)]
            .map(|(begin, end, verdict)| (from + begin, from + end, verdict));
        assert_eq!(found, expected);
        assert_eq!(bands(&history(&[], &[]), from, to), [(from, to, Verdict::Unknown)]);
    }

    /// Whatever there is of a history it can be drawn: nothing, one point, gaps, failures alone, a long time.
    #[test]
    fn any_history_is_drawn_and_its_name_breaks_no_document() {
        let points: [&[(i64, Option<u64>, u32)]; 4] = [
            &[],
            &[(0, Some(5), 0)],
            &[(0, None, 6), (60, None, 6)],
            &[(0, Some(3), 0), (60, Some(4), 1), (180, Some(90_000), 0), (240, None, 6), (7_776_000, Some(1), 0)],
        ];
        for points in points {
            let history = history(&[(0, Verdict::Up), (120, Verdict::Down)], points);
            for (from, to) in [(at(0), at(0)), (at(-600), at(300)), (at(-9_000_000), at(9_000_000))] {
                let text = String::from_utf8(svg(&history, from, to).unwrap()).unwrap();
                assert!(text.contains("&lt;store&gt; &amp; co") && text.trim_end().ends_with("</svg>"), "{points:?}");
                assert_eq!(text.matches("NaN").count(), 0, "{points:?}");
            }
        }
        let picture = png(&history(&[(0, Verdict::Up)], points[3]), at(0), at(300)).unwrap();
        assert_eq!(&picture[16..24], [0, 0, 5, 0, 0, 0, 3, 32], "1280 by 800");
    }
}
