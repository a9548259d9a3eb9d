//! Changes of a plan as operations on its text, which keep its comments, its order and how it is written.
//!
//! What comes out is only a text: it is read and checked as any other plan.

use std::fmt::{self, Display, Formatter};

use toml_edit::{Array, ArrayOfTables, DocumentMut, Item, TableLike, Value};

/// A change of a plan. Parts are named `source:NAME`, `destination:NAME`, `table:NAME`, `recipe:NAME` or `route:NAME`; steps are numbered from 1, as they are written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PlanEdit {
    /// Adds a step to the list of a source, route, destination or recipe.
    AddStep {
        /// Whose list.
        part: String,
        /// The sentence.
        step: String,
        /// Its number in the list; behind the last, if none is said.
        number: Option<usize>,
    },
    /// Writes another sentence in place of a step.
    ChangeStep {
        /// Whose list.
        part: String,
        /// The step.
        number: usize,
        /// The sentence.
        step: String,
    },
    /// Removes a step.
    RemoveStep {
        /// Whose list.
        part: String,
        /// The step.
        number: usize,
    },
    /// Moves a step within its list.
    MoveStep {
        /// Whose list.
        part: String,
        /// The step.
        number: usize,
        /// Its number afterwards.
        to: usize,
    },
    /// Adds a source, destination, table, recipe or route, behind all others.
    AddPart {
        /// It, as it stands in a plan.
        text: String,
    },
    /// Removes a part, and the comment above it.
    RemovePart {
        /// The part.
        part: String,
    },
    /// Moves a route among the others.
    MoveRoute {
        /// Its name.
        name: String,
        /// Its number afterwards, from 1.
        to: usize,
    },
    /// Writes another example in place of one.
    ChangeExample {
        /// Its number among the examples, from 1.
        number: usize,
        /// The other, as it stands in a plan.
        text: String,
    },
    /// Removes an example, and the comment above it.
    RemoveExample {
        /// Its number among the examples, from 1.
        number: usize,
    },
    /// Sets one key of a part, or takes it away.
    Set {
        /// The part.
        part: String,
        /// The key.
        key: String,
        /// Its value, as it stands in a plan; nothing takes the key away.
        value: Option<String>,
    },
}

/// Why a plan could not be changed so.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    /// The text is no TOML.
    #[error("{0}")]
    Text(String),
    /// The part's name is not one.
    #[error("`{0}` names no part of a plan: source:NAME, destination:NAME, table:NAME, recipe:NAME or route:NAME")]
    Name(String),
    /// There is no such part.
    #[error("the plan has no {0}")]
    NoPart(Part),
    /// There is one already.
    #[error("the plan has a {0} already")]
    Taken(Part),
    /// A table has no steps.
    #[error("a {0} has no steps")]
    NoList(&'static str),
    /// There is no such step.
    #[error("the {part} has {count} steps, and no step {number}")]
    NoStep {
        /// Whose list.
        part: Part,
        /// The step that was meant.
        number: usize,
        /// How many there are.
        count: usize,
    },
    /// There is no such place among the routes.
    #[error("the plan has {count} routes, so none can be number {number}")]
    NoRoute {
        /// The place that was meant.
        number: usize,
        /// How many there are.
        count: usize,
    },
    /// There is no such example.
    #[error("the plan has {count} examples, and no example {number}")]
    NoExample {
        /// The example that was meant.
        number: usize,
        /// How many there are.
        count: usize,
    },
    /// What was to become an example is none.
    #[error("an example begins with `[[example]]`, and there is one of it")]
    NotExample,
    /// It is written in a way that cannot be changed here.
    #[error("the {0} is written in a way that only an editor can change")]
    Form(Part),
}

/// A part of a plan: what it is, and its name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// `source`, `destination`, `table`, `recipe`, `alert`, `budget`, `collect`, `assignment` or `route`.
    pub kind: &'static str,
    /// Its name.
    pub name: String,
}

const KINDS: [&str; 9] = ["source", "destination", "table", "recipe", "alert", "budget", "collect", "assignment", "route"];

impl Part {
    /// Reads `source:NAME` and the like.
    #[must_use]
    pub fn read(text: &str) -> Option<Part> {
        let (kind, name) = text.split_once(':')?;
        let kind = KINDS.into_iter().find(|k| *k == kind)?;
        (!name.is_empty()).then(|| Part { kind, name: name.to_owned() })
    }

    fn named(text: &str) -> Result<Part, EditError> {
        Part::read(text).ok_or_else(|| EditError::Name(text.to_owned()))
    }

    /// The key of its list of steps.
    pub(crate) fn list(&self) -> Result<&'static str, EditError> {
        match self.kind {
            "source" | "collect" => Ok("on_arrival"),
            "route" | "assignment" => Ok("do"),
            "destination" => Ok("always"),
            "recipe" => Ok("steps"),
            kind => Err(EditError::NoList(kind)),
        }
    }
}

