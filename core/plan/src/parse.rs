//! First stage: the document's shape. Which tables there are, which keys they have, of which sort their values are.

use std::ops::Range;

use rockrose_language::{Mistake, Place, nearest};
use rockrose_ledger::{Money, Price};
use toml::Spanned;
use toml::de::{DeString, DeTable, DeValue};

use super::keys::{ALERT, ASSIGNMENT, BUDGET, EXAMPLE, Key, RECIPE, ROUTE, Shape, TABLE, TOP};
use super::report::Report;
use super::section::{At, HeaderValue, Raw, Section};
use super::{MAX_PLAN, destinations, sources};

/// A document that has the shape of a plan.
#[derive(Clone, Debug)]
pub struct ParsedPlan {
    pub(super) text: String,
    pub(super) account_by: Vec<At<String>>,
    pub(super) sources: Vec<Section>,
    pub(super) destinations: Vec<Section>,
    pub(super) routes: Vec<Section>,
    pub(super) recipes: Vec<Section>,
    pub(super) tables: Vec<Section>,
    pub(super) alerts: Vec<Section>,
    pub(super) budgets: Vec<Section>,
    pub(super) collects: Vec<Section>,
    pub(super) assignments: Vec<Section>,
    pub(super) examples: Vec<Section>,
    /// What is wrong with its shape.
    pub(super) mistakes: Vec<Mistake>,
}

pub(super) fn reports(text: &str, mut mistakes: Vec<Mistake>) -> Vec<Report> {
    mistakes.sort_by_key(|m| m.at.start);
    mistakes.dedup();
    mistakes.iter().map(|m| Report::new(text, m)).collect()
}

/// What keeps a text from being TOML. A section that stands twice is one mistake, however many keys it has.
fn not_toml(text: &str, errors: &[toml::de::Error]) -> Vec<Mistake> {
    let mut mistakes = Vec::new();
    // Where a section that stands twice goes on.
    let mut twice = 0..0;
    for error in errors {
        let at = error.span().unwrap_or(0..0);
        let begin = text[..at.start.min(text.len())].rfind('\n').map_or(0, |n| n + 1);
        let line = text[begin..].lines().next().unwrap_or_default().trim();
        let is_duplicate = error.message().contains("duplicate key");
        if is_duplicate && twice.contains(&at.start) {
            continue;
        }
        if is_duplicate && line.starts_with('[') {
            let header = line.split(']').next().unwrap_or_default().trim_start_matches('[');
            let end = text[at.end..].find("\n[").map_or(text.len(), |n| at.end + n);
            twice = at.start..end;
            mistakes.push(Mistake::new(at, format!("the section `[{header}]` stands twice")).expected("one section with all its keys, or another name"));
            continue;
        }
        let mistake = Mistake::new(at.clone(), format!("this is not TOML: {}", error.message().replace('\n', "; ")));
        // A backslash, as of a regular expression, in a text that reads them as its own.
        let start = at.start.min(text.len());
        let escapes = text[begin..start].ends_with('\\') || text[start..].starts_with('\\');
        mistakes.push(if escapes && line.contains('"') {
            mistake.expected("`\\\\` for each backslash in a text in double quotes, or the text in single quotes: `\"\\\\d\"` or `'\\d'`")
        } else {
            mistake
        });
    }
    mistakes
}

