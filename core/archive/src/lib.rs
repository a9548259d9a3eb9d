#![doc = include_str!("crate.md")]

mod index;

pub use index::{Block, FieldIndex, Filter, Index, Indexer};

use rockrose_event::field::Path;
use rockrose_event::output::Origin;
use rockrose_event::usual::Usual;

/// Most folders that one batch is divided into by the values of fields.
const MAX_FOLDERS: usize = 256;
/// Longest value in a folder's name, in bytes before it is escaped.
const MAX_VALUE: usize = 64;

/// What a folder is named by.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Part {
    /// The day of the event's time, in UTC.
    Date,
    /// Its hour, in UTC.
    Hour,
    /// The value of a field.
    Field(String),
}

impl Part {
    /// Reads `date`, `hour` or a field's path.
    pub fn read(text: &str) -> Option<Part> {
        match text {
            "date" => Some(Part::Date),
            "hour" => Some(Part::Hour),
            field => field.split('.').all(Path::plain).then(|| Part::Field(field.to_owned())),
        }
    }
}

/// Divides the events of one batch into folders.
pub struct Divider {
    parts: Vec<Part>,
    usual: Usual,
    /// Folders of this batch, as their fields name them.
    seen: Vec<String>,
}

impl Divider {
    /// By these parts, outermost first.
    #[must_use]
    pub fn new(parts: &[Part]) -> Divider {
        let fields: Vec<[&str; 1]> = parts.iter().filter_map(|p| if let Part::Field(name) = p { Some([name.as_str()]) } else { None }).collect();
        let lists: Vec<&[&str]> = fields.iter().map(|f| &f[..]).collect();
        Divider { parts: parts.to_vec(), usual: Usual::new(&lists), seen: Vec::new() }
    }

    /// The folder of an event, with `/` behind each part: `date=2026-11-23/hour=08/service=boarding/`. An event without a time is of the time when it was queued. Once a batch
    /// has as many folders as it may, further values are `_other`.
    pub fn folder(&mut self, event: &[u8], origin: &Origin) -> String {
        self.usual.read(event);
        let at = self.usual.time(event, origin.queued_ms).or_else(|| jiff::Timestamp::from_millisecond(origin.queued_ms).ok()).unwrap_or_default();
        let mut values = Vec::new();
        for list in 0..self.parts.iter().filter(|p| matches!(p, Part::Field(_))).count() {
            values.push(self.usual.text_of(event, list).map_or_else(|| "-".to_owned(), |text| escaped(&text)));
        }
        let named = values.join("/");
        if !values.is_empty() && !self.seen.contains(&named) {
            if self.seen.len() < MAX_FOLDERS {
                self.seen.push(named);
            } else {
                values.iter_mut().for_each(|v| *v = "_other".to_owned());
            }
        }
        let mut values = values.into_iter();
        let mut folder = String::new();
        for part in &self.parts {
            folder += &match part {
                Part::Date => format!("date={}/", at.strftime("%Y-%m-%d")),
                Part::Hour => format!("hour={}/", at.strftime("%H")),
                Part::Field(name) => format!("{name}={}/", values.next().unwrap_or_default()),
            };
        }
        folder
    }
}

/// A value as part of a name: letters, digits, `-`, `_` and `.` as they are, else `%` and two digits. `-` alone and a leading `_` or `.` have a meaning of their own.
fn escaped(value: &str) -> String {
    let mut out = String::new();
    for (i, b) in value.bytes().take(MAX_VALUE).enumerate() {
        let plain = b.is_ascii_alphanumeric() || (matches!(b, b'-' | b'_' | b'.') && i > 0);
        if plain {
            out.push(b as char);
        } else {
            out += &format!("%{b:02X}");
        }
    }
    out
}

/// The name of the object that begins with the event at `origin`: the same each time it is written, so that one written twice replaces itself.
#[must_use]
pub fn object_name(origin: &Origin, node: &str) -> String {
    let queued = jiff::Timestamp::from_millisecond(origin.queued_ms).unwrap_or_default().strftime("%Y%m%dT%H%M%S").to_string();
    format!("{queued}.{:03}-{node}-{}-{}", origin.queued_ms.rem_euclid(1_000), origin.entry, origin.place)
}

#[cfg(test)]
mod tests;
