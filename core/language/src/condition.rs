//! Conditions: their trees, and how they are read, printed and explained. Precedence, tightest first: `not`, `and`, `or`.

use std::fmt::{self, Display, Formatter};
use std::net::IpAddr;

use rockrose_event::address::Network;
use rockrose_event::field::{Path, write_quoted};
use rockrose_event::level::Level;

use crate::cursor::{Cursor, Outcome};
use crate::habits;
use crate::list::{listed, write_list};
use crate::literal::Literal;
use crate::mistake::Mistake;
use crate::pattern::Pattern;

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

/// Words that a test begins with.
pub(crate) const TESTS: &[&str] = &["exists", "in", "contains", "starts", "ends", "matches"];
const AFTER_FIELD: &str = "a comparison (`=`, `!=`, `~=`, `<`, `<=`, `>`, `>=`), `in`, `contains`, `starts with`, `ends with`, `matches` or `exists`";

/// Parses a whole text as one condition.
pub fn parse_condition(text: &str) -> Result<Condition, Mistake> {
    whole(text).map_err(|mistake| habits::told(text, mistake, &[], |text| whole(text).ok().map(|condition| condition.to_string())))
}

fn whole(text: &str) -> Result<Condition, Mistake> {
    let mut cursor = Cursor::new(text)?;
    let condition = condition(&mut cursor)?;
    if cursor.done() { Ok(condition) } else { cursor.unexpected("`and`, `or` or the end of the condition", &["and", "or"]) }
}

pub(crate) fn condition(c: &mut Cursor<'_>) -> Outcome<Condition> {
    let mut any = vec![conjunction(c)?];
    while c.words("or") {
        any.push(conjunction(c)?);
    }
    Ok(join(any, |inner| if let Condition::Or(list) = inner { Ok(list) } else { Err(inner) }, Condition::Or))
}

fn conjunction(c: &mut Cursor<'_>) -> Outcome<Condition> {
    let mut all = vec![negation(c)?];
    while c.words("and") {
        all.push(negation(c)?);
    }
    Ok(join(all, |inner| if let Condition::And(list) = inner { Ok(list) } else { Err(inner) }, Condition::And))
}

/// One item stands for itself; of several, nested lists of the same sort are taken in flat.
fn join(mut items: Vec<Condition>, open: fn(Condition) -> Result<Vec<Condition>, Condition>, wrap: fn(Vec<Condition>) -> Condition) -> Condition {
    if items.len() == 1 {
        return items.remove(0);
    }
    let mut flat = Vec::with_capacity(items.len());
    for item in items {
        match open(item) {
            Ok(inner) => flat.extend(inner),
            Err(item) => flat.push(item),
        }
    }
    wrap(flat)
}

fn negation(c: &mut Cursor<'_>) -> Outcome<Condition> {
    if c.words("not") {
        c.deeper()?;
        let inner = negation(c)?;
        c.shallower();
        return Ok(Condition::Not(Box::new(inner)));
    }
    if c.sign("(") {
        c.deeper()?;
        let inner = condition(c)?;
        c.shallower();
        if !c.sign(")") {
            return c.unexpected("`)`, `and` or `or`", &["and", "or"]);
        }
        return Ok(inner);
    }
    for (word, value) in [("true", true), ("false", false)] {
        if c.words(word) {
            return Ok(Condition::Constant(value));
        }
    }
    let path = c.path("a field, `not` or `(`")?;
    let start = c.at();
    if c.words("not") {
        if !TESTS.contains(&c.peek_word()) {
            c.rewind(start);
            return c.unexpected(AFTER_FIELD, TESTS);
        }
        return tested(c, path).map(|test| Condition::Not(Box::new(test)));
    }
    tested(c, path)
}

