//! The trees that sentences parse to.

use rockrose_event::address::Network;
use rockrose_event::field::Path;
use rockrose_event::level::Level;
use rockrose_event::time::TimeForm;

/// A condition on one event.
#[derive(Clone, Debug, PartialEq)]
pub enum Condition {
    /// At least one holds. Two or more members, none of them an `Or`.
    Or(Vec<Condition>),
    /// All hold. Two or more members, none of them an `And`.
    And(Vec<Condition>),
    /// It does not hold.
    Not(Box<Condition>),
    /// One test of one field. Of a missing field every test is false.
    Field(Path, Test),
    /// `true` or `false`, for every event.
    Constant(bool),
}

/// What is asked of a field.
#[derive(Clone, Debug, PartialEq)]
pub enum Test {
    /// It is there, even as `null`.
    Exists,
    /// `=`
    Equals(Literal),
    /// `!=`: it is there and has another value.
    Differs(Literal),
    /// `~=`: the same text, case ignored.
    Alike(String),
    /// `<`, `<=`, `>` or `>=`.
    Order(Ordering, Literal),
    /// `in 500..599`, both ends included.
    Range(Literal, Literal),
    /// `in (80, 443)`
    OneOf(Vec<Literal>),
    /// `in 192.0.2.0/24`
    Network(Network),
    /// `contains "…"`
    Contains(String),
    /// `starts with "…"`
    StartsWith(String),
    /// `ends with "…"`
    EndsWith(String),
    /// `matches /…/`
    Matches(Pattern),
}

/// A comparison by order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ordering {
    /// `<`
    Less,
    /// `<=`
    AtMost,
    /// `>`
    Greater,
    /// `>=`
    AtLeast,
}

/// A value written in a sentence.
#[derive(Clone, Debug, PartialEq)]
pub enum Literal {
    /// `"text"`
    Text(String),
    /// A number; compares with numbers and with numeric strings, as a number.
    Number(f64),
    /// `true` or `false`
    Bool(bool),
    /// A severity word, only beside the `severity` field.
    Level(Level),
}

/// A regular expression as written between slashes. It runs in linear time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pattern {
    /// What stands between the slashes.
    pub source: String,
    /// Written `/…/i`.
    pub ignore_case: bool,
}

/// Most memory one compiled regular expression may take, in bytes.
const PATTERN_SIZE: usize = 2 << 20;

impl Pattern {
    /// Compiles it.
    pub fn compile(&self) -> Result<regex::bytes::Regex, regex::Error> {
        regex::bytes::RegexBuilder::new(&self.source).case_insensitive(self.ignore_case).size_limit(PATTERN_SIZE).build()
    }
}

/// One step: an operation, and the condition under which it touches an event.
#[derive(Clone, Debug, PartialEq)]
pub struct Step {
    /// What is done.
    pub operation: Operation,
    /// Which events it touches; left out, all.
    pub when: Option<Condition>,
}

/// What a step does.
#[derive(Clone, Debug, PartialEq)]
pub enum Operation {
    /// Removes every event that does not meet the condition.
    Keep(Condition),
    /// Removes every event that meets it.
    Drop(Condition),
    /// Removes all but a share, and marks what stays with its weight.
    Sample {
        /// How many stay.
        rate: Rate,
        /// The key: events that agree in it are kept or removed together. Empty: the whole event is the key.
        by: Vec<Path>,
        /// Events that are always kept, unmarked.
        unless: Option<Condition>,
    },
    /// Removes what comes faster than a pace.
    Limit {
        /// How many may pass.
        pace: Pace,
        /// Each value of these has a pace of its own.
        by: Vec<Path>,
        /// Events that always pass and are not counted.
        unless: Option<Condition>,
    },
    /// Masks what must not be seen.
    Redact {
        /// What to look for, each with its mask.
        what: Vec<Redaction>,
        /// Where to look; empty: in all text and numbers of the event.
        fields: Vec<Path>,
    },
    /// Sets tags: attributes by which events are accounted for.
    Tag(Vec<(Path, Value)>),
    /// Sets fields.
    Set(Vec<(Path, Value)>),
    /// Gives fields' values another type.
    Convert(Vec<(Path, Conversion)>),
    /// Removes fields.
    Remove(Vec<Selector>),
    /// Removes all other fields.
    Retain(Vec<Selector>),
    /// Renames fields.
    Rename(Vec<Renaming>),
    /// Reads a field's text and adds what it finds as fields.
    Parse {
        /// The field to read.
        field: Path,
        /// How it may be written; the first that fits is taken. One or more.
        formats: Vec<Format>,
    },
    /// Adds what a table says of a field's value.
    LookUp {
        /// The field whose value is looked up.
        field: Path,
        /// The table's name.
        table: String,
        /// The fields to write, each with the column it takes (the one of its own name if none is given). Empty: every column, by its name.
        outputs: Vec<(Path, Option<String>)>,
    },
    /// Adds where an address is, by a database of places.
    Locate {
        /// The field that holds the address.
        field: Path,
        /// The table's name.
        table: String,
        /// What the added fields' names begin with.
        into: Path,
    },
    /// Adds the name of an address (DNS).
    Resolve {
        /// The field that holds the address.
        field: Path,
        /// The field that the name is written to.
        into: Path,
    },
    /// Makes one event of those that repeat within a time.
    Merge {
        /// How long a window is open.
        within: Time,
        /// What events must agree in.
        by: Vec<Path>,
    },
    /// Keeps one of the copies of an event that come by several ways.
    Dedupe {
        /// What copies agree in; nothing: in all.
        by: Vec<Path>,
        /// For how long a copy is known.
        within: Time,
        /// The source whose copy is kept, if one is.
        prefer: Option<String>,
    },
    /// Makes one event of the lines of a text that was cut into lines.
    Join {
        /// Which lines belong together.
        how: Joining,
        /// Each value of these is a stream of its own.
        by: Vec<Path>,
        /// How long the next line may take.
        within: Time,
    },
    /// Cuts a field's text to a size in bytes of UTF-8.
    Trim {
        /// The field.
        field: Path,
        /// The most that stays, a closing `…` included.
        size: Size,
    },
    /// Counts events in a metric.
    Count {
        /// The metric's name.
        name: String,
        /// Its labels.
        by: Vec<Path>,
    },
    /// Adds a field's value to a metric's histogram.
    Measure {
        /// The field that holds the number.
        field: Path,
        /// The metric's name.
        name: String,
        /// Its labels.
        by: Vec<Path>,
    },
    /// Does all the steps of a recipe.
    Use {
        /// The recipe's name.
        recipe: String,
        /// Its parameters' values, as written.
        arguments: Vec<(String, String)>,
    },
}

