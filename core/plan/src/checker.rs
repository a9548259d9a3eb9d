//! What all parts of a plan are checked with: names, keys, steps, sizes, times, secrets.

use std::collections::HashMap;
use std::time::Duration;

use rockrose_language::{Mistake, Reference, Size, Step, Use, nearest, parse_step};

use crate::keys::{Key, Shape};
use crate::parse::of_another_kind;
use crate::recipe::Recipes;
use crate::section::{At, Raw, Section, inside};

/// A million bytes.
pub(super) const MB: u64 = 1_000_000;

/// The name of a kept secret; never its value.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct SecretName(pub String);

/// Collects what is wrong with a plan while its parts are read.
pub(super) struct Checker<'a> {
    pub(super) text: &'a str,
    pub(super) mistakes: Vec<Mistake>,
    pub(super) warnings: Vec<Mistake>,
    pub(super) recipes: Recipes,
    pub(super) tables: HashMap<String, String>,
    /// The columns of those tables that could be looked at, without the key's.
    pub(super) columns: HashMap<String, Vec<String>>,
    pub(super) sources: Vec<String>,
    /// The names of the budgets; nothing, where steps cannot ask any.
    pub(super) budgets: Option<Vec<String>>,
}

/// Whether `name` can name a part of a plan or a secret: letters, digits, `-` and `_`, a letter first, at most 64.
#[must_use]
pub fn is_name(name: &str) -> bool {
    name.len() <= 64 && name.starts_with(|c: char| c.is_ascii_alphabetic()) && name.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_'))
}

/// Reads a time such as `30 seconds`, of at least a millisecond and at most `most`.
pub(super) fn duration(text: &str, most: Duration) -> Option<Duration> {
    let digits = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    let unit = match text[digits..].trim().trim_end_matches('s') {
        "m" | "millisecond" => 1,
        "" if text.ends_with('s') => 1_000,
        "second" => 1_000,
        "min" | "minute" => 60_000,
        "hour" => 3_600_000,
        "day" => 86_400_000,
        _ => return None,
    };
    let ms = text[..digits].parse::<u64>().ok()?.saturating_mul(unit);
    (1..=most.as_millis() as u64).contains(&ms).then(|| Duration::from_millis(ms))
}