/// The test of a field, or several of which one must hold.
fn tested(c: &mut Cursor<'_>, path: Path) -> Outcome<Condition> {
    let start = c.at();
    let any = |tests: Vec<Test>| {
        let each = tests.into_iter().map(|test| Condition::Field(path.clone(), test)).collect();
        join(each, Err, Condition::Or)
    };
    if c.words("contains any") {
        if !c.sign("(") {
            return c.unexpected("texts in parentheses, as in `contains any (\"a\", \"b\")`", &[]);
        }
        let texts = c.list(|c| c.quoted("a text in quotes"))?;
        return if c.sign(")") { Ok(any(texts.into_iter().map(Test::Contains).collect())) } else { c.unexpected("`,` or `)`", &[]) };
    }
    if c.words("in") {
        if c.sign("(")
            && let Some(first) = any_network(c)?
        {
            let mut networks = vec![Test::Network(first)];
            while c.sign(",") {
                match any_network(c)? {
                    Some(network) => networks.push(Test::Network(network)),
                    None => return c.unexpected("another network", &[]),
                }
            }
            return if c.sign(")") { Ok(any(networks)) } else { c.unexpected("`,` or `)`", &[]) };
        }
        c.rewind(start);
    }
    let test = test(c, &path)?;
    Ok(Condition::Field(path, test))
}

/// A network, in quotes or not. In quotes, an address alone is a text like any other.
fn any_network(c: &mut Cursor<'_>) -> Outcome<Option<Network>> {
    if !c.rest().starts_with('"') {
        return network(c);
    }
    let start = c.at();
    let text = c.quoted("a network")?;
    if text.contains('/')
        && let Some(found) = Network::read(&text)
    {
        return Ok(Some(found));
    }
    c.rewind(start);
    Ok(None)
}

fn test(c: &mut Cursor<'_>, path: &Path) -> Outcome<Test> {
    const ORDERS: [(&str, Ordering); 4] = [("<=", Ordering::AtMost), (">=", Ordering::AtLeast), ("<", Ordering::Less), (">", Ordering::Greater)];
    if c.sign("==") || c.sign("=") {
        levels_have_a_field(c, path, "=", false)?;
        return value(c, path).map(Test::Equals);
    }
    if c.sign("!=") {
        levels_have_a_field(c, path, "!=", false)?;
        return value(c, path).map(Test::Differs);
    }
    if c.sign("~=") {
        return c.quoted("a text in quotes").map(Test::Alike);
    }
    for (sign, order) in ORDERS {
        if c.sign(sign) {
            levels_have_a_field(c, path, sign, true)?;
            let at = c.here();
            let literal = value(c, path)?;
            if matches!(literal, Literal::Bool(_)) {
                return Err(Mistake::new(at, "`true` and `false` have no order").expected("a number or a text in quotes"));
            }
            return Ok(Test::Order(order, literal));
        }
    }
    if c.words("exists") {
        return Ok(Test::Exists);
    }
    if c.words("contains") {
        return c.quoted("a text in quotes").map(Test::Contains);
    }
    if c.words("starts") {
        c.need_words("with")?;
        return c.quoted("a text in quotes").map(Test::StartsWith);
    }
    if c.words("ends") {
        c.need_words("with")?;
        return c.quoted("a text in quotes").map(Test::EndsWith);
    }
    if c.words("matches") {
        return c.pattern().map(Test::Matches);
    }
    if c.words("in") {
        return within(c, path);
    }
    c.unexpected(AFTER_FIELD, TESTS)
}

/// Names under which senders write a level as a text, in small letters and without what stands between their words.
const LEVEL_NAMES: &[&str] = &["level", "lvl", "loglevel", "levelname", "severitytext", "severityname", "syslogseverity"];

/// A level that is compared under one of its senders' names would be compared as a text, or not at all: only `severity` knows their order.
fn levels_have_a_field(c: &Cursor<'_>, path: &Path, sign: &str, ordered: bool) -> Outcome<()> {
    let name: String = path.segments().concat().chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_ascii_lowercase();
    if path.is_severity() || !LEVEL_NAMES.contains(&name.as_str()) {
        return Ok(());
    }
    let written = c.written();
    let level = Level::read(written.trim_matches('"').as_bytes()).filter(|_| written.contains(|ch: char| ch.is_ascii_alphabetic()));
    match level {
        Some(level) if ordered || !written.starts_with('"') => {
            let message = format!("`{path}` is compared as a text; levels have their order in `severity`");
            Err(Mistake { nearest: Some(format!("severity {sign} {}", level.word())), ..Mistake::new(c.here(), message) })
        }
        _ => Ok(()),
    }
}

