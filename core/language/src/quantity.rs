//! Paces, lengths of time and sizes, as sentences write them.

use std::fmt::{self, Display, Formatter};

use crate::cursor::{Cursor, Outcome};
use crate::mistake::Mistake;

/// So many in such a time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Pace {
    /// How many, at least 1.
    pub count: u64,
    /// In one of these.
    pub per: TimeUnit,
}

/// A length of time, as written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Time {
    /// How many units, at least 1.
    pub count: u64,
    /// The unit that the number counts.
    pub unit: TimeUnit,
}

/// A unit of time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TimeUnit {
    /// A second.
    Second,
    /// 60 seconds.
    Minute,
    /// 60 minutes.
    Hour,
}

impl TimeUnit {
    /// All of them, shortest first.
    pub const ALL: [TimeUnit; 3] = [TimeUnit::Second, TimeUnit::Minute, TimeUnit::Hour];

    /// The word for one of it.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["second", "minute", "hour"][self as usize]
    }

    /// In milliseconds.
    #[must_use]
    pub fn ms(self) -> i64 {
        [1_000, 60_000, 3_600_000][self as usize]
    }
}

impl Time {
    /// In milliseconds.
    #[must_use]
    pub fn ms(self) -> i64 {
        i64::try_from(self.count).unwrap_or(i64::MAX).saturating_mul(self.unit.ms())
    }
}

/// A size in bytes, as written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Size {
    /// How many units.
    pub count: u64,
    /// The unit that the number counts.
    pub unit: Unit,
}

/// A unit of size.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unit {
    /// Bytes.
    B,
    /// 1 000 bytes.
    KB,
    /// 1 000 000 bytes.
    MB,
    /// 1 000 000 000 bytes.
    GB,
}

impl Unit {
    /// All of them, smallest first.
    pub const ALL: [Unit; 4] = [Unit::B, Unit::KB, Unit::MB, Unit::GB];

    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["B", "KB", "MB", "GB"][self as usize]
    }

    /// How many bytes one of it has.
    #[must_use]
    pub fn bytes(self) -> u64 {
        [1, 1_000, 1_000_000, 1_000_000_000][self as usize]
    }
}

impl Size {
    /// The size in bytes.
    #[must_use]
    pub fn bytes(self) -> u64 {
        self.count.saturating_mul(self.unit.bytes())
    }

    /// Reads a size such as `2 KB`.
    #[must_use]
    pub fn read(text: &str) -> Option<Size> {
        let digits = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
        let count = text[..digits].parse().ok()?;
        let unit = text[digits..].trim();
        let unit = if unit.is_empty() { Unit::B } else { *Unit::ALL.iter().find(|u| u.word().eq_ignore_ascii_case(unit))? };
        Some(Size { count, unit })
    }
}

pub(crate) fn pace(c: &mut Cursor<'_>) -> Outcome<Pace> {
    let count = c.count("how many, as in `100 per second`")?;
    if !c.sign("/") {
        c.need_words("per")?;
    }
    let short = [("s", TimeUnit::Second), ("sec", TimeUnit::Second), ("m", TimeUnit::Minute), ("min", TimeUnit::Minute), ("h", TimeUnit::Hour)];
    if let Some((_, per)) = short.into_iter().find(|(word, _)| c.words(word)) {
        return Ok(Pace { count, per });
    }
    Ok(Pace { count, per: unit(c, "`second`, `minute` or `hour`")? })
}

fn unit(c: &mut Cursor<'_>, expected: &str) -> Outcome<TimeUnit> {
    // Of the two forms the one that is expected here comes first, so that it is what is suggested.
    let words: &[&str] = if expected.contains("seconds") { &["seconds", "minutes", "hours"] } else { &["second", "minute", "hour"] };
    match TimeUnit::ALL.into_iter().find(|u| c.words(u.word()) || c.words(&format!("{}s", u.word()))) {
        Some(unit) => Ok(unit),
        None => c.unexpected(expected, words),
    }
}

/// A length of time, however long.
pub(crate) fn any_time(c: &mut Cursor<'_>) -> Outcome<Time> {
    let count = c.count("a time such as `30 seconds`")?;
    Ok(Time { count, unit: unit(c, "`seconds`, `minutes` or `hours`")? })
}

pub(crate) fn time(c: &mut Cursor<'_>) -> Outcome<Time> {
    /// Longest window: a day.
    const MOST: i64 = 24 * 3_600_000;
    let start = c.at();
    let time = any_time(c)?;
    if time.ms() > MOST { Err(Mistake::new(c.since(start), "longer than a day").expected("at most 24 hours")) } else { Ok(time) }
}

pub(crate) fn size(c: &mut Cursor<'_>) -> Outcome<Size> {
    let count = c.count("a size such as `2 KB`")?;
    let words = Unit::ALL.map(Unit::word);
    match Unit::ALL.into_iter().find(|u| c.words(u.word())) {
        Some(unit) => Ok(Size { count, unit }),
        None => c.unexpected("a unit: `B`, `KB`, `MB` or `GB`", &words),
    }
}

impl Display for Pace {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "{} per {}", self.count, self.per.word())
    }
}

impl Display for Time {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}{}", self.count, self.unit.word(), if self.count == 1 { "" } else { "s" })
    }
}

impl Display for Size {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.count, self.unit.word())
    }
}
