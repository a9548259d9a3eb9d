//! Times as senders write them, read into one writing: RFC 3339 in UTC.

use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::fmt::strtime::BrokenDownTime;
use jiff::tz::TimeZone;

/// How a time is written.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TimeForm {
    /// A format of `%` signs as in C's `strptime`; left out, the usual ways are tried.
    pub format: Option<String>,
    /// The zone of a time that names none (IANA); left out, UTC.
    pub zone: Option<String>,
}

impl std::fmt::Display for TimeForm {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if let Some(format) = &self.format {
            f.write_str(" ")?;
            crate::field::write_quoted(f, format)?;
        }
        if let Some(zone) = &self.zone {
            f.write_str(" in ")?;
            crate::field::write_quoted(f, zone)?;
        }
        Ok(())
    }
}

/// Why times cannot be written and read in a `%` format.
#[derive(Debug, thiserror::Error)]
pub enum FormatError {
    /// Nothing in it stands for a part of a time.
    #[error("it has no `%`")]
    NoConversion,
    /// It has a conversion that is not known, or one that cannot be read back.
    #[error(transparent)]
    Conversion(#[from] jiff::Error),
}

/// Checks that times can be written in a `%` format, and what was written can be read again.
///
/// # Errors
/// What is wrong with the format.
pub fn check_format(format: &str) -> Result<(), FormatError> {
    let sample = Timestamp::UNIX_EPOCH.to_zoned(TimeZone::UTC);
    let written = jiff::fmt::strtime::format(format, &sample)?;
    if !format.contains('%') {
        return Err(FormatError::NoConversion);
    }
    // What is written by it must be read by it, at least as far as the signs go.
    BrokenDownTime::parse(format, &written)?;
    Ok(())
}

/// Whether a zone's name (IANA, or an offset) is known.
pub fn zone_is_known(name: &str) -> bool {
    zone(name).is_some()
}

/// The IANA names of all zones that are known.
pub fn zones() -> Vec<String> {
    jiff::tz::db().available().map(|name| name.as_str().to_owned()).collect()
}

fn zone(name: &str) -> Option<TimeZone> {
    let offset = |hours: &str, minutes: &str, sign: i32| {
        let seconds = sign * (hours.parse::<i32>().ok()? * 3_600 + minutes.parse::<i32>().ok()? * 60);
        jiff::tz::Offset::from_seconds(seconds).ok().map(TimeZone::fixed)
    };
    if let Some(rest) = name.strip_prefix(['+', '-']) {
        let (hours, minutes) = rest.split_once(':')?;
        return offset(hours, minutes, if name.starts_with('-') { -1 } else { 1 });
    }
    TimeZone::get(name).ok()
}

/// Reads times of one form.
#[derive(Clone, Debug)]
pub struct Reader {
    format: Option<String>,
    zone: TimeZone,
}

impl Default for Reader {
    /// A reader of times written in the usual ways, in UTC if they name no zone.
    fn default() -> Reader {
        Reader { format: None, zone: TimeZone::UTC }
    }
}

impl Reader {
    /// A reader of times written in `form`; a zone that is not known counts as UTC.
    #[must_use]
    pub fn new(form: &TimeForm) -> Reader {
        Reader { format: form.format.clone(), zone: form.zone.as_deref().and_then(zone).unwrap_or(TimeZone::UTC) }
    }

    /// The time that `text` is. A writing without a year is of the last twelve months before `now_ms`.
    pub fn read(&self, text: &[u8], now_ms: i64) -> Option<Timestamp> {
        let text = std::str::from_utf8(text).ok()?.trim();
        let Some(format) = &self.format else { return self.usual(text, now_ms) };
        let parts = BrokenDownTime::parse(format, text).ok()?;
        if let Ok(time) = parts.to_timestamp() {
            return Some(time);
        }
        match parts.to_datetime() {
            Ok(at) => self.local(at),
            Err(_) if parts.year().is_none() => self.this_year(parts, now_ms),
            // A date without a time of day is its midnight.
            Err(_) => self.local(parts.to_date().ok()?.at(0, 0, 0, 0)),
        }
    }

