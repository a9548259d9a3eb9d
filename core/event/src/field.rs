//! Field paths, the views of the usual names, and the table that finds fields while bytes are scanned.
//!
//! A [`Path`] is what a sentence writes (`http.status`, `"weird name"`). A [`FieldTable`] is built once from all the paths a
//! compiled plan needs: a small trie of member names, so that the scanner pulls exactly those members and
//! skips the rest. A path has several places it may stand in; [`FieldTable::find`] takes the first that is there.

use std::collections::HashMap;
use std::fmt;
use std::sync::LazyLock;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::json::Span;
use crate::texts::Texts;

/// A field's path as a sentence writes it.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Path {
    segments: Vec<String>,
}

/// The names under which senders write the usual fields. The first found, in this order, is the view's value.
const VIEWS: [(&str, &[&str]); 3] =
    [("time", &["time", "timestamp", "ts"]), ("severity", &["severity", "level", "lvl"]), ("message", &["message", "msg", "body"])];

/// The names under which senders write what the view `view` shows, best first.
#[must_use]
pub fn names_of(view: &str) -> &'static [&'static str] {
    VIEWS.iter().find(|(name, _)| *name == view).map_or(&[], |(_, names)| names)
}

/// Words that stand for themselves in a sentence; a field of that name is written in quotes.
pub const RESERVED: &[&str] = &["and", "or", "not", "when", "unless", "by", "in", "as", "with", "keep", "true", "false", "remainder", "to", "into"];

/// The member that holds what an event shared with its batch, where its protocol has such a thing.
pub const RESOURCE: &str = "resource";

/// The field in which a sampled event carries how many events it stands for.
pub const WEIGHT: &str = "sampled.weight";

impl Path {
    /// A path of one name, taken exactly (dots and all).
    #[must_use]
    pub fn name(name: &str) -> Path {
        Path { segments: vec![name.to_owned()] }
    }

    /// A path of several segments, at least one.
    #[must_use]
    pub fn of(segments: Vec<String>) -> Path {
        assert!(!segments.is_empty(), "a path has at least one segment");
        Path { segments }
    }

    /// The segments between the dots.
    #[must_use]
    pub fn segments(&self) -> &[String] {
        &self.segments
    }

    /// Whether a field of this path may be one of `other` as well, or stand in it, or it in this: fields are found under several names and behind several beginnings, so all that says
    /// otherwise is that no name of the one is in the other.
    #[must_use]
    pub fn may_overlap(&self, other: &Path) -> bool {
        let names = |path: &Path| -> Vec<String> { path.segments.iter().flat_map(|segment| segment.split('.')).map(str::to_ascii_lowercase).collect() };
        let (mine, theirs) = (names(self), names(other));
        let usual = |names: &[String]| names.iter().any(|name| VIEWS.iter().any(|(_, known)| known.contains(&name.as_str())));
        (usual(&mine) && usual(&theirs)) || mine.iter().any(|name| theirs.contains(name))
    }

    /// The name with its dots, unquoted: what a new attribute of this path is called.
    #[must_use]
    pub fn flat(&self) -> String {
        self.segments.join(".")
    }

    /// Whether this is the `severity` view, whose values compare by level.
    #[must_use]
    pub fn is_severity(&self) -> bool {
        self.segments == ["severity"]
    }

    /// The places this path may stand in, best first, each a list of member names from the top; with `in_resource`, also within what an event shared with its batch.
    fn places(&self, in_resource: bool) -> Vec<Vec<String>> {
        let mut places = self.own_places();
        let view = VIEWS.iter().any(|(name, _)| self.segments == [*name]);
        if in_resource && !view && self.segments[0] != RESOURCE {
            let within: Vec<Vec<String>> = places.iter().map(|place| [&[RESOURCE.to_owned()], &place[..]].concat()).collect();
            places.extend(within);
        }
        places
    }

    fn own_places(&self) -> Vec<Vec<String>> {
        if let [only] = self.segments.as_slice() {
            let usual = VIEWS.iter().find(|(view, _)| view == only).map(|(_, names)| *names);
            return match usual {
                Some(names) => names.iter().map(|n| vec![(*n).to_owned()]).collect(),
                None => vec![vec![only.clone()]],
            };
        }
        vec![vec![self.flat()], self.segments.clone()]
    }

    /// Whether `name` can stand in a sentence without quotes.
    #[must_use]
    pub fn plain(name: &str) -> bool {
        let mut chars = name.chars();
        chars.next().is_some_and(|c| c.is_ascii_alphabetic() || c == '_')
            && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || c == '-')
            && !name.ends_with('-')
            && !RESERVED.contains(&name)
    }
}

impl fmt::Display for Path {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, segment) in self.segments.iter().enumerate() {
            if i > 0 {
                f.write_str(".")?;
            }
            if Path::plain(segment) {
                f.write_str(segment)?;
            } else {
                write_quoted(f, segment)?;
            }
        }
        Ok(())
    }
}

