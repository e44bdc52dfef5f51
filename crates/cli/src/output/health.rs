//! Health checks, their verdicts, their history, and what they cost.

use std::io::Write as _;
use std::time::Duration;

use comfy_table::{Cell, Color};
use jiff::{SignedDuration, Timestamp};
use pindrel_core::health::{CheckRecord, CheckResult, Incident, Measured, Verdict, sparkline};
use pindrel_engine::{CheckHistory, CheckReport, CheckRun, EndpointHoldReport, ForecastReport};
use serde_json::{Value, json};

use super::times::{age, clock};
use super::{VERSION, count, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// How many characters the last hour is drawn with.
const BARS: usize = 20;

/// Returns the mark of a verdict.
pub(super) fn mark(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Up => "●",
        Verdict::Down => "✕",
        Verdict::Unknown => "·",
    }
}

/// Returns the colour of a verdict.
pub(super) fn colour(verdict: Verdict) -> anstyle::Style {
    match verdict {
        Verdict::Up => style::GOOD,
        Verdict::Down => style::BAD,
        Verdict::Unknown => style::FAINT,
    }
}

fn table_colour(verdict: Verdict) -> Color {
    match verdict {
        Verdict::Up => Color::DarkGreen,
        Verdict::Down => Color::DarkRed,
        Verdict::Unknown => Color::DarkGrey,
    }
}

/// Writes a latency as people read it: `0.4 ms`, `12 ms`, `1.5 s`.
pub(super) fn latency(took: Duration) -> String {
    match took.as_secs_f64() * 1e3 {
        millis @ ..9.95 => format!("{millis:.1} ms"),
        millis @ ..999.5 => format!("{millis:.0} ms"),
        millis => format!("{:.1} s", millis / 1e3),
    }
}

fn millis(took: Duration) -> f64 {
    (took.as_secs_f64() * 1e6).round() / 1e3
}

/// What a check looks at, in a word or two.
fn looks_at(report: &CheckReport) -> String {
    match (&report.endpoint, report.check.combination()) {
        (Some(endpoint), _) => format!("endpoint {endpoint}"),
        (None, Some(combination)) => {
            let names: Vec<&str> = report.members.iter().map(|(name, _)| name.as_str()).collect();
            format!("{} of {}", combination.need, names.join(", "))
        }
        (None, None) => report.check.kind().to_owned(),
    }
}

fn failure_json(record: &CheckRecord) -> Value {
    match record.last_failure() {
        None => Value::Null,
        Some((address, failure)) => json!({
            "at": failure.at, "address": address, "code": failure.why.code(), "says": failure.why.to_string(),
        }),
    }
}

fn report_json(report: &CheckReport) -> Value {
    let CheckReport { check, endpoint, record, latency, members, .. } = report;
    let addresses: Vec<Value> = record
        .tracks
        .iter()
        .map(|(address, track)| {
            let impossible = track.impossible.as_ref().map(ToString::to_string);
            json!({ "address": address, "verdict": track.verdict, "failures": track.failed, "impossible": impossible })
        })
        .collect();
    let members: Vec<Value> =
        members.iter().map(|(name, verdict)| json!({ "name": name, "verdict": verdict })).collect();
    json!({
        "name": check.name,
        "kind": check.kind(),
        "endpoint": endpoint,
        "verdict": report.verdict(),
        "stale": report.is_stale,
        "since": record.since,
        "seen": record.seen(),
        "latency_ms": latency.map(|(median, _)| millis(median)),
        "latency_95_ms": latency.map(|(_, most)| millis(most)),
        "failures": record.failures(),
        "last_failure": failure_json(record),
        "addresses": addresses,
        "of": members,
        "vantages": { "here": { "verdict": record.verdict, "seen": record.seen() } },
    })
}