impl Display for Part {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "{} `{}`", self.kind, self.name)
    }
}

/// The plan `text`, changed.
///
/// # Errors
/// If a change refers to what is not there, or the text is no TOML. Whether the plan that comes out is a good one is not looked at.
pub fn edited(text: &str, edits: &[PlanEdit]) -> Result<String, EditError> {
    let mut document = read(text)?;
    for edit in edits {
        match edit {
            PlanEdit::AddStep { part, step, number } => in_list(&mut document, part, |part, list| {
                let at = number.unwrap_or(list.len() + 1);
                if at == 0 || at > list.len() + 1 {
                    return Err(no_step(part, at, list));
                }
                let element = Element { before: alike(list), value: literal(step), behind: String::new() };
                list.insert(at - 1, element);
                Ok(())
            })?,
            PlanEdit::ChangeStep { part, number, step } => in_list(&mut document, part, |part, list| {
                let at = step_at(part, *number, list)?;
                list[at].value = literal(step);
                Ok(())
            })?,
            PlanEdit::RemoveStep { part, number } => in_list(&mut document, part, |part, list| {
                let at = step_at(part, *number, list)?;
                list.remove(at);
                Ok(())
            })?,
            PlanEdit::MoveStep { part, number, to } => in_list(&mut document, part, |part, list| {
                let (at, to) = (step_at(part, *number, list)?, step_at(part, *to, list)?);
                let element = list.remove(at);
                list.insert(to, element);
                Ok(())
            })?,
            PlanEdit::AddPart { text } => document = with(&document, text)?,
            PlanEdit::RemovePart { part } => remove(&mut document, &Part::named(part)?)?,
            PlanEdit::MoveRoute { name, to } => move_route(&mut document, name, *to)?,
            PlanEdit::ChangeExample { number, text } => {
                let new = read(text)?;
                let new = new.get("example").and_then(Item::as_array_of_tables).filter(|all| all.len() == 1).and_then(|all| all.get(0));
                let new = new.ok_or(EditError::NotExample)?;
                let old = example_at(&mut document, *number)?;
                let (place, decor) = (old.position(), old.decor().clone());
                *old = new.clone();
                old.set_position(place);
                *old.decor_mut() = decor;
            }
            PlanEdit::RemoveExample { number } => {
                example_at(&mut document, *number)?;
                if let Some(all) = document.get_mut("example").and_then(Item::as_array_of_tables_mut) {
                    all.remove(number - 1);
                }
            }
            PlanEdit::Set { part, key, value } => {
                let part = Part::named(part)?;
                let table = find(&mut document, &part)?;
                match value {
                    None => drop(table.remove(key)),
                    Some(value) => {
                        let new: Value = value.trim().parse().map_err(|e: toml_edit::TomlError| EditError::Text(e.to_string()))?;
                        match table.get_mut(key).and_then(Item::as_value_mut) {
                            Some(old) => {
                                let decor = old.decor().clone();
                                *old = new;
                                *old.decor_mut() = decor;
                            }
                            None => drop(table.insert(key, Item::Value(new.decorated(" ", "")))),
                        }
                    }
                }
            }
        }
    }
    Ok(document.to_string())
}

pub(crate) fn read(text: &str) -> Result<DocumentMut, EditError> {
    text.parse().map_err(|e: toml_edit::TomlError| EditError::Text(e.to_string()))
}

/// A sentence as it is written in a plan: as it is, where that can be.
fn literal(step: &str) -> Value {
    let plain = !step.contains('\'') && !step.chars().any(char::is_control);
    // What JSON escapes, TOML reads as well.
    let written = if plain { format!("'{step}'") } else { serde_json::Value::from(step).to_string() };
    written.parse().unwrap_or_else(|_| Value::from(step))
}

fn name_of(table: &dyn TableLike) -> Option<&str> {
    table.get("name")?.as_str()
}

fn routes(document: &mut DocumentMut) -> Option<&mut ArrayOfTables> {
    document.get_mut("route")?.as_array_of_tables_mut()
}

fn find<'a>(document: &'a mut DocumentMut, part: &Part) -> Result<&'a mut dyn TableLike, EditError> {
    let none = || EditError::NoPart(part.clone());
    if part.kind == "route" {
        if document.get("route").is_some_and(|routes| !routes.is_array_of_tables()) {
            return Err(EditError::Form(part.clone()));
        }
        let route = routes(document).and_then(|routes| routes.iter_mut().find(|route| name_of(*route) == Some(&part.name)));
        return route.map(|route| route as &mut dyn TableLike).ok_or_else(none);
    }
    let item = document.get_mut(part.kind).and_then(Item::as_table_like_mut).and_then(|all| all.get_mut(&part.name)).ok_or_else(none)?;
    item.as_table_like_mut().ok_or_else(|| EditError::Form(part.clone()))
}