fn value(c: &mut Cursor<'_>, path: &Path) -> Outcome<Literal> {
    if let Some(literal) = c.literal() {
        return literal;
    }
    let words = Level::ALL.map(Level::word);
    if path.is_severity() {
        let word = c.peek_word();
        if let Some(level) = Level::read(word.as_bytes()).filter(|_| c.words(word)) {
            return Ok(Literal::Level(level));
        }
        return c.unexpected("a level (`trace`, `debug`, `info`, `warn`, `error`, `fatal`), a number or a text in quotes", &words);
    }
    let written = c.written();
    let mut mistake = match c.unexpected("a number, `true`, `false` or a text in quotes", &[]) {
        Err(mistake) => mistake,
        Ok(never) => return Ok(never),
    };
    if written.starts_with(|ch: char| ch.is_alphabetic()) {
        mistake.nearest = Some(format!("\"{written}\""));
    }
    Err(mistake)
}

fn within(c: &mut Cursor<'_>, path: &Path) -> Outcome<Test> {
    if c.sign("(") {
        let items = c.list(|c| value(c, path))?;
        return if c.sign(")") { Ok(Test::OneOf(items)) } else { c.unexpected("`,` or `)`", &[]) };
    }
    if let Some(network) = any_network(c)? {
        return Ok(Test::Network(network));
    }
    let start = c.at();
    if c.rest().starts_with('"') || c.rest().starts_with(|ch: char| ch.is_ascii_digit() || ch == '-') || path.is_severity() {
        let from = value(c, path)?;
        if !c.sign("..") {
            return c.unexpected("`..` and the end of the range", &[]);
        }
        let to = value(c, path)?;
        let ordered = match (&from, &to) {
            (Literal::Number(a), Literal::Number(b)) => a <= b,
            (Literal::Text(a), Literal::Text(b)) => a <= b,
            (Literal::Level(a), Literal::Level(b)) => a <= b,
            _ => return Err(Mistake::new(start..c.at(), "the two ends of the range are of different sorts")),
        };
        return if ordered { Ok(Test::Range(from, to)) } else { Err(Mistake::new(start..c.at(), "the range is empty: its end lies before its start")) };
    }
    c.unexpected("a range (`500..599`), a list (`(80, 443)`) or a network (`192.0.2.0/24`)", &[])
}

/// An address or a network, if one stands here.
fn network(c: &mut Cursor<'_>) -> Outcome<Option<Network>> {
    let rest = c.rest();
    let len = rest.find(|ch: char| !(ch.is_ascii_hexdigit() || ch == '.' || ch == ':' || ch == '/')).unwrap_or(rest.len());
    let text = &rest[..len];
    let at = c.at()..c.at() + len;
    let (address, prefix) = text.split_once('/').map_or((text, None), |(a, p)| (a, Some(p)));
    let Ok(base) = address.parse::<IpAddr>() else {
        let looks = text.contains('/') || text.bytes().filter(|b| *b == b'.').count() == 3;
        return if looks && !text.contains("..") {
            Err(Mistake::new(at, "not a network").expected("an address and a prefix length, as in `192.0.2.0/24`"))
        } else {
            Ok(None)
        };
    };
    let most = if base.is_ipv4() { 32 } else { 128 };
    let prefix = match prefix {
        None => most,
        Some(p) => match p.parse::<u8>() {
            Ok(p) if p <= most => p,
            _ => return Err(Mistake::new(at, "the prefix length does not fit the address").expected(format!("a number from 0 to {most} after `/`"))),
        },
    };
    c.rewind(at.end);
    c.sign("");
    Ok(Some(Network { base, prefix }))
}