/// Writes all checks.
pub(crate) fn print_list(
    context: &Context,
    reports: &[CheckReport],
    holds: &[EndpointHoldReport],
) -> Result<(), CliError> {
    match context.format {
        Format::Json => {
            let held: Vec<Value> = holds
                .iter()
                .map(|hold| {
                    let EndpointHoldReport { endpoint, since, until, because } = hold;
                    json!({ "endpoint": endpoint, "since": since, "until": until, "because": because })
                })
                .collect();
            let checks: Vec<Value> = reports.iter().map(report_json).collect();
            super::json(&json!({ "version": VERSION, "checks": checks, "held_out": held }))
        }
        Format::Csv => {
            let time = |at: Option<Timestamp>| at.map_or(String::new(), |at| at.to_string());
            let rows = reports.iter().map(|report| {
                let CheckReport { check, endpoint, record, latency, .. } = report;
                let failure = record.last_failure().map_or(String::new(), |(_, failure)| failure.why.to_string());
                let number = |of: Option<Duration>| of.map_or(String::new(), |took| millis(took).to_string());
                [
                    check.name.clone(),
                    endpoint.clone().unwrap_or_default(),
                    report.verdict().to_string(),
                    time(record.since),
                    time(record.seen()),
                    number(latency.map(|(median, _)| median)),
                    number(latency.map(|(_, most)| most)),
                    record.failures().to_string(),
                    failure,
                    report.is_stale.to_string(),
                ]
            });
            let heads = [
                "name",
                "endpoint",
                "verdict",
                "since",
                "seen",
                "latency_ms",
                "latency_95_ms",
                "failures",
                "last_failure",
                "stale",
            ];
            super::csv(&heads, rows)
        }
        Format::Text => print_list_text(reports, holds),
    }
}

fn print_list_text(reports: &[CheckReport], holds: &[EndpointHoldReport]) -> Result<(), CliError> {
    if reports.is_empty() {
        writeln!(super::stdout(), "The manifest has no health checks.")?;
        return Ok(());
    }
    let now = Timestamp::now();
    let hour_ago = now.saturating_sub(SignedDuration::from_hours(1)).unwrap_or(Timestamp::MIN);
    let heads = ["CHECK", "LOOKS AT", "VERDICT", "FOR", "MEDIAN", "95 %", "LAST HOUR", "SEEN"];
    let mut table = super::table(&heads);
    for report in reports {
        let record = &report.record;
        let ago = |at: Option<Timestamp>| at.map_or("–".into(), |at| age(now.as_second() - at.as_second()));
        let took = |of: Option<Duration>| of.map_or("–".into(), latency);
        let verdict = match report.is_stale {
            true => format!("{} stale ({})", mark(Verdict::Unknown), record.verdict),
            false => format!("{} {}", mark(record.verdict), record.verdict),
        };
        // A combination has no results of its own.
        let seen = if report.members.is_empty() { ago(record.seen()) } else { "–".into() };
        table.add_row([
            Cell::new(&report.check.name),
            Cell::new(looks_at(report)),
            Cell::new(verdict).fg(table_colour(report.verdict())),
            Cell::new(if record.seen().is_none() && report.members.is_empty() {
                "–".into()
            } else {
                ago(record.since)
            }),
            Cell::new(took(report.latency.map(|(median, _)| median))),
            Cell::new(took(report.latency.map(|(_, most)| most))),
            Cell::new(sparkline(&report.slots, hour_ago, now, BARS)),
            Cell::new(seen),
        ]);
    }
    super::write_table(table, &[3, 4, 5, 7], &[6, 1, 5])?;
    let mut out = super::stdout();
    for report in reports {
        let (name, record) = (&report.check.name, &report.record);
        for (address, track) in &record.tracks {
            let place = if address.is_empty() { String::new() } else { format!(" at {address}") };
            if let Some(why) = &track.impossible {
                let says = format!("{name} cannot be checked{place} from here: {why}");
                writeln!(out, "{} {says}", style::paint(style::FAINT, "·"))?;
                continue;
            }
            let Some(failure) = track.last_failure.as_ref().filter(|_| track.failed > 0) else { continue };
            let colour = if track.verdict == Verdict::Down { style::BAD } else { style::UNDERWAY };
            let since = track.failing_since.map_or(String::new(), |since| format!(" since {}", clock(now, since)));
            let times = count(usize::try_from(track.failed).unwrap_or(usize::MAX), "time");
            let (mark, why) = (style::paint(colour, "✕"), &failure.why);
            writeln!(out, "{mark} {name}{place}: {why}")?;
            writeln!(out, "  {}", style::paint(style::FAINT, format_args!("failed {times} in a row{since}")))?;
        }
    }
    for EndpointHoldReport { endpoint, until, because, .. } in holds {
        let until = until.map_or("until it is released".into(), |until| format!("until {}", clock(now, until)));
        writeln!(out, "{} {endpoint} is held out of answers {until}: {because}", style::paint(style::UNDERWAY, "‖"))?;
    }
    let how_many = |verdict| reports.iter().filter(|report| report.verdict() == verdict).count();
    let stale = reports.iter().filter(|report| report.is_stale).count();
    let (down, unknown) = (how_many(Verdict::Down), how_many(Verdict::Unknown) - stale);
    let rest = [(down, "down"), (unknown, "unknown"), (stale, "stale")];
    let rest: String = rest.iter().filter(|(n, _)| *n > 0).map(|(n, word)| format!(", {n} {word}")).collect();
    let colour = if rest.is_empty() { style::GOOD } else { style::UNDERWAY };
    let up = format!("{} of {} up{rest}", how_many(Verdict::Up), count(reports.len(), "check"));
    let is_watched = reports.iter().any(|report| report.record.seen().is_some());
    let hint = match (is_watched, stale) {
        (false, _) => " Nothing was checked yet: pindrel health run checks once, pindrel keep goes on.",
        (true, 1..) => {
            " No process makes the stale checks: pindrel health run makes them once, pindrel keep continuously."
        }
        (true, 0) => "",
    };
    writeln!(out, "{}.{hint}", style::paint(colour, up))?;
    Ok(())
}