/// The table of a part, if there is one.
pub(crate) fn table_of<'a>(document: &'a DocumentMut, part: &Part) -> Option<&'a dyn TableLike> {
    if part.kind == "route" {
        let mut routes = document.get("route")?.as_array_of_tables()?.iter();
        return routes.find(|route| name_of(*route) == Some(&part.name)).map(|route| route as &dyn TableLike);
    }
    document.get(part.kind)?.as_table_like()?.get(&part.name)?.as_table_like()
}

/// The parts that a document has.
pub(crate) fn parts_of(document: &DocumentMut) -> Vec<Part> {
    let mut all = Vec::new();
    for kind in KINDS.into_iter().filter(|kind| *kind != "route") {
        let names = document.get(kind).and_then(Item::as_table_like).into_iter().flat_map(|all| all.iter().map(|(name, _)| name.to_owned()));
        all.extend(names.map(|name| Part { kind, name }));
    }
    let routes = document.get("route").and_then(Item::as_array_of_tables).into_iter().flat_map(ArrayOfTables::iter);
    all.extend(routes.filter_map(|route| Some(Part { kind: "route", name: name_of(route)?.to_owned() })));
    all
}

fn with(document: &DocumentMut, text: &str) -> Result<DocumentMut, EditError> {
    let there = parts_of(document);
    if let Some(taken) = parts_of(&read(text)?).into_iter().find(|part| there.contains(part)) {
        return Err(EditError::Taken(taken));
    }
    let before = document.to_string();
    let gap = if before.trim().is_empty() { "" } else { "\n\n" };
    read(&format!("{}{gap}{}\n", before.trim_end(), text.trim()))
}

/// Only these parts of a plan, with the comments above them.
pub(crate) fn apart(text: &str, parts: &[Part]) -> Result<String, EditError> {
    let mut document = read(text)?;
    for part in parts_of(&document).iter().filter(|part| !parts.contains(part)) {
        remove(&mut document, part)?;
    }
    let kinds: Vec<String> = document.iter().map(|(kind, _)| kind.to_owned()).collect();
    for kind in kinds.iter().filter(|kind| !KINDS.contains(&kind.as_str())) {
        document.remove(kind);
    }
    document.set_trailing("");
    Ok(document.to_string().trim_start().to_owned())
}

/// A plan with the parts of another text. What stands there just so already is left out.
///
/// # Errors
/// If the plan has a part of the same kind and name that is another one, or one of the texts is no TOML.
pub fn joined(text: &str, parts: &str) -> Result<String, EditError> {
    let (document, mut new) = (read(text)?, read(parts)?);
    for part in parts_of(&new) {
        if table_of(&document, &part).zip(table_of(&new, &part)).is_some_and(|(there, new)| same(there, new)) {
            remove(&mut new, &part)?;
        }
    }
    if parts_of(&new).is_empty() { Ok(text.to_owned()) } else { Ok(with(&document, &new.to_string())?.to_string()) }
}

/// Whether two parts say the same, however they are written.
fn same(one: &dyn TableLike, other: &dyn TableLike) -> bool {
    let plain = |table: &dyn TableLike| {
        let text: String = table.iter().map(|(key, item)| format!("{key} = {}\n", item.to_string().trim())).collect();
        toml::from_str::<toml::Table>(&text).ok()
    };
    let (one, other) = (plain(one), plain(other));
    one.is_some() && one == other
}

fn remove(document: &mut DocumentMut, part: &Part) -> Result<(), EditError> {
    find(document, part)?;
    if part.kind == "route" {
        if let Some(routes) = routes(document) {
            routes.retain(|route| name_of(route) != Some(&part.name));
        }
    } else if let Some(all) = document.get_mut(part.kind).and_then(Item::as_table_like_mut) {
        all.remove(&part.name);
    }
    Ok(())
}

fn example_at(document: &mut DocumentMut, number: usize) -> Result<&mut toml_edit::Table, EditError> {
    let all = document.get_mut("example").and_then(Item::as_array_of_tables_mut);
    let count = all.as_ref().map_or(0, |all| all.len());
    let found = all.and_then(|all| all.get_mut(number.checked_sub(1)?));
    found.ok_or(EditError::NoExample { number, count })
}