impl Condition {
    /// What it asks, in plain words.
    #[must_use]
    pub fn in_words(&self) -> String {
        match self {
            Condition::Constant(true) => "anything".to_owned(),
            Condition::Constant(false) => "nothing".to_owned(),
            Condition::Or(any) => any.iter().map(Condition::in_parentheses).collect::<Vec<_>>().join(", or "),
            Condition::And(all) => all.iter().map(Condition::in_parentheses).collect::<Vec<_>>().join(", and "),
            Condition::Not(negated) => format!("it is not so that {}", negated.in_parentheses()),
            Condition::Field(path, test) => format!("{path} {}", test.in_words()),
        }
    }

    fn in_parentheses(&self) -> String {
        match self {
            Condition::Or(_) | Condition::And(_) => format!("({})", self.in_words()),
            _ => self.in_words(),
        }
    }

    /// Adds the fields that it asks about, in the order in which they stand there.
    pub fn reads(&self, out: &mut Vec<Path>) {
        match self {
            Condition::Or(parts) | Condition::And(parts) => parts.iter().for_each(|p| p.reads(out)),
            Condition::Not(inner) => inner.reads(out),
            Condition::Field(path, _) => out.push(path.clone()),
            Condition::Constant(_) => {}
        }
    }
}

impl Test {
    fn in_words(&self) -> String {
        match self {
            Test::Exists => "is there".to_owned(),
            Test::Equals(v) => format!("is {v}"),
            Test::Differs(v) => format!("is there and is not {v}"),
            Test::Alike(text) => format!("is `{text}`, case ignored"),
            Test::Order(order, v) => {
                let word = match order {
                    Ordering::Less => "is below",
                    Ordering::AtMost => "is at most",
                    Ordering::Greater => "is above",
                    Ordering::AtLeast => "is at least",
                };
                format!("{word} {v}")
            }
            Test::Range(a, b) => format!("lies from {a} to {b}"),
            Test::OneOf(any) => format!("is one of {}", listed(any)),
            Test::Network(network) => format!("is an address in {network}"),
            Test::Contains(text) => format!("contains `{text}`"),
            Test::StartsWith(text) => format!("starts with `{text}`"),
            Test::EndsWith(text) => format!("ends with `{text}`"),
            Test::Matches(pattern) => format!("matches {pattern}"),
        }
    }
}

impl Display for Condition {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Condition::Or(any) => write_list(f, any, " or "),
            Condition::And(all) => {
                for (i, one) in all.iter().enumerate() {
                    if i > 0 {
                        f.write_str(" and ")?;
                    }
                    if matches!(one, Condition::Or(_)) { write!(f, "({one})")? } else { one.fmt(f)? }
                }
                Ok(())
            }
            Condition::Not(inner) => match **inner {
                Condition::Not(_) | Condition::Constant(_) => write!(f, "not {inner}"),
                _ => write!(f, "not ({inner})"),
            },
            Condition::Field(path, test) => write!(f, "{path} {test}"),
            Condition::Constant(value) => value.fmt(f),
        }
    }
}

impl Display for Test {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        let quoted = |f: &mut Formatter<'_>, words: &str, text: &str| {
            f.write_str(words)?;
            write_quoted(f, text)
        };
        match self {
            Test::Exists => f.write_str("exists"),
            Test::Equals(v) => write!(f, "= {v}"),
            Test::Differs(v) => write!(f, "!= {v}"),
            Test::Alike(text) => quoted(f, "~= ", text),
            Test::Order(order, v) => write!(f, "{order} {v}"),
            Test::Range(from, to) => write!(f, "in {from}..{to}"),
            Test::OneOf(items) => {
                f.write_str("in (")?;
                write_list(f, items, ", ")?;
                f.write_str(")")
            }
            Test::Network(network) => write!(f, "in {network}"),
            Test::Contains(text) => quoted(f, "contains ", text),
            Test::StartsWith(text) => quoted(f, "starts with ", text),
            Test::EndsWith(text) => quoted(f, "ends with ", text),
            Test::Matches(pattern) => write!(f, "matches {pattern}"),
        }
    }
}

impl Display for Ordering {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Ordering::Less => "<",
            Ordering::AtMost => "<=",
            Ordering::Greater => ">",
            Ordering::AtLeast => ">=",
        })
    }
}