/// Writes checks as they were made just now.
pub(crate) fn print_runs(context: &Context, runs: &[CheckRun]) -> Result<(), CliError> {
    match context.format {
        Format::Json => {
            let rows: Vec<Value> = runs.iter().map(run_json).collect();
            super::json(&json!({ "version": VERSION, "at": Timestamp::now(), "checks": rows }))
        }
        Format::Csv => {
            let number = |of: Option<Duration>| of.map_or(String::new(), |took| millis(took).to_string());
            let rows = runs.iter().flat_map(|run| {
                run.results.iter().map(move |(address, measured)| {
                    let Measured { phases, result } = measured;
                    let (word, says) = result_words(result);
                    let name = run.report.check.name.clone();
                    let phases = [phases.connect, phases.tls, phases.first_byte].map(number);
                    let [connect, tls, first_byte] = phases;
                    [name, address.clone(), word.to_owned(), connect, tls, first_byte, says]
                })
            });
            super::csv(&["name", "address", "result", "connect_ms", "tls_ms", "first_byte_ms", "says"], rows)
        }
        Format::Text => print_runs_text(runs),
    }
}

fn result_words(result: &CheckResult) -> (&'static str, String) {
    match result {
        CheckResult::Passed => ("passed", String::new()),
        CheckResult::Failed(why) => ("failed", why.to_string()),
        CheckResult::Impossible(why) => ("impossible", why.to_string()),
    }
}

fn run_json(run: &CheckRun) -> Value {
    let results: Vec<Value> = run
        .results
        .iter()
        .map(|(address, Measured { phases, result })| {
            let (word, says) = result_words(result);
            let code = match result {
                CheckResult::Failed(why) => Some(why.code()),
                _ => None,
            };
            json!({
                "address": address,
                "result": word,
                "code": code,
                "says": if says.is_empty() { Value::Null } else { says.into() },
                "connect_ms": phases.connect.map(millis),
                "tls_ms": phases.tls.map(millis),
                "first_byte_ms": phases.first_byte.map(millis),
            })
        })
        .collect();
    let mut row = report_json(&run.report);
    row["results"] = results.into();
    row
}