fn move_route(document: &mut DocumentMut, name: &str, to: usize) -> Result<(), EditError> {
    let part = Part { kind: "route", name: name.to_owned() };
    find(document, &part)?;
    let Some(routes) = routes(document) else { return Err(EditError::Form(part)) };
    let mut all: Vec<_> = routes.iter().cloned().collect();
    let Some(from) = all.iter().position(|route| name_of(route) == Some(name)) else { return Err(EditError::NoPart(part)) };
    if to == 0 || to > all.len() {
        return Err(EditError::NoRoute { number: to, count: all.len() });
    }
    // They are printed by their places in the document: those stay, and the routes change theirs.
    let places: Vec<_> = all.iter().map(toml_edit::Table::position).collect();
    let route = all.remove(from);
    all.insert(to - 1, route);
    routes.clear();
    for (mut route, place) in all.into_iter().zip(places) {
        route.set_position(place);
        routes.push(route);
    }
    Ok(())
}

/// An element of a list, with what stands around it.
struct Element {
    /// What stands before it: a line end and comments, or blanks.
    before: String,
    value: Value,
    /// The comment behind it, on its line.
    behind: String,
}

fn no_step(part: &Part, number: usize, list: &[Element]) -> EditError {
    EditError::NoStep { part: part.clone(), number, count: list.len() }
}

fn step_at(part: &Part, number: usize, list: &[Element]) -> Result<usize, EditError> {
    if (1..=list.len()).contains(&number) { Ok(number - 1) } else { Err(no_step(part, number, list)) }
}

/// What stands before a new element of a list.
fn alike(list: &[Element]) -> String {
    let line = list.iter().find_map(|e| e.before.rfind('\n').map(|at| e.before[at..].to_owned()));
    line.unwrap_or_default()
}

/// Longest list that is written on one line, in characters.
const ONE_LINE: usize = 100;

fn in_list(document: &mut DocumentMut, part: &str, change: impl FnOnce(&Part, &mut Vec<Element>) -> Result<(), EditError>) -> Result<(), EditError> {
    let part = Part::named(part)?;
    let key = part.list()?;
    let table = find(document, &part)?;
    let mut array = match table.get(key) {
        None => Array::new(),
        Some(item) => item.as_array().cloned().ok_or_else(|| EditError::Form(part.clone()))?,
    };
    let (mut list, rest) = elements(&array);
    change(&part, &mut list)?;
    write(&mut array, list, &rest);
    if let Some(item) = table.get_mut(key) {
        *item = Item::Value(Value::Array(array));
        return Ok(());
    }
    table.insert(key, Item::Value(Value::Array(array).decorated(" ", "")));
    // A route's steps stand before where they lead.
    if part.kind == "route"
        && let Some(to) = table.remove("to")
    {
        table.insert("to", to);
    }
    Ok(())
}

/// The elements of a list, and what stands behind the last.
fn elements(array: &Array) -> (Vec<Element>, String) {
    let text = |raw: Option<&toml_edit::RawString>| raw.and_then(|raw| raw.as_str()).unwrap_or_default().to_owned();
    // What stands on the line of the element before belongs to that one.
    let split = |text: String| match text.find('\n') {
        Some(at) if text[..at].contains('#') => (text[..at].to_owned(), text[at..].to_owned()),
        _ => (String::new(), text),
    };
    let mut list: Vec<Element> = Vec::new();
    for value in array {
        let (behind, before) = split(text(value.decor().prefix()));
        if let Some(last) = list.last_mut() {
            last.behind.push_str(&behind);
        }
        let (own, _) = split(format!("{}\n", text(value.decor().suffix())));
        list.push(Element { before, value: value.clone(), behind: own });
    }
    let (behind, rest) = split(text(Some(array.trailing())));
    if let Some(last) = list.last_mut() {
        last.behind.push_str(&behind);
    }
    (list, rest)
}

fn write(array: &mut Array, mut list: Vec<Element>, rest: &str) {
    let mut many = list.iter().any(|e| e.before.contains('\n'));
    let width: usize = list.iter().map(|e| e.value.clone().decorated("", "").to_string().chars().count() + 2).sum();
    if !many && width > ONE_LINE {
        many = true;
        list.iter_mut().for_each(|e| "\n    ".clone_into(&mut e.before));
    }
    let rest = if many && !rest.contains('\n') { "\n" } else { rest };
    array.clear();
    let mut behind = String::new();
    for (number, element) in list.into_iter().enumerate() {
        let before = match () {
            () if many && !element.before.contains('\n') => "\n    ",
            () if many => &element.before,
            () if number == 0 => "",
            () => " ",
        };
        array.push_formatted(element.value.decorated(format!("{behind}{before}"), ""));
        behind = element.behind;
    }
    array.set_trailing(if many { format!("{behind}{rest}") } else { String::new() });
    array.set_trailing_comma(many && !array.is_empty());
}

#[cfg(test)]
#[path = "edit_tests.rs"]
mod tests;
