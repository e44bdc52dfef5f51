//! Times as people read them: as far from now as they are.

use std::borrow::Cow;

use jiff::Timestamp;

/// The length of a time as sentences hold it: `2026-11-26T08:15:07Z`.
const LENGTH: usize = 20;
const DAY: i64 = 86_400;

/// Writes a span of time in its largest unit: `12 s`, `5 min`, `3 h`, `40 d`.
pub(crate) fn age(seconds: i64) -> String {
    match seconds.max(0) {
        s @ 0..120 => format!("{s} s"),
        s @ 120..7200 => format!("{} min", s / 60),
        s @ 7200..172_800 => format!("{} h", s / 3600),
        s => format!("{} d", s / DAY),
    }
}

/// Writes a time with its distance from now: `08:15 UTC (in 41 min)`, `2026-12-03 08:15 UTC (in 7 d)`.
pub(crate) fn clock(now: Timestamp, at: Timestamp) -> String {
    let away = at.as_second() - now.as_second();
    let form = if away.abs() < DAY { "%H:%M UTC" } else { "%F %H:%M UTC" };
    let written = at.strftime(form);
    if away <= 0 { format!("{written} ({} ago)", age(-away)) } else { format!("{written} (in {})", age(away)) }
}

/// Writes the times in a sentence as [`clock`] does. What stands in double quotes is somebody
/// else's words and stays as it is.
pub(crate) fn for_people(now: Timestamp, text: &str) -> Cow<'_, str> {
    let mut written = String::new();
    let (mut from, mut at, mut quoted) = (0, 0, false);
    let bytes = text.as_bytes();
    while at < bytes.len() {
        quoted ^= bytes[at] == b'"';
        let time = text.get(at..at + LENGTH).filter(|time| !quoted && time.starts_with("20") && time.ends_with('Z'));
        match time.and_then(|time| time.parse().ok()) {
            Some(time) => {
                written.push_str(&text[from..at]);
                written.push_str(&clock(now, time));
                at += LENGTH;
                from = at;
            }
            None => at += 1,
        }
    }
    if from == 0 {
        return text.into();
    }
    written.push_str(&text[from..]);
    written.into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_are_written_in_their_largest_unit() {
        for (seconds, expected) in [
            (-5, "0 s"),
            (119, "119 s"),
            (120, "2 min"),
            (7199, "119 min"),
            (7200, "2 h"),
            (172_799, "47 h"),
            (172_800, "2 d"),
            (i64::MAX, "106751991167300 d"),
        ] {
            assert_eq!(age(seconds), expected);
        }
    }

    #[test]
    fn times_in_sentences_are_told_by_their_distance_and_quotes_are_left_alone() {
        let now: Timestamp = "2026-11-26T08:00:00Z".parse().unwrap();
        for (text, expected) in [
            ("Wait until 2026-11-26T08:41:07Z, or not", "Wait until 08:41 UTC (in 41 min), or not"),
            ("until 2026-12-03T08:15:07Z", "until 2026-12-03 08:15 UTC (in 7 d)"),
            ("2026-11-26T07:59:50Z", "07:59 UTC (10 s ago)"),
            ("requested 2026-11-22T07:59:50Z", "requested 2026-11-22 07:59 UTC (4 d ago)"),
            ("it said: \"after 2026-11-26T08:41:07Z\"", "it said: \"after 2026-11-26T08:41:07Z\""),
            ("2026-99-26T08:41:07Z", "2026-99-26T08:41:07Z"),
            ("ütf 2026-11-26T08:41:07", "ütf 2026-11-26T08:41:07"),
            ("", ""),
        ] {
            assert_eq!(for_people(now, text), expected);
        }
    }
}