/// What share of events a `sample` keeps.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Rate {
    /// `1 in N`, N at least 1.
    OneIn(u64),
    /// `P%`, above 0 and at most 100.
    Percent(f64),
    /// `to N per second`: whatever share comes to about that.
    Target(Pace),
}

impl Rate {
    /// How many events one kept event stands for; nothing where that depends on how many come.
    #[must_use]
    pub fn weight(self) -> Option<f64> {
        match self {
            Rate::OneIn(n) => Some(n as f64),
            Rate::Percent(p) => Some(100.0 / p),
            Rate::Target(_) => None,
        }
    }
}

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
    /// Of what.
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

/// Which lines `join lines` takes for one event.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Joining {
    /// `starting with /…/`: a line that matches begins an event; all others belong to the one before.
    Starting(Pattern),
    /// `continued by /…/`: a line that matches is continued by the next.
    Continued(Pattern),
    /// `going on with /…/`: a line that matches belongs to the one before.
    Going(Pattern),
    /// `indented`: a line that begins with white space belongs to the one before.
    Indented,
    /// `without a time`: a line that does not tell its time near its beginning belongs to the one before.
    Timeless,
}

/// The type `convert` gives a value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Conversion {
    /// A whole number.
    Integer,
    /// A number.
    Number,
    /// `true` or `false`.
    Boolean,
    /// A text.
    Text,
    /// A time, written as RFC 3339 in UTC.
    Time(TimeForm),
}

/// One renaming.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Renaming {
    /// `a to b`
    Field(Path, Path),
    /// `old_* to new_*`: with as many stars on both sides.
    Like(String, String),
}

/// One thing to redact and how it is masked.
#[derive(Clone, Debug, PartialEq)]
pub struct Redaction {
    /// What is looked for.
    pub what: What,
    /// What stands there afterwards.
    pub mask: Mask,
}

/// What a redaction looks for.
#[derive(Clone, Debug, PartialEq)]
pub enum What {
    /// A built-in detector.
    Detector(Detector),
    /// Whatever a regular expression finds; its groups, where it has any.
    Pattern(Pattern),
    /// The whole value of a field.
    Field(Path),
}

/// A built-in detector of personal data or secrets.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Detector {
    /// E-mail addresses (RFC 5322 dot-atoms, with a domain of two labels or more).
    Email,
    /// Payment card numbers: 13 to 19 digits, alone or in groups, that pass the Luhn check (ISO/IEC 7812-1).
    Card,
    /// International bank account numbers, with their check digits (ISO 13616).
    Iban,
    /// Telephone numbers in the international and common national writings.
    Phone,
    /// National identity numbers written in groups of three, two and four digits.
    NationalId,
    /// IPv4 addresses.
    Ipv4,
    /// IPv6 addresses.
    Ipv6,
    /// Hardware addresses of six bytes.
    Mac,
    /// Bearer tokens, JSON web tokens, API keys in their known forms, and what stands behind words such as `api_key=`.
    Secret,
    /// The password of a name and password in a URL.
    UrlPassword,
    /// Private keys in PEM.
    PrivateKey,
}

impl Detector {
    /// All of them.
    pub const ALL: [Detector; 11] = [
        Detector::Email,
        Detector::Card,
        Detector::Iban,
        Detector::Phone,
        Detector::NationalId,
        Detector::Ipv4,
        Detector::Ipv6,
        Detector::Mac,
        Detector::Secret,
        Detector::UrlPassword,
        Detector::PrivateKey,
    ];