    fn local(&self, at: DateTime) -> Option<Timestamp> {
        Some(self.zone.to_zoned(at).ok()?.timestamp())
    }

    fn this_year(&self, mut parts: BrokenDownTime, now_ms: i64) -> Option<Timestamp> {
        let now = Timestamp::from_millisecond(now_ms).ok()?;
        let year = now.to_zoned(self.zone.clone()).year();
        for year in [year, year - 1] {
            parts.set_year(Some(year)).ok()?;
            if let Some(time) = parts.to_datetime().ok().and_then(|at| self.local(at))
                // A day of grace for clocks that are ahead.
                && time.as_millisecond() <= now_ms + 86_400_000
            {
                return Some(time);
            }
        }
        None
    }

    /// The usual ways: RFC 3339 and ISO 8601, seconds to nanoseconds since 1970, RFC 2822, access logs, old syslog.
    fn usual(&self, text: &str, now_ms: i64) -> Option<Timestamp> {
        if !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit() || b == b'.') {
            return since_1970(text);
        }
        if let Ok(time) = text.parse::<Timestamp>() {
            return Some(time);
        }
        if let Ok(at) = text.replacen(',', ".", 1).parse::<DateTime>() {
            return self.local(at);
        }
        if let Some(at) = text.strip_suffix(" UTC").or_else(|| text.strip_suffix(" GMT")).and_then(|t| t.parse::<DateTime>().ok()) {
            return TimeZone::UTC.to_zoned(at).ok().map(|at| at.timestamp());
        }
        if let Some(time) = access_log(text.as_bytes()) {
            return Some(time);
        }
        if let Ok(zoned) = jiff::fmt::rfc2822::parse(text) {
            return Some(zoned.timestamp());
        }
        let parts = BrokenDownTime::parse("%b %e %H:%M:%S%.f", text).ok()?;
        self.this_year(parts, now_ms)
    }
}

/// A count since 1970, in seconds (with decimals), milliseconds, microseconds or nanoseconds, whichever gives a year near ours.
fn since_1970(text: &str) -> Option<Timestamp> {
    if text.contains('.') {
        let seconds: f64 = text.parse().ok()?;
        return Timestamp::from_microsecond((seconds * 1e6).round() as i64).ok();
    }
    let count: i64 = text.parse().ok()?;
    match text.len() {
        0..=11 => Timestamp::from_second(count),
        12..=14 => Timestamp::from_millisecond(count),
        15..=17 => Timestamp::from_microsecond(count),
        _ => Timestamp::from_nanosecond(i128::from(count)),
    }
    .ok()
}

/// The months' short names, behind one another.
pub const MONTHS: &[u8; 36] = b"JanFebMarAprMayJunJulAugSepOctNovDec";

fn two(text: &[u8], at: usize) -> Option<i64> {
    match text.get(at..at + 2)? {
        [a @ b'0'..=b'9', b @ b'0'..=b'9'] => Some(i64::from(a - b'0') * 10 + i64::from(b - b'0')),
        _ => None,
    }
}

/// `23/Nov/2026:10:00:00 +0100`, appended as RFC 3339 in UTC.
pub fn write_access(text: &[u8], out: &mut Vec<u8>) -> Option<()> {
    let parts = access(text)?;
    if parts.offset != 0 || parts.second == 60 {
        write_seconds(parts.seconds(), out);
        return Some(());
    }
    // In UTC already: its digits only change places.
    let mut written = *b"0000-00-00T00:00:00Z";
    for (to, from) in [(0, 7), (2, 9), (8, 0), (11, 12), (14, 15), (17, 18)] {
        written[to..to + 2].copy_from_slice(&text[from..from + 2]);
    }
    written[5] = b'0' + (parts.month / 10) as u8;
    written[6] = b'0' + (parts.month % 10) as u8;
    out.extend_from_slice(&written);
    Some(())
}

/// A time as access logs write it, in its parts; the offset in seconds.
struct Access {
    year: i64,
    month: i64,
    day: i64,
    hour: i64,
    minute: i64,
    second: i64,
    offset: i64,
}

