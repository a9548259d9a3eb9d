//! Recipes: named lists of steps, with parameters.

use std::collections::HashMap;

use rockrose_language::{Condition, Mistake, Operation, Step, Use, parse_step};

/// Deepest nesting of recipes in recipes; the check has found any that would not end.
const MAX_DEPTH: usize = 32;

pub(super) type Recipes = HashMap<String, Recipe>;

/// A recipe as written.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Recipe {
    pub(super) parameters: Vec<String>,
    pub(super) texts: Vec<String>,
    /// Whose it is.
    pub(super) team: Option<String>,
}

impl Recipe {
    /// The recipes it uses, as far as they can be told without its parameters.
    pub(super) fn uses(&self) -> Vec<String> {
        let name = |text: &String| {
            let rest = text.trim_start().strip_prefix("use")?.trim_start();
            let rest = rest.strip_prefix('"').unwrap_or(rest);
            Some(rest.chars().take_while(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_')).collect())
        };
        self.texts.iter().filter_map(name).collect()
    }

    /// Its sentences, parameters replaced.
    fn filled<'a>(&'a self, arguments: &'a [(String, String)]) -> impl Iterator<Item = String> + 'a {
        self.texts.iter().map(|text| fill(text, arguments))
    }

    /// Its steps; a sentence that cannot be read is left out.
    fn steps(&self, arguments: &[(String, String)]) -> Vec<Step> {
        self.filled(arguments).filter_map(|text| parse_step(&text).ok()).collect()
    }

    /// What is wrong with its sentences once its parameters are given.
    pub(super) fn wrong_with(&self, arguments: &[(String, String)]) -> Option<String> {
        self.filled(arguments).find_map(|text| {
            parse_step(&text).err().filter(|_| !arguments.is_empty()).map(|m| format!("with this, a step of the recipe is `{text}`: {}", m.message))
        })
    }
}

/// What stands in a sentence outside of texts and regular expressions.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Outside {
    /// A regular expression begins.
    Pattern,
    /// Another character, at this byte.
    Sign(usize, char),
}

/// Goes through a sentence, without what stands in texts and regular expressions. A slash that follows a blank or a bracket begins one.
fn outside(text: &str) -> impl Iterator<Item = Outside> {
    let (mut quote, mut escaped, mut before) = (None, false, ' ');
    text.char_indices().filter_map(move |(at, c)| {
        let mut found = None;
        match (quote, c) {
            _ if escaped => {}
            (Some(end), c) if end == c => quote = None,
            (Some(_), _) => {}
            (None, '"') => quote = Some(c),
            (None, '/') if before.is_whitespace() || before == '(' => {
                quote = Some(c);
                found = Some(Outside::Pattern);
            }
            (None, c) => found = Some(Outside::Sign(at, c)),
        }
        escaped = c == '\\' && !escaped && quote.is_some();
        before = c;
        found
    })
}

/// How many regular expressions stand in a sentence.
pub(super) fn written_patterns(sentence: &str) -> usize {
    outside(sentence).filter(|found| *found == Outside::Pattern).count()
}

/// The first `$name` outside of texts and regular expressions that is no parameter.
pub(super) fn unknown_parameter(text: &str, parameters: &[String]) -> Option<Mistake> {
    outside(text).find_map(|found| {
        let Outside::Sign(at, '$') = found else { return None };
        let name = &text[at + 1..];
        let name = &name[..name.bytes().take_while(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-')).count()];
        if name.is_empty() || parameters.iter().any(|p| p == name) {
            return None;
        }
        let all: Vec<_> = parameters.iter().map(|p| format!("`${p}`")).collect();
        let expected = if all.is_empty() { "a recipe with `parameters`".to_owned() } else { all.join(", ") };
        let mistake = Mistake::new(at..at + 1 + name.len(), format!("the recipe has no parameter `{name}`")).expected(expected);
        Some(mistake.near(name, parameters.iter().map(String::as_str)))
    })
}

/// Replaces each `$name` by what is given for it.
fn fill(text: &str, arguments: &[(String, String)]) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('$') {
        let (before, behind) = rest.split_at(at);
        out.push_str(before);
        let len = behind[1..].bytes().take_while(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-')).count();
        match arguments.iter().find(|(name, _)| *name == behind[1..=len]) {
            Some((_, given)) => out.push_str(given),
            None => out.push_str(&behind[..=len]),
        }
        rest = &behind[1 + len..];
    }
    out.push_str(rest);
    out
}

/// How many steps [`expand`] would yield, found without expanding (recipes can multiply).
pub(super) fn expanded_len(recipes: &Recipes, steps: &[Step], known: &mut HashMap<String, usize>) -> usize {
    let mut total = 0usize;
    for step in steps {
        let len = match &step.operation {
            Operation::Use(Use { recipe, arguments }) => match known.get(recipe) {
                Some(len) => *len,
                None => {
                    let inner = recipes.get(recipe).map(|r| r.steps(arguments)).unwrap_or_default();
                    let len = expanded_len(recipes, &inner, known);
                    known.insert(recipe.clone(), len);
                    len
                }
            },
            _ => 1,
        };
        total = total.saturating_add(len);
    }
    total
}

/// The steps with every `use` replaced by its recipe's steps. A `when` on the `use` holds for each of them.
pub(super) fn expand(recipes: &Recipes, steps: &[Step]) -> Vec<Step> {
    expand_at(recipes, steps, 0)
}

fn expand_at(recipes: &Recipes, steps: &[Step], depth: usize) -> Vec<Step> {
    let mut out = Vec::new();
    for step in steps {
        let Operation::Use(Use { recipe, arguments }) = &step.operation else {
            out.push(step.clone());
            continue;
        };
        if depth == MAX_DEPTH {
            continue;
        }
        let inner = recipes.get(recipe).map(|r| r.steps(arguments)).unwrap_or_default();
        for inner in expand_at(recipes, &inner, depth + 1) {
            let when = match (inner.when, &step.when) {
                (None, outer) => outer.clone(),
                (some, None) => some,
                (Some(a), Some(b)) => {
                    let parts = [a, b.clone()].into_iter().flat_map(|c| if let Condition::And(all) = c { all } else { vec![c] });
                    Some(Condition::And(parts.collect()))
                }
            };
            out.push(Step { operation: inner.operation, when });
        }
    }
    out
}
