//! Conditions: their trees, and how they are read, printed and explained. Precedence, tightest first: `not`, `and`, `or`.

use std::fmt::{self, Display, Formatter};
use std::net::IpAddr;

use rockrose_event::address::Network;
use rockrose_event::field::{Path, write_quoted};
use rockrose_event::level::Level;

use crate::budget::{BudgetTest, budget_test};
use crate::cursor::{Cursor, Outcome};
use crate::habits;
use crate::list::{listed, write_list};
use crate::literal::Literal;
use crate::mistake::Mistake;
use crate::pattern::Pattern;
use crate::quantity::{self, Time, Unit};
use crate::value::{self, Value};

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
    /// One test of a value that is worked out from fields. Where one that it needs is missing, the test is false.
    Computed(Value, Test),
    /// So much of a budget is used, whatever the event.
    Budget(BudgetTest),
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
    /// `= field owner`, `> length(name)`: compared with another value of the event, as numbers if both are, else as texts.
    Against(Comparison, Value),
    /// `older than 5 minutes`: a time that lies further back than that when the event arrives.
    OlderThan(Time),
    /// `newer than 5 minutes`: a time that does not lie that far back, or lies ahead.
    NewerThan(Time),
    /// `ahead by 5 minutes`: a time that lies further ahead than that.
    AheadBy(Time),
}

/// A comparison with another value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Comparison {
    /// `=`
    Equals,
    /// `!=`
    Differs,
    /// `<`, `<=`, `>` or `>=`.
    Order(Ordering),
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
pub(crate) const TESTS: &[&str] = &["exists", "in", "contains", "starts", "ends", "matches", "older", "newer", "ahead"];
const AFTER_FIELD: &str =
    "a comparison (`=`, `!=`, `~=`, `<`, `<=`, `>`, `>=`), `in`, `contains`, `starts with`, `ends with`, `matches`, `older than` or `exists`";

/// Parses a whole text as one condition.
pub fn parse_condition(text: &str) -> Result<Condition, Mistake> {
    whole(text).map_err(|mistake| habits::told(text, mistake, &[], |text| whole(text).ok().map(|condition| condition.to_string())))
}

/// Reads a whole text as the path of one field.
///
/// # Errors
/// With what is wrong, and where.
pub fn parse_field(text: &str) -> Result<Path, Mistake> {
    let cursor = &mut Cursor::new(text)?;
    let path = cursor.path("a field")?;
    if cursor.done() { Ok(path) } else { cursor.unexpected("the end of the field's name", &[]) }
}

fn whole(text: &str) -> Result<Condition, Mistake> {
    read_condition(&mut Cursor::new(text)?)
}

/// Reads a whole text as one condition.
pub(crate) fn read_condition(cursor: &mut Cursor<'_>) -> Outcome<Condition> {
    let condition = condition(cursor)?;
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
    if let Some(test) = budget_test(c)? {
        return Ok(Condition::Budget(test));
    }
    let subject = subject(c)?;
    if let Value::Field(path) = &subject {
        c.about(Some(path.clone()));
    }
    let read = negated(c, &subject);
    c.about(None);
    read
}

/// The test of a field, or its contrary.
fn negated(c: &mut Cursor<'_>, subject: &Value) -> Outcome<Condition> {
    let start = c.at();
    if c.words("not") {
        if !TESTS.contains(&c.peek_word()) {
            c.rewind(start);
            return c.unexpected(AFTER_FIELD, TESTS);
        }
        return tested(c, subject).map(|test| Condition::Not(Box::new(test)));
    }
    tested(c, subject)
}

/// What is tested: a field, or what is worked out from fields.
fn subject(c: &mut Cursor<'_>) -> Outcome<Value> {
    let start = c.at();
    if !value::calls(c) {
        let path = c.path("a field, a function such as `lower(…)`, `not` or `(`")?;
        if !value::is_computed(c) {
            return Ok(Value::Field(path));
        }
        c.rewind(start);
    }
    value::value(c)
}

impl Condition {
    fn one(subject: &Value, test: Test) -> Condition {
        match subject {
            Value::Field(path) => Condition::Field(path.clone(), test),
            computed => Condition::Computed(computed.clone(), test),
        }
    }
}