impl Access {
    fn seconds(&self) -> i64 {
        days(self.year, self.month, self.day) * 86_400 + self.hour * 3_600 + self.minute * 60 + self.second.min(59) - self.offset
    }
}

/// Reads the time of an access log, as seconds since 1970.
pub fn access_seconds(text: &[u8]) -> Option<i64> {
    access(text).map(|parts| parts.seconds())
}

fn access(text: &[u8]) -> Option<Access> {
    if text.len() != 26 || text[2] != b'/' || text[6] != b'/' || text[11] != b':' || text[14] != b':' || text[17] != b':' || text[20] != b' ' {
        return None;
    }
    let month = MONTHS.chunks_exact(3).position(|m| m == &text[3..6])? as i64 + 1;
    let (day, year) = (two(text, 0)?, two(text, 7)? * 100 + two(text, 9)?);
    let (hour, minute, second) = (two(text, 12)?, two(text, 15)?, two(text, 18)?);
    let offset = (two(text, 22)? * 60 + two(text, 24)?) * 60 * if text[21] == b'-' { -1 } else { 1 };
    let month_length = [31, if leap(year) { 29 } else { 28 }, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31][month as usize - 1];
    if !matches!(text[21], b'+' | b'-') || day < 1 || day > month_length || hour > 23 || minute > 59 || second > 60 {
        return None;
    }
    Some(Access { year, month, day, hour, minute, second, offset })
}

fn leap(year: i64) -> bool {
    year % 4 == 0 && (year % 100 != 0 || year % 400 == 0)
}

/// Days since 1970 of a date in the Gregorian calendar.
fn days(year: i64, month: i64, day: i64) -> i64 {
    let year = if month <= 2 { year - 1 } else { year };
    let era = year.div_euclid(400);
    let of_era = year - era * 400;
    let of_year = (153 * (if month > 2 { month - 3 } else { month + 9 }) + 2) / 5 + day - 1;
    era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719_468
}

fn access_log(text: &[u8]) -> Option<Timestamp> {
    Timestamp::from_second(access_seconds(text)?).ok()
}

/// Appends a time as RFC 3339 in UTC, with as many decimals as it has.
pub fn write(time: Timestamp, out: &mut Vec<u8>) {
    match u64::try_from(time.as_nanosecond()) {
        Ok(nanos) => write_nanoseconds(nanos, out),
        Err(_) => {
            use std::io::Write;
            let _ = write!(out, "{time}");
        }
    }
}

/// Appends a time in nanoseconds since 1970 as RFC 3339 in UTC, with as many decimals as it has.
pub fn write_nanoseconds(nanos: u64, out: &mut Vec<u8>) {
    write_seconds((nanos / 1_000_000_000) as i64, out);
    let mut rest = nanos % 1_000_000_000;
    if rest > 0 {
        let mut decimals = *b".000000000Z";
        for digit in decimals[1..10].iter_mut().rev() {
            *digit = b'0' + (rest % 10) as u8;
            rest /= 10;
        }
        let len = 10 - decimals[1..10].iter().rev().take_while(|d| **d == b'0').count();
        decimals[len] = b'Z';
        // In place of the `Z`.
        out.pop();
        out.extend_from_slice(&decimals[..=len]);
    }
}