impl ParsedPlan {
    /// Reads a plan. Mistakes of shape are kept, to be told together with what the check finds.
    ///
    /// # Errors
    /// If the text is too long, or no TOML.
    pub fn parse(text: &str) -> Result<ParsedPlan, Vec<Report>> {
        if text.len() > MAX_PLAN {
            return Err(vec![Report::new("", &Mistake::new(0..0, "the plan is larger than 4 MiB"))]);
        }
        let (document, errors) = DeTable::parse_recoverable(text);
        if !errors.is_empty() {
            return Err(reports(text, not_toml(text, &errors)));
        }
        let mut plan = ParsedPlan {
            text: text.to_owned(),
            account_by: Vec::new(),
            sources: Vec::new(),
            destinations: Vec::new(),
            routes: Vec::new(),
            recipes: Vec::new(),
            tables: Vec::new(),
            alerts: Vec::new(),
            budgets: Vec::new(),
            collects: Vec::new(),
            assignments: Vec::new(),
            examples: Vec::new(),
            mistakes: Vec::new(),
        };
        let mut mistakes = Vec::new();
        for (key, value) in in_order(document.get_ref()) {
            let name: &str = key.get_ref();
            let known = TOP.iter().map(|(word, _)| *word).find(|word| *word == name);
            if known.is_none() {
                let mistake = Mistake::new(key.span(), format!("a plan has no `{name}`"))
                    .expected("`[source.NAME]`, `[destination.NAME]`, `[[route]]`, `[recipe.NAME]`, `[table.NAME]`, `[alert.NAME]`, `[budget.NAME]`, `[collect.NAME]`, `[assignment.NAME]`, `[[example]]` or `account_by`");
                mistakes.push(mistake.near(name, TOP.iter().map(|(word, _)| *word)));
            }
            // What is nearly one is read as that one, so that what refers to it is no further mistake.
            match known.or_else(|| nearest(name, TOP.iter().map(|(word, _)| *word))).unwrap_or_default() {
                "account_by" => match raw(Shape::Texts, value) {
                    Ok(Raw::Texts(fields)) => plan.account_by = fields,
                    Ok(_) => {}
                    Err(mistake) => mistakes.push(mistake),
                },
                "source" => plan.sources.extend(named(value, sources::source_keys(), "source", &mut mistakes)),
                "destination" => plan.destinations.extend(named(value, destinations::destination_keys(), "destination", &mut mistakes)),
                "recipe" => plan.recipes.extend(named(value, RECIPE, "recipe", &mut mistakes)),
                "table" => plan.tables.extend(named(value, TABLE, "table", &mut mistakes)),
                "alert" => plan.alerts.extend(named(value, ALERT, "alert", &mut mistakes)),
                "budget" => plan.budgets.extend(named(value, BUDGET, "budget", &mut mistakes)),
                "collect" => plan.collects.extend(named(value, sources::source_keys(), "collect", &mut mistakes)),
                "assignment" => plan.assignments.extend(named(value, ASSIGNMENT, "assignment", &mut mistakes)),
                "route" => plan.routes.extend(unnamed(value, ROUTE, "route", &mut mistakes)),
                "example" => plan.examples.extend(unnamed(value, EXAMPLE, "example", &mut mistakes)),
                _ => {}
            }
        }
        plan.mistakes = mistakes;
        Ok(plan)
    }

    /// What a place is called, its name, and the names that the plan has of that sort; nothing of the remainder.
    pub(super) fn names_of<'p>(&'p self, place: &'p Place) -> Option<(&'static str, &'p str, Vec<&'p str>)> {
        let named = |sections: &'p [Section]| sections.iter().map(|s| s.name.value.as_str()).collect();
        match place {
            Place::Source(name) => Some(("source", name, named(&self.sources))),
            Place::Route(name) => Some(("route", name, self.routes.iter().filter_map(|r| r.text("name")).map(|name| name.value).collect())),
            Place::Destination(name) => Some(("destination", name, named(&self.destinations))),
            Place::Remainder => None,
        }
    }

    /// The document as it was written.
    #[must_use]
    pub fn text(&self) -> &str {
        &self.text
    }
}

fn in_order<'a, 'i>(table: &'a DeTable<'i>) -> Vec<(&'a Spanned<DeString<'i>>, &'a Spanned<DeValue<'i>>)> {
    let mut entries: Vec<_> = table.iter().collect();
    entries.sort_by_key(|(key, _)| key.span().start);
    entries
}

