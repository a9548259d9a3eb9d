//! Reads fields out of one event after another: those of given paths, and those that every receiver asks for, under their usual names.

use crate::field::{FieldId, FieldTable, Path};
use crate::json::{self, Span};
use crate::scan;
use crate::time::{self, TimeForm};

/// Names under which senders write the host, best first.
pub const HOST_NAMES: &[&str] = &["host.name", "hostname", "host"];
/// Names under which they write the application.
pub const APP_NAMES: &[&str] = &["service.name", "service", "app"];

/// Fields asked of one event after the other.
pub(crate) struct FieldReader {
    table: FieldTable,
    fields: Vec<FieldId>,
    slots: Vec<Span>,
    scratch: Vec<u8>,
}

impl FieldReader {
    /// For the fields of these names, each a path with dots or a view.
    pub(crate) fn new(names: &[&str]) -> FieldReader {
        let mut table = FieldTable::with_resource();
        let fields = names.iter().map(|name| table.want(&Path::of(name.split('.').map(str::to_owned).collect()))).collect();
        FieldReader { table, fields, slots: Vec::new(), scratch: Vec::new() }
    }

    /// Reads an event; what is no event has no fields.
    pub(crate) fn read(&mut self, event: &[u8]) {
        if scan::scan_edited(event, &self.table, &mut self.slots).is_err() {
            self.slots.clear();
            self.slots.resize(self.table.slots(), Span::MISSING);
        }
    }

    /// Where the value of a field stands, by its place in the list.
    pub(crate) fn span(&self, at: usize) -> Span {
        self.table.find(self.fields[at], &self.slots)
    }

    /// The value of a field as text; nothing where it is missing or null.
    pub(crate) fn text<'a>(&'a mut self, event: &'a [u8], at: usize) -> Option<&'a [u8]> {
        let span = self.span(at);
        (span.present() && span.kind != json::Kind::Null).then(|| json::text(event, span, &mut self.scratch))
    }
}

/// The time, the severity and some other fields of one event after the other.
pub struct Usual {
    asked: FieldReader,
    reader: time::Reader,
    /// Where each list of names begins among the fields asked.
    lists: Vec<std::ops::Range<usize>>,
}

impl Usual {
    /// Asks as well for the first that is there of each list of names.
    #[must_use]
    pub fn new(lists: &[&[&str]]) -> Usual {
        let mut names = vec!["time", "severity", "message"];
        let mut ranges = Vec::new();
        for list in lists {
            ranges.push(names.len()..names.len() + list.len());
            names.extend(*list);
        }
        Usual { asked: FieldReader::new(&names), reader: time::Reader::new(&TimeForm::default()), lists: ranges }
    }

    /// Reads an event; what is no event has no fields.
    pub fn read(&mut self, event: &[u8]) {
        self.asked.read(event);
    }

    /// Its time, if it has one that can be read. `now_ms` completes one that names no year.
    pub fn time(&mut self, event: &[u8], now_ms: i64) -> Option<jiff::Timestamp> {
        self.asked.text(event, 0).and_then(|text| self.reader.read(text, now_ms))
    }

    /// Reads an event, and says how long ago by its own time it happened, in milliseconds; below nothing, where its clock is ahead. Nothing, if it has no time that can be read.
    pub fn age_ms(&mut self, event: &[u8], now_ms: i64) -> Option<i64> {
        self.read(event);
        self.time(event, now_ms).map(|time| now_ms - time.as_millisecond())
    }

    /// Its severity, as it is written.
    pub fn severity(&mut self, event: &[u8]) -> Option<String> {
        Some(String::from_utf8_lossy(self.asked.text(event, 1)?).into_owned())
    }

    /// Its message, as text.
    pub fn message<'a>(&'a mut self, event: &'a [u8]) -> Option<&'a [u8]> {
        self.asked.text(event, 2)
    }

    /// The first that is there of the list of names at `list`, as text.
    pub fn text_of(&mut self, event: &[u8], list: usize) -> Option<String> {
        let found = self.lists[list].clone().find(|at| self.asked.span(*at).present())?;
        Some(String::from_utf8_lossy(self.asked.text(event, found)?).into_owned())
    }
}