fn print_runs_text(runs: &[CheckRun]) -> Result<(), CliError> {
    let mut out = super::stdout();
    let width = runs.iter().map(|run| run.report.check.name.chars().count()).max().unwrap_or(0);
    let wide = runs.iter().flat_map(|run| &run.results).map(|(address, _)| address.chars().count()).max().unwrap_or(0);
    let mut failed = 0;
    for CheckRun { report, results } in runs {
        let verdict = report.record.verdict;
        let name = &report.check.name;
        let concluded = style::paint(colour(verdict), format_args!("{} {verdict:7}", mark(verdict)));
        if report.check.combination().is_some() {
            writeln!(out, "{concluded}  {name:width$}  {}", style::paint(style::FAINT, looks_at(report)))?;
            continue;
        }
        for (n, (address, measured)) in results.iter().enumerate() {
            let begin = if n == 0 { format!("{concluded}  {name:width$}") } else { format!("{:11}{:width$}", "", "") };
            let (result, parts) = measured_words(report, measured);
            failed += usize::from(matches!(measured.result, CheckResult::Failed(_)));
            writeln!(out, "{begin}  {address:wide$}  {result}  {parts}")?;
            let (_, says) = result_words(&measured.result);
            if !says.is_empty() {
                writeln!(out, "{:11}{:width$}  {says}", "", "")?;
            }
        }
        let track = report.record.tracks.values().max_by_key(|track| track.failed.max(track.passed));
        let thresholds = report.check.terms.thresholds;
        let until = match track.filter(|track| verdict == Verdict::Unknown && track.impossible.is_none()) {
            Some(track) if track.failed > 0 => format!("until {} have failed in a row", thresholds.down_after),
            Some(_) => format!("until {} have passed in a row", thresholds.up_after),
            None => continue,
        };
        writeln!(out, "  {}", style::paint(style::FAINT, format_args!("unknown {until}")))?;
    }
    let made: usize = runs.iter().map(|run| run.results.len()).sum();
    let colour = if failed == 0 { style::GOOD } else { style::BAD };
    let sum = if failed == 0 { "none failed".to_owned() } else { format!("{failed} failed") };
    writeln!(out, "{} made: {}.", count(made, "check"), style::paint(colour, sum))?;
    Ok(())
}

/// What came of a check at one address, and how long its parts took.
fn measured_words(report: &CheckReport, measured: &Measured) -> (String, String) {
    let phases = &measured.phases;
    let first = if report.check.kind() == "program" { "ran" } else { "connect" };
    let parts = [(phases.connect, first), (phases.tls, "TLS"), (phases.first_byte, "first byte")];
    let parts: Vec<String> =
        parts.iter().filter_map(|(took, what)| Some(format!("{what} {}", latency((*took)?)))).collect();
    let (colour, word) = match measured.result {
        CheckResult::Passed => (style::GOOD, "passed"),
        CheckResult::Failed(_) => (style::BAD, "failed"),
        CheckResult::Impossible(_) => (style::FAINT, "not from here"),
    };
    (style::paint(colour, format_args!("{word:13}")), style::paint(style::FAINT, parts.join(", ")))
}

/// Writes what happened to a check.
pub(crate) fn print_history(context: &Context, history: &CheckHistory) -> Result<(), CliError> {
    let CheckHistory { report, incidents, points } = history;
    match context.format {
        Format::Json => {
            let incidents: Vec<Value> = incidents
                .iter()
                .map(|entry| match &entry.what {
                    Incident::Verdict { to } => json!({ "at": entry.at, "is": "verdict", "verdict": to }),
                    Incident::Failure { address, why } => json!({
                        "at": entry.at, "is": "failure", "address": address, "code": why.code(), "says": why.to_string(),
                    }),
                })
                .collect();
            let points: Vec<Value> = points
                .iter()
                .map(|point| {
                    json!({
                        "at": point.begin,
                        "seconds": point.length.as_secs(),
                        "results": point.results,
                        "failed": point.failed,
                        "latency_ms": point.latency.map(|(median, _)| millis(median)),
                        "latency_95_ms": point.latency.map(|(_, most)| millis(most)),
                    })
                })
                .collect();
            let check = report_json(report);
            super::json(&json!({ "version": VERSION, "check": check, "history": incidents, "points": points }))
        }
        Format::Csv => {
            let happened = incidents.iter().map(|entry| {
                let (is, verdict, address, code, says) = match &entry.what {
                    Incident::Verdict { to } => ("verdict", to.as_str(), String::new(), "", String::new()),
                    Incident::Failure { address, why } => ("failure", "", address.clone(), why.code(), why.to_string()),
                };
                let none = String::new;
                let times = [none(), none(), none(), none()];
                let [results, failed, median, most] = times;
                let (is, verdict, code) = (is.to_owned(), verdict.to_owned(), code.to_owned());
                [entry.at.to_string(), is, verdict, address, code, says, results, failed, median, most]
            });
            let measured = points.iter().map(|point| {
                let number = |of: Option<Duration>| of.map_or(String::new(), |took| millis(took).to_string());
                let none = String::new;
                let (results, failed) = (point.results.to_string(), point.failed.to_string());
                let (median, most) =
                    (number(point.latency.map(|(median, _)| median)), number(point.latency.map(|(_, most)| most)));
                let at = point.begin.to_string();
                [at, "results".into(), none(), none(), none(), none(), results, failed, median, most]
            });
            let mut rows: Vec<[String; 10]> = happened.chain(measured).collect();
            rows.sort_by(|left, right| left[0].parse::<Timestamp>().ok().cmp(&right[0].parse().ok()));
            let heads =
                ["at", "is", "verdict", "address", "code", "says", "results", "failed", "latency_ms", "latency_95_ms"];
            super::csv(&heads, rows.into_iter())
        }
        Format::Text => print_history_text(history),
    }
}