fn sort_of(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a text",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a number",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a time",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

fn wrong(value: &Spanned<DeValue<'_>>, expected: &str) -> Mistake {
    Mistake::new(value.span(), format!("unexpected {}", sort_of(value.get_ref()))).expected(expected)
}

fn with_article(what: &str) -> String {
    format!("{} {what}", if what.starts_with(['a', 'e']) { "an" } else { "a" })
}

fn named(value: &Spanned<DeValue<'_>>, keys: &'static [Key], what: &str, mistakes: &mut Vec<Mistake>) -> Vec<Section> {
    let Some(table) = value.get_ref().as_table() else {
        mistakes.push(wrong(value, &format!("`[{what}.NAME]`")));
        return Vec::new();
    };
    let mut sections = Vec::new();
    for (key, value) in in_order(table) {
        match value.get_ref().as_table() {
            Some(inner) => {
                let name = At { value: key.get_ref().to_string(), at: key.span() };
                let before = mistakes.len();
                let entries = entries(inner, keys, &with_article(what), mistakes);
                sections.push(Section { entries, name, flawed: mistakes.len() > before });
            }
            None => mistakes.push(wrong(value, &format!("a table: write `[{what}.{}]`", key.get_ref()))),
        }
    }
    sections
}

fn unnamed(value: &Spanned<DeValue<'_>>, keys: &'static [Key], what: &str, mistakes: &mut Vec<Mistake>) -> Vec<Section> {
    let Some(list) = value.get_ref().as_array() else {
        mistakes.push(wrong(value, &format!("a list of tables: write `[[{what}]]`")));
        return Vec::new();
    };
    let mut sections = Vec::new();
    for item in list.iter() {
        match item.get_ref().as_table() {
            Some(inner) => {
                let name = At { value: String::new(), at: item.span() };
                let before = mistakes.len();
                let entries = entries(inner, keys, &with_article(what), mistakes);
                sections.push(Section { entries, name, flawed: mistakes.len() > before });
            }
            None => mistakes.push(wrong(item, &format!("a table: write `[[{what}]]`"))),
        }
    }
    sections
}

fn entries(table: &DeTable<'_>, keys: &'static [Key], what: &str, mistakes: &mut Vec<Mistake>) -> Vec<(&'static Key, At<Raw>)> {
    let mut found = Vec::new();
    let kind = table.iter().find(|(key, _)| key.get_ref().as_ref() == "kind").and_then(|(_, value)| value.get_ref().as_str()).unwrap_or_default();
    for (key, value) in in_order(table) {
        let name: &str = key.get_ref();
        let Some(known) = keys.iter().find(|k| k.name == name) else {
            let of = if kind.is_empty() { what.to_owned() } else { format!("{what} of kind `{kind}`") };
            mistakes
                .push(no_such_key(name, format!("{of} has no `{name}`"), keys, kind, key.span(), |key| table.iter().any(|(k, _)| k.get_ref().as_ref() == key)));
            continue;
        };
        match raw(known.shape, value) {
            Ok(raw) => found.push((known, At { value: raw, at: value.span() })),
            // A key of another kind is wrong as such, whatever its value.
            Err(_) if !known.is_of(kind) => mistakes.push(of_another_kind(known, keys, what, kind, key.span())),
            Err(mistake) => mistakes.push(mistake),
        }
    }
    found
}

/// Keys as others call them, and ours.
const MEANT: &[(&[&str], &str)] = &[
    (&["url", "urls", "uri", "host", "hosts", "server", "servers", "addresses", "address"], "endpoints"),
    (&["address", "bind", "addr", "port", "listen_on", "host"], "listen"),
    (&["url", "uri", "host", "server", "endpoints", "endpoint", "target"], "address"),
    (&["url", "uri", "endpoints"], "endpoint"),
    (&["file", "filename", "output"], "path"),
    (&["file", "files", "path", "include", "glob"], "paths"),
    (&["type"], "kind"),
    (&["condition", "if", "filter", "where", "match"], "when"),
    (&["steps", "actions", "then", "transforms", "process"], "do"),
    (&["destination", "destinations", "outputs", "output", "sinks"], "to"),
    (&["source", "sources", "inputs", "input"], "from"),
    (&["auth", "api_key", "bearer"], "token"),
    (&["cert", "tls_cert", "certificate_file"], "certificate"),
];

/// A key that is none of a section's: what it may have, the keys that it still needs first, and which was meant, if that is known.
fn no_such_key(name: &str, message: String, keys: &'static [Key], kind: &str, at: Range<usize>, given: impl Fn(&str) -> bool) -> Mistake {
    let missing = |key: &&Key| key.needed && !given(key.name);
    let mine = || keys.iter().filter(|k| k.is_of(kind));
    let all: Vec<_> = mine().filter(missing).chain(mine().filter(|key| !missing(key))).map(|k| format!("`{}`", k.name)).collect();
    if name == "account_by" {
        return Mistake::new(at, message).expected("`account_by` above the first section of the plan: it is of all of them");
    }
    let mistake = Mistake::new(at, message).expected(format!("one of {}", all.join(", "))).near(name, mine().map(|k| k.name));
    let meant =
        || MEANT.iter().filter(|(written, _)| written.contains(&name)).map(|(_, ours)| *ours).find(|ours| mine().any(|k| k.name == *ours) && !given(ours));
    let nearest = mistake.nearest.clone().or_else(|| meant().map(str::to_owned));
    Mistake { nearest, ..mistake }
}

/// A key that sections of other kinds have.
pub(super) fn of_another_kind(key: &Key, keys: &'static [Key], what: &str, kind: &str, at: Range<usize>) -> Mistake {
    let mine = || keys.iter().filter(|k| k.is_of(kind)).map(|k| k.name);
    let all: Vec<_> = mine().map(|name| format!("`{name}`")).collect();
    Mistake::new(at, format!("{what} of kind `{kind}` has no `{}`", key.name)).expected(format!("one of {}", all.join(", "))).near(key.name, mine())
}

fn raw(shape: Shape, value: &Spanned<DeValue<'_>>) -> Result<Raw, Mistake> {
    let inner = value.get_ref();
    let text = |expected: &str| inner.as_str().map(|s| Raw::Text(s.to_owned())).ok_or_else(|| wrong(value, expected));
    match shape {
        Shape::Text => text("a text in quotes"),
        Shape::Word(words) => text(&format!("one of {}", words.iter().map(|w| format!("\"{w}\"")).collect::<Vec<_>>().join(", "))),
        Shape::Address => text("an address and a port, as in \"127.0.0.1:8610\""),
        Shape::Facts => text("a condition in quotes"),
        Shape::Watched => text("what is watched, in quotes, as in \"ledger out of balance\""),
        Shape::Allowance => text("what is allowed, in quotes, as in \"40 GB a day at destination:desk\""),
        Shape::Gate => text("a condition in quotes, or \"remainder\""),
        Shape::Size => text("a size, as in \"2 MB\""),
        Shape::Promise => text("a time and a share, as in \"30 seconds for 99 %\""),
        Shape::Duration => text("a time, as in \"30 seconds\""),
        Shape::Texts | Shape::Steps | Shape::Shares => {
            let expected = match shape {
                Shape::Steps => "a list of steps in quotes",
                Shape::Shares => "a list such as [\"80 %\", \"100 %\", \"forecast\"]",
                _ => "a list of texts in quotes",
            };
            let list = inner.as_array().ok_or_else(|| wrong(value, expected))?;
            let items = list.iter().map(|item| match item.get_ref().as_str() {
                Some(s) => Ok(At { value: s.to_owned(), at: item.span() }),
                None => Err(wrong(item, "a text in quotes")),
            });
            items.collect::<Result<_, _>>().map(Raw::Texts)
        }
        Shape::Count => {
            let number = inner.as_integer().and_then(|i| u64::from_str_radix(i.as_str(), i.radix()).ok());
            number.filter(|n| *n >= 1).map(Raw::Count).ok_or_else(|| wrong(value, "a whole number of at least 1"))
        }
        Shape::Truth => inner.as_bool().map(Raw::Truth).ok_or_else(|| wrong(value, "`true` or `false`")),
        Shape::Secret => secret(value).map(Raw::Secret),
        Shape::Headers => {
            let table = inner.as_table().ok_or_else(|| wrong(value, "headers: `{ x-team = \"quays\", x-key = { secret = \"name\" } }`"))?;
            let one = |(key, value): (&Spanned<DeString<'_>>, &Spanned<DeValue<'_>>)| {
                let name = At { value: key.get_ref().as_ref().to_owned(), at: key.span() };
                if let Some(text) = value.get_ref().as_str() {
                    return Ok((name, HeaderValue::Text(At { value: text.to_owned(), at: value.span() })));
                }
                secret(value).map(|secret| (name, HeaderValue::Secret(secret)))
            };
            in_order(table).into_iter().map(one).collect::<Result<_, _>>().map(Raw::Headers)
        }
        Shape::Price => price(value),
        Shape::Expectations => {
            let table = inner.as_table().ok_or_else(|| wrong(value, "destinations: `{ desk = \"severity = warn\", vault = \"removed\" }`"))?;
            let one = |(key, value): (&Spanned<DeString<'_>>, &Spanned<DeValue<'_>>)| {
                let name = At { value: key.get_ref().as_ref().to_owned(), at: key.span() };
                let text = value.get_ref().as_str().ok_or_else(|| wrong(value, "a condition in quotes, \"removed\" or \"not sent\""))?;
                Ok((name, At { value: text.to_owned(), at: value.span() }))
            };
            in_order(table).into_iter().map(one).collect::<Result<_, _>>().map(Raw::Expectations)
        }
    }
}

/// A reference to a kept secret: its name.
fn secret(value: &Spanned<DeValue<'_>>) -> Result<At<String>, Mistake> {
    const EXPECTED: &str = "a reference to a kept secret: `{ secret = \"name\" }`";
    let table = value.get_ref().as_table().ok_or_else(|| match value.get_ref() {
        DeValue::String(_) => Mistake::new(value.span(), "a secret never stands in a plan").expected(EXPECTED),
        _ => wrong(value, EXPECTED),
    })?;
    let mut name = None;
    for (key, value) in in_order(table) {
        match (key.get_ref().as_ref(), value.get_ref().as_str()) {
            ("secret", Some(s)) => name = Some(At { value: s.to_owned(), at: value.span() }),
            ("secret", None) => return Err(wrong(value, "the secret's name in quotes")),
            (other, _) => return Err(Mistake::new(key.span(), format!("there is no `{other}` here")).expected(EXPECTED).near(other, ["secret"])),
        }
    }
    name.ok_or_else(|| Mistake::new(value.span(), "the secret's name is missing").expected(EXPECTED))
}

/// What a destination's operator bills, and in which currency.
fn price(value: &Spanned<DeValue<'_>>) -> Result<Raw, Mistake> {
    const EXPECTED: &str = "a price: `{ per_gb = 2.40, currency = \"EUR\" }`";
    const PARTS: [&str; 3] = ["per_gb", "per_million", "per_month"];
    let table = value.get_ref().as_table().ok_or_else(|| wrong(value, EXPECTED))?;
    let mut price = Price { currency: "EUR".to_owned(), ..Price::default() };
    let mut has_part = false;
    for (key, value) in in_order(table) {
        let name = key.get_ref().as_ref();
        match name {
            "per_gb" | "per_million" | "per_month" => {
                let written =
                    value.get_ref().as_float().map(|f| f.as_str()).or_else(|| value.get_ref().as_integer().filter(|i| i.radix() == 10).map(|i| i.as_str()));
                let money = written.and_then(|text| Money::read(&text.replace('_', "")));
                let money = money.ok_or_else(|| wrong(value, "a number from 0 to 1000000000, with at most six decimal places"))?;
                has_part = true;
                match name {
                    "per_gb" => price.per_gb = money,
                    "per_million" => price.per_million = money,
                    _ => price.per_month = money,
                }
            }
            "currency" => {
                let code = value.get_ref().as_str().filter(|s| s.len() == 3 && s.bytes().all(|b| b.is_ascii_uppercase()));
                price.currency = code.ok_or_else(|| wrong(value, "a currency's three letters (ISO 4217), as in \"EUR\""))?.to_owned();
            }
            other => {
                let known = PARTS.into_iter().chain(["currency"]);
                return Err(Mistake::new(key.span(), format!("a price has no `{other}`")).expected(EXPECTED).near(other, known));
            }
        }
    }
    if has_part { Ok(Raw::Price(price)) } else { Err(Mistake::new(value.span(), "`per_gb`, `per_million` or `per_month` is missing").expected(EXPECTED)) }
}