/// Writes a time of whole seconds since 1970, of the years 0 to 9999, as RFC 3339.
pub fn write_seconds(seconds: i64, out: &mut Vec<u8>) {
    let (day, rest) = (seconds.div_euclid(86_400), seconds.rem_euclid(86_400));
    // The reverse of `days`.
    let z = day + 719_468;
    let era = z.div_euclid(146_097);
    let of_era = z - era * 146_097;
    let year_of_era = (of_era - of_era / 1_460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let shifted = (5 * of_year + 2) / 153;
    let (date, month) = (of_year - (153 * shifted + 2) / 5 + 1, if shifted < 10 { shifted + 3 } else { shifted - 9 });
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    let mut text = *b"0000-00-00T00:00:00Z";
    for (at, value) in [(0, year / 100), (2, year % 100), (5, month), (8, date), (11, rest / 3_600), (14, rest / 60 % 60), (17, rest % 60)] {
        text[at] = b'0' + (value / 10) as u8;
        text[at + 1] = b'0' + (value % 10) as u8;
    }
    out.extend_from_slice(&text);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nanoseconds_are_written_as_the_library_writes_them() {
        for nanos in [0, 1, 10, 1_000_000_000, 1_500_000_000, 1_795_430_400_123_456_789, 1_795_430_400_120_000_000, 951_782_399_999_999_999, u64::MAX] {
            let mut out = Vec::new();
            write_nanoseconds(nanos, &mut out);
            assert_eq!(String::from_utf8(out).unwrap(), Timestamp::from_nanosecond(i128::from(nanos)).unwrap().to_string());
        }
    }

    const NOW: i64 = 1_795_428_000_000; // 2026-11-23T10:00:00Z

    fn read(format: Option<&str>, zone: Option<&str>, text: &str) -> Option<String> {
        let form = TimeForm { format: format.map(str::to_owned), zone: zone.map(str::to_owned) };
        Reader::new(&form).read(text.as_bytes(), NOW).map(|t| t.to_string())
    }

    #[test]
    fn the_usual_ways_and_given_ones() {
        for (text, time) in [
            ("2026-11-23T10:00:00.25+01:00", "2026-11-23T09:00:00.25Z"),
            ("2026-11-23 10:00:00,5", "2026-11-23T10:00:00.5Z"),
            ("2026-11-23 10:00:00.5 UTC", "2026-11-23T10:00:00.5Z"),
            ("1795428000", "2026-11-23T10:00:00Z"),
            ("1795428000123", "2026-11-23T10:00:00.123Z"),
            ("1795428000.5", "2026-11-23T10:00:00.5Z"),
            ("23/Nov/2026:11:00:00 +0100", "2026-11-23T10:00:00Z"),
            ("Mon, 23 Nov 2026 10:00:00 +0000", "2026-11-23T10:00:00Z"),
            ("Nov 23 09:59:59", "2026-11-23T09:59:59Z"),
            ("Dec  3 09:00:00", "2025-12-03T09:00:00Z"),
            ("Nov 03 09:00:00.25", "2026-11-03T09:00:00.25Z"),
        ] {
            assert_eq!(read(None, None, text).as_deref(), Some(time), "{text}");
        }
        assert_eq!(read(Some("%d/%b/%Y:%H:%M:%S %z"), None, "23/Nov/2026:11:00:00 +0100").unwrap(), "2026-11-23T10:00:00Z");
        assert_eq!(read(Some("%Y-%m-%d %H:%M"), Some("Europe/Lisbon"), "2026-07-01 10:00").unwrap(), "2026-07-01T09:00:00Z");
        assert_eq!(read(Some("%Y-%m-%d"), Some("+02:00"), "2026-07-01").unwrap(), "2026-06-30T22:00:00Z");
        for none in ["", "soon", "2026-13-01T00:00:00Z", "31/Feb/2026:00:00:00 +0000"] {
            assert_eq!(read(None, None, none), None, "{none}");
        }
        assert!(check_format("%Q%").is_err() && check_format("day").is_err() && check_format("%H:%M").is_ok());
        assert!(zone_is_known("Europe/Lisbon") && zone_is_known("-03:30") && !zone_is_known("Lowmere/Quay"));
    }

    #[test]
    fn own_calendar_agrees_with_the_library() {
        for seconds in (0..200_000).map(|n| n * 123_457 % 4_102_444_800) {
            let mut mine = Vec::new();
            write_seconds(seconds, &mut mine);
            let theirs = Timestamp::from_second(seconds).unwrap();
            assert_eq!(String::from_utf8(mine).unwrap(), theirs.to_string());
            let text = theirs.strftime("%d/%b/%Y:%H:%M:%S +0000").to_string();
            assert_eq!(access_seconds(text.as_bytes()), Some(seconds), "{text}");
            let mut mine = Vec::new();
            write_access(text.as_bytes(), &mut mine).unwrap();
            assert_eq!(String::from_utf8(mine).unwrap(), theirs.to_string());
        }
    }
}