fn print_history_text(history: &CheckHistory) -> Result<(), CliError> {
    let mut out = super::stdout();
    let now = Timestamp::now();
    for entry in &history.incidents {
        let time = entry.at.strftime("%F %H:%M:%S");
        match &entry.what {
            Incident::Verdict { to } => {
                let verdict = style::paint(colour(*to), format_args!("{} {to}", mark(*to)));
                writeln!(out, "{time}  {verdict}")?;
            }
            Incident::Failure { address, why } => {
                let place = if address.is_empty() { String::new() } else { format!("{address}: ") };
                writeln!(out, "{time}    {place}{why}")?;
            }
        }
    }
    let (name, record) = (&history.report.check.name, &history.report.record);
    let (results, failed) = history
        .points
        .iter()
        .fold((0_u64, 0_u64), |(all, bad), point| (all + u64::from(point.results), bad + u64::from(point.failed)));
    let verdict = style::paint(colour(record.verdict), record.verdict);
    let since = record.since.map_or(String::new(), |since| format!(" since {}", clock(now, since)));
    let share =
        if results == 0 { String::new() } else { format!(" ({:.2} %)", failed as f64 * 100.0 / results as f64) };
    writeln!(out, "{name} is {verdict}{since}; {failed} of {results} results failed{share}.")?;
    Ok(())
}

/// Writes a number with thin gaps between its thousands.
fn grouped_digits(number: u64) -> String {
    let digits = number.to_string();
    let first = digits.len() % 3;
    let mut text = String::with_capacity(digits.len() * 4 / 3);
    for (n, digit) in digits.chars().enumerate() {
        if n > 0 && n % 3 == first {
            text.push(' ');
        }
        text.push(digit);
    }
    text
}

fn bytes(count: u64) -> String {
    match count as f64 {
        0.0 => "–".into(),
        few @ ..1e6 => format!("{:.0} kB", few / 1e3),
        some @ ..1e9 => format!("{:.0} MB", some / 1e6),
        many => format!("{:.1} GB", many / 1e9),
    }
}

/// Writes what checks cost, and how long users suffer.
pub(crate) fn print_forecast(context: &Context, reports: &[ForecastReport]) -> Result<(), CliError> {
    match context.format {
        Format::Json => {
            let rows: Vec<Value> = reports
                .iter()
                .map(|report| {
                    let ForecastReport { check, endpoint, hostnames, forecast } = report;
                    let warnings: Vec<Value> = forecast
                        .warnings
                        .iter()
                        .map(|warning| json!({ "code": warning.code(), "says": warning.to_string() }))
                        .collect();
                    json!({
                        "name": check.name,
                        "endpoint": endpoint.as_ref().map(|(name, _)| name),
                        "addresses": endpoint.as_ref().map(|(_, addresses)| addresses),
                        "hostnames": hostnames,
                        "requests_per_month": forecast.requests_per_month,
                        "bytes_per_month": forecast.bytes_per_month,
                        "detect_seconds": forecast.detect.as_secs_f64(),
                        "publish_seconds": forecast.publish.as_secs_f64(),
                        "ttl_seconds": forecast.ttl.as_secs(),
                        "users_suffer_seconds": forecast.users_suffer().map(|suffer| suffer.as_secs_f64()),
                        "warnings": warnings,
                    })
                })
                .collect();
            super::json(&json!({ "version": VERSION, "checks": rows }))
        }
        Format::Csv => {
            let rows = reports.iter().map(|report| {
                let ForecastReport { check, endpoint, forecast, .. } = report;
                let warnings: Vec<&str> = forecast.warnings.iter().map(|warning| warning.code()).collect();
                [
                    check.name.clone(),
                    endpoint.as_ref().map_or(String::new(), |(name, _)| name.clone()),
                    forecast.requests_per_month.to_string(),
                    forecast.bytes_per_month.to_string(),
                    forecast.detect.as_secs().to_string(),
                    forecast.ttl.as_secs().to_string(),
                    forecast.users_suffer().map_or(String::new(), |suffer| suffer.as_secs().to_string()),
                    warnings.join(" "),
                ]
            });
            let heads = [
                "name",
                "endpoint",
                "requests_per_month",
                "bytes_per_month",
                "detect_seconds",
                "ttl_seconds",
                "users_suffer_seconds",
                "warnings",
            ];
            super::csv(&heads, rows)
        }
        Format::Text => print_forecast_text(reports),
    }
}

