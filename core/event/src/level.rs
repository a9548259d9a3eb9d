//! Severity levels, in their order, and the words that senders write for them.

/// A severity level of the OpenTelemetry Logs Data Model, in its order.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Level {
    /// Severity numbers 1 to 4.
    Trace,
    /// 5 to 8.
    Debug,
    /// 9 to 12.
    Info,
    /// 13 to 16.
    Warn,
    /// 17 to 20.
    Error,
    /// 21 to 24.
    Fatal,
}

impl Level {
    /// All levels, lowest first.
    pub const ALL: [Level; 6] = [Level::Trace, Level::Debug, Level::Info, Level::Warn, Level::Error, Level::Fatal];

    /// The word for it in sentences.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["trace", "debug", "info", "warn", "error", "fatal"][self as usize]
    }

    /// Reads a sender's severity: the usual words in any case, or an OpenTelemetry severity number.
    #[must_use]
    pub fn read(text: &[u8]) -> Option<Level> {
        let is = |words: &[&str]| words.iter().any(|w| w.as_bytes().eq_ignore_ascii_case(text));
        Some(match text.first()?.to_ascii_lowercase() {
            b't' if is(&["trace", "trc"]) => Level::Trace,
            b'd' if is(&["debug", "dbg", "dbug"]) => Level::Debug,
            b'v' if is(&["verbose", "vrb"]) => Level::Debug,
            b'i' if is(&["info", "information", "informational", "inf"]) => Level::Info,
            b'n' if is(&["notice", "note", "ntc"]) => Level::Info,
            b'w' if is(&["warn", "warning", "wrn"]) => Level::Warn,
            b'e' if is(&["error", "err", "eror"]) => Level::Error,
            b's' if is(&["severe"]) => Level::Error,
            b'f' if is(&["finest", "finer"]) => Level::Trace,
            b'f' if is(&["fine"]) => Level::Debug,
            b'c' if is(&["config"]) => Level::Info,
            b'l' if is(&["log"]) => Level::Info,
            b'f' if is(&["fatal", "ftl"]) => Level::Fatal,
            b'c' if is(&["critical", "crit"]) => Level::Fatal,
            b'a' if is(&["alert"]) => Level::Fatal,
            b'p' if is(&["panic"]) => Level::Fatal,
            b'e' if is(&["emergency", "emerg"]) => Level::Fatal,
            b'1'..=b'9' => {
                let number: usize = std::str::from_utf8(text).ok()?.parse().ok()?;
                *Level::ALL.get((number - 1) / 4)?
            }
            _ => return None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn levels_read_what_senders_write() {
        for (text, level) in [
            ("WARNING", Level::Warn),
            ("err", Level::Error),
            ("Notice", Level::Info),
            ("17", Level::Error),
            ("crit", Level::Fatal),
            ("1", Level::Trace),
            ("emerg", Level::Fatal),
            ("TRC", Level::Trace),
            ("DBG", Level::Debug),
            ("FINE", Level::Debug),
            ("FINEST", Level::Trace),
            ("INF", Level::Info),
            ("LOG", Level::Info),
            ("Note", Level::Info),
            ("WRN", Level::Warn),
            ("EROR", Level::Error),
            ("FTL", Level::Fatal),
        ] {
            assert_eq!(Level::read(text.as_bytes()), Some(level), "{text}");
        }
        for text in ["", "0", "25", "loud", "-3", "1.5"] {
            assert_eq!(Level::read(text.as_bytes()), None, "{text}");
        }
    }
}