/// Writes `text` as a sentence has it: in double quotes, with escapes.
///
/// # Errors
/// Only if `f` fails.
pub fn write_quoted(f: &mut impl std::fmt::Write, text: &str) -> std::fmt::Result {
    f.write_char('"')?;
    for c in text.chars() {
        match c {
            '"' => f.write_str("\\\"")?,
            '\\' => f.write_str("\\\\")?,
            '\n' => f.write_str("\\n")?,
            '\t' => f.write_str("\\t")?,
            '\r' => f.write_str("\\r")?,
            c if c.is_control() => write!(f, "\\u{{{:x}}}", c as u32)?,
            c => f.write_char(c)?,
        }
    }
    f.write_char('"')
}

/// No slot, or no node.
pub(crate) const NONE: u16 = u16::MAX;

/// A field of a [`FieldTable`], by which values are looked up once the table is built.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FieldId(u16);

#[derive(Clone, Debug)]
struct Edge {
    name: Box<[u8]>,
    slot: u16,
    child: Option<u16>,
}

#[derive(Clone, Debug, Default)]
struct Node {
    edges: Vec<Edge>,
    /// Their places in `edges`, by name.
    names: Texts,
}

/// All the fields a plan needs, as a trie of member names. Slot numbers run over all its edges.
#[derive(Clone, Debug, Default)]
pub struct FieldTable {
    nodes: Vec<Node>,
    slots: u16,
    paths: Vec<Path>,
    /// For each field, its name as a new member has it: in quotes, with the colon.
    names: Vec<Vec<u8>>,
    known: HashMap<Path, FieldId>,
    /// For each field, its slots, best place first.
    places: Vec<Vec<u16>>,
    /// Drawn anew with every field that is added.
    stamp: u64,
    /// Fields are looked for in what events shared with their batch as well.
    in_resource: bool,
}