fn print_forecast_text(reports: &[ForecastReport]) -> Result<(), CliError> {
    let heads = ["CHECK", "EVERY", "REQUESTS/MONTH", "DATA", "SEEN", "+ ON SERVERS", "+ TTL", "= USERS SUFFER"];
    let mut table = super::table(&heads);
    let seconds = |span: Duration| if span.is_zero() { "–".into() } else { format!("{} s", span.as_secs()) };
    // A combination makes no requests, and is as slow as what it is made of.
    let looks = |report: &&ForecastReport| report.check.combination().is_none();
    for ForecastReport { check, endpoint, forecast, .. } in reports.iter().filter(looks) {
        let at = match endpoint {
            Some((_, addresses)) if *addresses != 1 => format!(" at {}", count(*addresses, "address")),
            _ => String::new(),
        };
        let if_followed = |text: String| if forecast.is_followed { text } else { "–".to_owned() };
        let suffer = match forecast.users_suffer() {
            Some(most) => format!("≤ {}", seconds(most)),
            None if endpoint.is_some() => "until mended".to_owned(),
            // What it looks at has no users that are known of.
            None => "–".to_owned(),
        };
        table.add_row([
            Cell::new(format!("{}{at}", check.name)),
            Cell::new(seconds(check.terms.every)),
            Cell::new(grouped_digits(forecast.requests_per_month)),
            Cell::new(bytes(forecast.bytes_per_month)),
            Cell::new(format!("≤ {}", seconds(forecast.detect))),
            Cell::new(if_followed(format!("≈ {}", seconds(forecast.publish)))),
            Cell::new(if_followed(seconds(forecast.ttl))),
            Cell::new(suffer),
        ]);
    }
    super::write_table(table, &[1, 2, 3, 4, 5, 6, 7], &[3, 5])?;
    let mut out = super::stdout();
    // What concerns several checks alike is told once.
    let mut warnings: Vec<(String, Vec<&str>)> = Vec::new();
    for ForecastReport { check, forecast, .. } in reports.iter().filter(|report| looks(report)) {
        for warning in forecast.warnings.iter().map(ToString::to_string) {
            match warnings.iter_mut().find(|(says, _)| *says == warning) {
                Some((_, names)) => names.push(&check.name),
                None => warnings.push((warning, vec![&check.name])),
            }
        }
    }
    for (says, names) in warnings {
        writeln!(out, "{} {}: {says}", style::paint(style::UNDERWAY, "!"), names.join(", "))?;
    }
    let all: u64 = reports.iter().filter(looks).map(|report| report.forecast.requests_per_month).sum();
    let data: u64 = reports.iter().map(|report| report.forecast.bytes_per_month).sum();
    let worst = reports
        .iter()
        .filter(looks)
        .filter_map(|report| Some((report.hostnames.first()?, report.forecast.users_suffer()?.as_secs())));
    writeln!(out, "{} requests in 30 days, about {}.", grouped_digits(all), bytes(data))?;
    if let Some((at, suffer)) = worst.max_by_key(|(_, suffer)| *suffer) {
        let says = format!("Users of {at} suffer for at most {suffer} s when an endpoint fails and another one works.");
        writeln!(out, "{says}")?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_written_as_people_read_them() {
        for (micros, expected) in [
            (0, "0.0 ms"),
            (340, "0.3 ms"),
            (9_940, "9.9 ms"),
            (9_960, "10 ms"),
            (999_400, "999 ms"),
            (1_540_000, "1.5 s"),
        ] {
            assert_eq!(latency(Duration::from_micros(micros)), expected);
        }
        for (number, expected) in
            [(0, "0"), (999, "999"), (1_000, "1 000"), (129_600, "129 600"), (6_480_000, "6 480 000")]
        {
            assert_eq!(grouped_digits(number), expected);
        }
        for (number, expected) in [(0, "–"), (99_600, "100 kB"), (777_600_000, "778 MB"), (15_552_000_000, "15.6 GB")]
        {
            assert_eq!(bytes(number), expected);
        }
    }
}