impl Checker<'_> {
    pub(super) fn name(&mut self, name: &At<String>, what: &str) {
        if !is_name(&name.value) {
            let message = format!("`{}` cannot name a {what}", name.value);
            self.mistakes.push(Mistake::new(name.at.clone(), message).expected("letters, digits, `-` and `_`, a letter first, at most 64"));
        }
    }

    /// Needed keys that are missing, and keys that this kind does not have.
    pub(super) fn keys(&mut self, section: &Section, keys: &'static [Key], what: &str) {
        let kind = section.text("kind");
        if let Some(kind) = &kind
            && let Some(words) = keys.iter().find_map(|k| {
                if let Shape::Word(words) = k.shape
                    && k.name == "kind"
                {
                    Some(words)
                } else {
                    None
                }
            })
            && !words.contains(&kind.value)
        {
            let all: Vec<_> = words.iter().map(|w| format!("\"{w}\"")).collect();
            let message = format!("there is no {what} of kind `{}`", kind.value);
            self.mistakes.push(Mistake::new(kind.at.clone(), message).expected(format!("one of {}", all.join(", "))).near(kind.value, words.iter().copied()));
            return;
        }
        let kind = kind.map_or("", |k| k.value);
        for key in keys {
            let mine = key.is_of(kind);
            // One of another kind that is called nearly so is what was meant.
            let misspelt = || section.entries.iter().any(|(other, _)| !other.is_of(kind) && nearest(other.name, [key.name]).is_some());
            match section.get(key.name) {
                None if key.needed && mine && !section.flawed && !misspelt() => {
                    let of = if section.name.value.is_empty() { format!("a {what}") } else { format!("the {what} `{}`", section.name.value) };
                    self.mistakes.push(Mistake::new(section.name.at.clone(), format!("{of} needs `{}`", key.name)).expected(format!(
                        "`{} = …`: {}",
                        key.name,
                        key.says.to_lowercase()
                    )));
                }
                Some(value) if !mine => {
                    self.mistakes.push(of_another_kind(key, keys, &format!("a {what}"), kind, value.at.clone()));
                }
                Some(At { value: Raw::Text(text), at }) => {
                    if let Shape::Word(words) = key.shape
                        && !words.contains(&text.as_str())
                        && key.name != "kind"
                    {
                        let all: Vec<_> = words.iter().map(|w| format!("\"{w}\"")).collect();
                        self.mistakes.push(
                            Mistake::new(at.clone(), format!("unexpected `{text}`"))
                                .expected(format!("one of {}", all.join(", ")))
                                .near(text, words.iter().copied()),
                        );
                    }
                }
                _ => {}
            }
        }
    }

    pub(super) fn placed(&self, at: &std::ops::Range<usize>, decoded: &str, mistake: Mistake) -> Mistake {
        let start = inside(self.text, at, decoded, mistake.at.start);
        let end = inside(self.text, at, decoded, mistake.at.end).max(start);
        Mistake { at: start..end, ..mistake }
    }

    /// The character at byte `at` of a text, as a place in the document.
    pub(super) fn place_in(&self, written: &At<&str>, at: usize) -> std::ops::Range<usize> {
        let start = inside(self.text, &written.at, written.value, at);
        start..(start + 1).min(written.at.end)
    }

    pub(super) fn steps(&mut self, written: &[At<String>]) -> Vec<Step> {
        let mut steps = Vec::new();
        for text in written {
            match parse_step(&text.value) {
                Ok(step) => {
                    if let Some(mistake) = self.refers(&step, &text.value).or_else(|| self.asks_budgets(&step.budgets(), &text.value)) {
                        let mistake = self.placed(&text.at, &text.value, mistake);
                        self.mistakes.push(mistake);
                    }
                    for doubt in step.doubts(&text.value) {
                        let doubt = self.placed(&text.at, &text.value, doubt);
                        self.warnings.push(doubt);
                    }
                    steps.push(step);
                }
                Err(mistake) => {
                    let mistake = self.placed(&text.at, &text.value, mistake);
                    self.mistakes.push(mistake);
                }
            }
        }
        steps
    }

    /// What is wrong with what a step refers to: a recipe, a table.
    pub(super) fn refers(&self, step: &Step, text: &str) -> Option<Mistake> {
        let at = |word: &str| {
            // Whole, as far as there is such a place.
            let inner = |at: Option<char>| at.is_some_and(|c| c.is_alphanumeric() || c == '_');
            let whole = |start: &usize| !inner(text[..*start].chars().next_back()) && !inner(text[start + word.len()..].chars().next());
            let start = text.match_indices(word).map(|(start, _)| start).filter(whole).last().or_else(|| text.find(word)).unwrap_or(0);
            start..(start + word.len()).min(text.len())
        };
        match step.operation.refers_to()? {
            Reference::Table { name, kind, columns } => match self.tables.get(name) {
                None => {
                    let near = nearest(name, self.tables.keys().map(String::as_str)).map(str::to_owned);
                    let mut mistake = Mistake::new(at(name), format!("there is no table `{name}`")).expected("a table of this plan: `[table.NAME]`");
                    mistake.nearest = near;
                    Some(mistake)
                }
                Some(other) if other != kind => {
                    Some(Mistake::new(at(name), format!("the table `{name}` is of kind `{other}`")).expected(format!("a table of kind `{kind}`")))
                }
                Some(_) => {
                    let known = self.columns.get(name)?;
                    // A table of one column gives it under any name.
                    let odd = columns.iter().find(|column| known.len() != 1 && !known.contains(column))?;
                    let all: Vec<_> = known.iter().map(|column| format!("`{column}`")).collect();
                    Some(
                        Mistake::new(at(odd), format!("the table `{name}` has no column `{odd}`"))
                            .expected(all.join(", "))
                            .near(odd, known.iter().map(String::as_str)),
                    )
                }
            },
            Reference::Source(source) if self.sources.iter().any(|s| s == source) => None,
            Reference::Source(source) => Some(
                Mistake::new(at(source), format!("there is no source `{source}`"))
                    .expected("a source of this plan")
                    .near(source, self.sources.iter().map(String::as_str)),
            ),
            // All steps that add to one metric are looked at together, once the whole plan is read.
            Reference::Metric { .. } => None,
            Reference::Recipe(Use { recipe, arguments }) => {
                let Some(known) = self.recipes.get(recipe) else {
                    let names = self.recipes.keys().map(String::as_str);
                    return Some(Mistake::new(at(recipe), format!("there is no recipe `{recipe}`")).expected("a recipe of this plan").near(recipe, names));
                };
                let given: Vec<&str> = arguments.iter().map(|(name, _)| name.as_str()).collect();
                if let Some(odd) = given.iter().find(|name| !known.parameters.iter().any(|p| p == *name)) {
                    let all: Vec<_> = known.parameters.iter().map(|p| format!("`{p}`")).collect();
                    let expected = if all.is_empty() { "none".to_owned() } else { all.join(", ") };
                    return Some(
                        Mistake::new(at(odd), format!("the recipe `{recipe}` has no parameter `{odd}`"))
                            .expected(expected)
                            .near(odd, known.parameters.iter().map(String::as_str)),
                    );
                }
                if let Some(missing) = known.parameters.iter().find(|p| !given.contains(&p.as_str())) {
                    return Some(
                        Mistake::new(at(recipe), format!("the recipe `{recipe}` is not given its `{missing}`"))
                            .expected(format!("`use {recipe}({missing} = …)`")),
                    );
                }
                known.wrong_with(arguments).map(|why| Mistake::new(0..text.len(), why))
            }
        }
    }

    pub(super) fn size(&mut self, section: &Section, key: &str, default: u64, most: u64) -> u64 {
        let Some(written) = section.text(key) else { return default };
        match Size::read(written.value).map(Size::bytes) {
            Some(bytes) if (1..=most).contains(&bytes) => bytes,
            Some(_) => {
                let most = if most >= 1000 * MB { format!("{} GB", most / (1000 * MB)) } else { format!("{} MB", most / MB) };
                self.mistakes.push(Mistake::new(written.at, "the size is out of bounds").expected(format!("at least 1 B and at most {most}")));
                default
            }
            None => {
                self.mistakes.push(
                    Mistake::new(written.at, format!("`{}` is not a size", written.value)).expected("a number and `B`, `KB`, `MB` or `GB`, as in \"2 MB\""),
                );
                default
            }
        }
    }

    pub(super) fn duration(&mut self, section: &Section, key: &str, default: Duration) -> Duration {
        self.duration_up_to(section, key, default, Duration::from_secs(86_400))
    }

    pub(super) fn duration_up_to(&mut self, section: &Section, key: &str, default: Duration, most: Duration) -> Duration {
        let Some(written) = section.text(key) else { return default };
        match self::duration(written.value, most) {
            Some(duration) => duration,
            None => {
                self.mistakes.push(Mistake::new(written.at, format!("`{}` is not a time", written.value)).expected(format!(
                    "a time of at least 1 ms and at most {}, as in \"30 seconds\"",
                    if most.as_secs() > 86_400 { "a year" } else { "a day" }
                )));
                default
            }
        }
    }

    pub(super) fn secret(&mut self, section: &Section, key: &str) -> Option<SecretName> {
        let written = section.secret(key)?;
        self.name(written, "secret");
        Some(SecretName(written.value.clone()))
    }
}