impl FieldTable {
    /// A table that wants nothing.
    #[must_use]
    pub fn none() -> &'static FieldTable {
        static NONE: LazyLock<FieldTable> = LazyLock::new(FieldTable::default);
        &NONE
    }

    /// A table whose fields are looked for in [`RESOURCE`] as well, behind their other places.
    #[must_use]
    pub fn with_resource() -> FieldTable {
        FieldTable { in_resource: true, ..FieldTable::default() }
    }

    /// What a member of this flat name is called by those who need not know where it stands: without [`RESOURCE`], where fields are looked for in that as well.
    pub fn called<'a>(&self, name: &'a str) -> &'a str {
        if self.in_resource { name.strip_prefix(RESOURCE).and_then(|rest| rest.strip_prefix('.')).unwrap_or(name) } else { name }
    }

    /// Whether fields are looked for in the member of this name as well.
    pub fn looks_in(&self, name: &str) -> bool {
        self.in_resource && name == RESOURCE
    }

    /// Adds a path (once) and returns its field.
    ///
    /// # Panics
    /// Past 65 000 distinct fields; a checked plan has far fewer.
    pub fn want(&mut self, path: &Path) -> FieldId {
        if let Some(known) = self.known.get(path) {
            return *known;
        }
        static STAMPS: AtomicU64 = AtomicU64::new(1);
        self.stamp = STAMPS.fetch_add(1, Ordering::Relaxed);
        let places = path.places(self.in_resource).iter().map(|place| self.slot(place)).collect();
        let mut name = Vec::new();
        crate::json::quote(path.flat().as_bytes(), &mut name);
        name.push(b':');
        self.names.push(name);
        self.paths.push(path.clone());
        self.places.push(places);
        let field = FieldId(u16::try_from(self.paths.len() - 1).expect("fewer than 65 000 fields"));
        self.known.insert(path.clone(), field);
        field
    }

    fn slot(&mut self, names: &[String]) -> u16 {
        if self.nodes.is_empty() {
            self.nodes.push(Node::default());
        }
        let (mut node, mut slot) = (0usize, 0u16);
        for (depth, name) in names.iter().enumerate() {
            let found = self.nodes[node].names.get(name.as_bytes()).map(|place| place as usize);
            let edge = found.unwrap_or_else(|| {
                let fresh = Edge { name: name.as_bytes().into(), slot: self.slots, child: None };
                self.slots = self.slots.checked_add(1).expect("fewer than 65 000 slots");
                let Node { edges, names } = &mut self.nodes[node];
                names.insert(&fresh.name, edges.len() as u32);
                edges.push(fresh);
                edges.len() - 1
            });
            slot = self.nodes[node].edges[edge].slot;
            if depth + 1 < names.len() {
                let next = self.nodes[node].edges[edge].child.unwrap_or_else(|| {
                    self.nodes.push(Node::default());
                    (self.nodes.len() - 1) as u16
                });
                self.nodes[node].edges[edge].child = Some(next);
                node = next as usize;
            }
        }
        slot
    }

    /// How many slots a scan fills.
    #[must_use]
    pub fn slots(&self) -> usize {
        self.slots as usize
    }

    /// The member of the name `text[start..end]` below `node`: its slot, and the node below it if deeper fields are wanted; [`NONE`] for neither.
    #[inline]
    pub fn edge(&self, node: u16, text: &[u8], start: usize, end: usize) -> (u16, u16) {
        let Some(node) = self.nodes.get(node as usize) else { return (NONE, NONE) };
        match node.names.within(text, start, end) {
            Some(place) => {
                let edge = &node.edges[place as usize];
                (edge.slot, edge.child.unwrap_or(NONE))
            }
            None => (NONE, NONE),
        }
    }

    /// A number that another table with other slots does not have.
    pub fn stamp(&self) -> u64 {
        self.stamp
    }

    /// Calls `each` with every slot below `node`.
    pub fn each_below(&self, node: u16, each: &mut dyn FnMut(u16)) {
        for edge in &self.nodes[node as usize].edges {
            each(edge.slot);
            if let Some(child) = edge.child {
                self.each_below(child, each);
            }
        }
    }

    /// The field's value in `slots`, from the best place that has one; [`Span::MISSING`] if none has.
    #[inline]
    #[must_use]
    pub fn find(&self, field: FieldId, slots: &[Span]) -> Span {
        self.find_slot(field, slots).map_or(Span::MISSING, |slot| slots[slot as usize])
    }

    /// The slot of the best place that has a value.
    #[inline]
    pub fn find_slot(&self, field: FieldId, slots: &[Span]) -> Option<u16> {
        let places = &self.places[field.0 as usize];
        match places.first() {
            Some(first) if slots[*first as usize].present() => Some(*first),
            _ => places.iter().skip(1).copied().find(|&s| slots[s as usize].present()),
        }
    }

    /// The slot of the place where a field that is missing would be written (its exact name, at the top).
    pub fn first_slot(&self, field: FieldId) -> u16 {
        self.places[field.0 as usize][0]
    }

    /// The slots of all places a field may stand in.
    pub fn all_slots(&self, field: FieldId) -> &[u16] {
        &self.places[field.0 as usize]
    }

    /// For a view, the usual name it has in this event; else nothing.
    pub fn usual_name(&self, field: FieldId, slots: &[Span]) -> Option<&'static str> {
        let [only] = self.path(field).segments() else { return None };
        let (_, names) = VIEWS.iter().find(|(view, _)| view == only)?;
        let place = self.places[field.0 as usize].iter().position(|&s| slots[s as usize].present())?;
        names.get(place).copied()
    }

    /// The field's name as a new member has it: in quotes, with the colon.
    pub fn name(&self, field: FieldId) -> &[u8] {
        &self.names[field.0 as usize]
    }

    /// The path a field was asked for by.
    #[must_use]
    pub fn path(&self, field: FieldId) -> &Path {
        &self.paths[field.0 as usize]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scan::scan;

    fn pull(json: &str, path: &[&str]) -> Option<String> {
        let mut table = FieldTable::default();
        let path = Path::of(path.iter().map(|s| (*s).to_owned()).collect());
        let field = table.want(&path);
        table.want(&Path::name("other"));
        let mut slots = Vec::new();
        scan(json.as_bytes(), &table, &mut slots).unwrap();
        let span = table.find(field, &slots);
        span.present().then(|| String::from_utf8(span.of(json.as_bytes()).to_vec()).unwrap())
    }

    #[test]
    fn a_dotted_path_is_the_exact_name_else_the_nested_one() {
        assert_eq!(pull(r#"{"http.status":1,"http":{"status":2}}"#, &["http", "status"]).unwrap(), "1");
        assert_eq!(pull(r#"{"http":{"x":0,"status":2}}"#, &["http", "status"]).unwrap(), "2");
        assert_eq!(pull(r#"{"http":7}"#, &["http", "status"]), None);
    }

    #[test]
    fn views_take_the_usual_names() {
        assert_eq!(pull(r#"{"msg":"m","level":"warn"}"#, &["message"]).unwrap(), r#""m""#);
        assert_eq!(pull(r#"{"msg":"m","lvl":"warn"}"#, &["severity"]).unwrap(), r#""warn""#);
        assert_eq!(pull(r#"{"body":"b","message":"m"}"#, &["message"]).unwrap(), r#""m""#);
    }

    #[test]
    fn an_escaped_name_and_a_second_occurrence_cannot_hide_a_field() {
        assert_eq!(pull(r#"{"\u0061":1}"#, &["a"]).unwrap(), "1");
        assert_eq!(pull(r#"{"a":1,"a":2}"#, &["a"]).unwrap(), "2");
        assert_eq!(pull(r#"{"a":{"b":1},"a":{"c":2}}"#, &["a", "b"]), None);
        assert_eq!(pull(r#"{"a":{"b":1},"a":3}"#, &["a", "b"]), None);
    }
}