    /// The word for it in sentences.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["email", "card", "iban", "phone", "national_id", "ipv4", "ipv6", "mac", "secret", "url_password", "private_key"][self as usize]
    }
}

/// What stands in place of a redacted value.
#[derive(Clone, Debug, PartialEq)]
pub enum Mask {
    /// `***`
    Stars,
    /// `***` and the last N characters; separators do not count and do not stay.
    KeepLast(usize),
    /// The first N characters and `***`; separators do not count and do not stay.
    KeepFirst(usize),
    /// A given text.
    With(String),
    /// A keyed hash, so that equal values stay joinable.
    Hash,
}

/// A value that a step writes. Where a field that it needs is missing, nothing is written.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// As written.
    Literal(Literal),
    /// A copy of a field.
    Field(Path),
    /// Two numbers, computed.
    Computed(Box<Value>, Arithmetic, Box<Value>),
    /// A function of values.
    Call(Function, Vec<Value>),
}

/// An operation on two numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Arithmetic {
    /// `+`
    Plus,
    /// `-`
    Minus,
    /// `*`
    Times,
    /// `/`; by zero, nothing is written.
    Over,
}

/// A function in a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Function {
    /// `join(a, " ", b)`: the texts behind one another.
    Join,
    /// `lower(a)`
    Lower,
    /// `upper(a)`
    Upper,
    /// `replace(a, "x", "y")`: every `x` in the text by `y`.
    Replace,
    /// `part(a, 1, 4)`: so many characters from the given one on, counted from 1; to the end if no number is given. A negative place counts from the end.
    Part,
    /// `first_of(a, b, "none")`: the first that is there.
    FirstOf,
    /// `length(a)`: of a text, in characters.
    Length,
    /// `round(a, 2)`: to so many decimals; to a whole number if none are given.
    Round,
}

impl Function {
    /// All of them.
    pub const ALL: [Function; 8] =
        [Function::Join, Function::Lower, Function::Upper, Function::Replace, Function::Part, Function::FirstOf, Function::Length, Function::Round];

    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["join", "lower", "upper", "replace", "part", "first_of", "length", "round"][self as usize]
    }

    /// Fewest and most values it takes.
    #[must_use]
    pub fn takes(self) -> (usize, usize) {
        [(1, 64), (1, 1), (1, 1), (3, 3), (2, 3), (1, 64), (1, 1), (1, 2)][self as usize]
    }
}

/// Fields chosen by path, or by what their name is like.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Selector {
    /// One field.
    Field(Path),
    /// All whose whole name (`outer.inner`) is like this; a `*` stands for any characters, or none.
    Like(String),
}

/// How a text is written that `parse` reads.
#[derive(Clone, Debug, PartialEq)]
pub enum Format {
    /// A JSON object.
    Json,
    /// `key=value` pairs, values quoted where they have spaces.
    KeyValue,
    /// Values separated by commas (RFC 4180), under these names.
    Csv(Vec<Path>),
    /// The access log of web servers, common or combined.
    AccessLog,
    /// A syslog message, RFC 5424 or RFC 3164.
    Syslog,
    /// A W3C extended log's values, under these names.
    W3cLog(Vec<Path>),
    /// A line as container runtimes write it: time, stream and a mark before the text, or a JSON object around it.
    ContainerLog,
    /// A line of an application that tells a time and mostly a level, in whatever order and writing.
    TimedLine,
    /// An XML element: its attributes, and the texts of the elements right inside it.
    Xml,
    /// A line template: `"{client:ip} took {ms:integer} ms"`.
    Template(Template),
    /// A regular expression with named groups.
    Pattern(Pattern),
}

/// A line template, in parts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Template {
    /// Literal text and places in turn.
    pub parts: Vec<Part>,
}

/// A part of a line template.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Part {
    /// Text that must stand there.
    Text(String),
    /// A value that is read into a field; into none, where no field is given.
    Field(Option<Path>, Place),
}

/// What a template's place accepts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// Everything up to the text that follows, at least one character.
    Text,
    /// Characters other than white space.
    Word,
    /// A whole number.
    Integer,
    /// A number.
    Number,
    /// An IPv4 or IPv6 address.
    Ip,
    /// All that is left, be it nothing. Only at the end.
    Rest,
    /// A time.
    Time(TimeForm),
}

impl Place {
    /// The words for them in templates.
    pub const WORDS: [&str; 7] = ["text", "word", "integer", "number", "ip", "rest", "time"];

    /// The word for it in templates.
    #[must_use]
    pub fn word(&self) -> &'static str {
        match self {
            Place::Text => "text",
            Place::Word => "word",
            Place::Integer => "integer",
            Place::Number => "number",
            Place::Ip => "ip",
            Place::Rest => "rest",
            Place::Time(_) => "time",
        }
    }
}

/// A size in bytes, as written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Size {
    /// How many units.
    pub count: u64,
    /// Of what.
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
}

impl Size {
    /// The size in bytes.
    #[must_use]
    pub fn bytes(self) -> u64 {
        self.count.saturating_mul([1, 1_000, 1_000_000, 1_000_000_000][self.unit as usize])
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