/// The test of a field, or several of which one must hold.
fn tested(c: &mut Cursor<'_>, subject: &Value) -> Outcome<Condition> {
    let start = c.at();
    let any = |tests: Vec<Test>| {
        let each = tests.into_iter().map(|test| Condition::one(subject, test)).collect();
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
    test(c, subject).map(|test| Condition::one(subject, test))
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

fn test(c: &mut Cursor<'_>, subject: &Value) -> Outcome<Test> {
    const ORDERS: [(&str, Ordering); 4] = [("<=", Ordering::AtMost), (">=", Ordering::AtLeast), ("<", Ordering::Less), (">", Ordering::Greater)];
    if c.sign("==") || c.sign("=") {
        levels_have_a_field(c, subject, "=", false)?;
        return match other(c)? {
            Some(other) => Ok(Test::Against(Comparison::Equals, other)),
            None => literal(c, subject).map(Test::Equals),
        };
    }
    if c.sign("!=") {
        levels_have_a_field(c, subject, "!=", false)?;
        return match other(c)? {
            Some(other) => Ok(Test::Against(Comparison::Differs, other)),
            None => literal(c, subject).map(Test::Differs),
        };
    }
    if c.sign("~=") {
        return c.quoted("a text in quotes").map(Test::Alike);
    }
    for (sign, order) in ORDERS {
        if c.sign(sign) {
            levels_have_a_field(c, subject, sign, true)?;
            if let Some(other) = other(c)? {
                return Ok(Test::Against(Comparison::Order(order), other));
            }
            let at = c.here();
            let literal = literal(c, subject)?;
            if matches!(literal, Literal::Bool(_)) {
                return Err(Mistake::new(at, "`true` and `false` have no order").expected("a number or a text in quotes"));
            }
            return Ok(Test::Order(order, literal));
        }
    }
    if matches!(subject, Value::Field(_)) && c.words("exists") {
        return Ok(Test::Exists);
    }
    for (words, test) in [("older than", Test::OlderThan as fn(Time) -> Test), ("newer than", Test::NewerThan), ("ahead by", Test::AheadBy)] {
        if c.words(words) {
            return quantity::any_time(c).map(test);
        }
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
        return within(c, subject);
    }
    c.unexpected(AFTER_FIELD, TESTS)
}

/// Another value of the event that is compared with, if one stands here: `field NAME`, or a function.
fn other(c: &mut Cursor<'_>) -> Outcome<Option<Value>> {
    if value::calls(c) {
        return value::value(c).map(Some);
    }
    Ok(value::named_field(c)?.map(Value::Field))
}

/// Names under which senders write a level as a text, in small letters and without what stands between their words.
const LEVEL_NAMES: &[&str] = &["level", "lvl", "loglevel", "levelname", "severitytext", "severityname", "syslogseverity"];

/// A level that is compared under one of its senders' names would be compared as a text, or not at all: only `severity` knows their order.
fn levels_have_a_field(c: &Cursor<'_>, subject: &Value, sign: &str, ordered: bool) -> Outcome<()> {
    let Value::Field(path) = subject else { return Ok(()) };
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

fn literal(c: &mut Cursor<'_>, subject: &Value) -> Outcome<Literal> {
    if let Some(literal) = c.literal() {
        return match literal? {
            // A size is as many bytes.
            Literal::Number(n) => Ok(Literal::Number(Unit::ALL.into_iter().find(|unit| c.words(unit.word())).map_or(n, |unit| n * unit.bytes() as f64))),
            other => Ok(other),
        };
    }
    let words = Level::ALL.map(Level::word);
    if is_severity(subject) {
        let word = c.peek_word();
        if let Some(level) = Level::read(word.as_bytes()).filter(|_| c.words(word)) {
            return Ok(Literal::Level(level));
        }
        return c.unexpected("a level (`trace`, `debug`, `info`, `warn`, `error`, `fatal`), a number or a text in quotes", &words);
    }
    let written = c.written();
    let mut mistake = match c.unexpected("a text in quotes, a number, `true`, `false`, or another field (`field owner`)", &[]) {
        Err(mistake) => mistake,
        Ok(never) => return Ok(never),
    };
    if written.starts_with(|ch: char| ch.is_alphabetic()) {
        mistake.nearest = Some(format!("\"{written}\""));
    }
    Err(mistake)
}

fn is_severity(subject: &Value) -> bool {
    matches!(subject, Value::Field(path) if path.is_severity())
}

fn within(c: &mut Cursor<'_>, subject: &Value) -> Outcome<Test> {
    if c.sign("(") {
        let items = c.list(|c| literal(c, subject))?;
        return if c.sign(")") { Ok(Test::OneOf(items)) } else { c.unexpected("`,` or `)`", &[]) };
    }
    if let Some(network) = any_network(c)? {
        return Ok(Test::Network(network));
    }
    let start = c.at();
    if c.rest().starts_with('"') || c.rest().starts_with(|ch: char| ch.is_ascii_digit() || ch == '-') || is_severity(subject) {
        let from = literal(c, subject)?;
        if !c.sign("..") {
            return c.unexpected("`..` and the end of the range", &[]);
        }
        let to = literal(c, subject)?;
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
            Condition::Computed(value, test) => format!("{value} {}", test.in_words()),
            Condition::Budget(test) => format!("at least {} % of the budget {} is used", test.percent, test.budget),
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
            Condition::Field(path, test) => {
                out.push(path.clone());
                test.reads(out);
            }
            Condition::Computed(value, test) => {
                value.reads(out);
                test.reads(out);
            }
            Condition::Budget(_) | Condition::Constant(_) => {}
        }
    }

    /// The tests in it of how much of a budget is used.
    #[must_use]
    pub fn budgets(&self) -> Vec<&BudgetTest> {
        match self {
            Condition::Or(parts) | Condition::And(parts) => parts.iter().flat_map(Condition::budgets).collect(),
            Condition::Not(inner) => inner.budgets(),
            Condition::Budget(test) => vec![test],
            Condition::Field(..) | Condition::Computed(..) | Condition::Constant(_) => Vec::new(),
        }
    }
}

impl Ordering {
    fn in_words(self) -> &'static str {
        match self {
            Ordering::Less => "is below",
            Ordering::AtMost => "is at most",
            Ordering::Greater => "is above",
            Ordering::AtLeast => "is at least",
        }
    }
}

impl Test {
    /// Adds the fields that it asks about besides the one that is tested.
    fn reads(&self, out: &mut Vec<Path>) {
        if let Test::Against(_, value) = self {
            value.reads(out);
        }
    }

    fn in_words(&self) -> String {
        match self {
            Test::Exists => "is there".to_owned(),
            Test::Equals(v) => format!("is {v}"),
            Test::Differs(v) => format!("is there and is not {v}"),
            Test::Alike(text) => format!("is `{text}`, case ignored"),
            Test::Order(order, v) => format!("{} {v}", order.in_words()),
            Test::Against(Comparison::Equals, v) => format!("has the same value as {v}"),
            Test::Against(Comparison::Differs, v) => format!("has another value than {v}"),
            Test::Against(Comparison::Order(order), v) => format!("{} the value of {v}", order.in_words()),
            Test::OlderThan(time) => format!("is a time more than {time} before the event's arrival"),
            Test::NewerThan(time) => format!("is a time no more than {time} before the event's arrival, or after it"),
            Test::AheadBy(time) => format!("is a time more than {time} after the event's arrival"),
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
            Condition::Computed(value, test) => write!(f, "{value} {test}"),
            Condition::Budget(test) => test.fmt(f),
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
            Test::Against(comparison, Value::Field(path)) => write!(f, "{comparison} field {path}"),
            Test::Against(comparison, value) => write!(f, "{comparison} {value}"),
            Test::OlderThan(time) => write!(f, "older than {time}"),
            Test::NewerThan(time) => write!(f, "newer than {time}"),
            Test::AheadBy(time) => write!(f, "ahead by {time}"),
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

impl Display for Comparison {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Comparison::Equals => f.write_str("="),
            Comparison::Differs => f.write_str("!="),
            Comparison::Order(order) => order.fmt(f),
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
