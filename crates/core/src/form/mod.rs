//! Events as destinations want them: the lines that leave the routes, written in other open formats.
//!
//! Every function takes events as they leave, JSON objects a line each, and writes to the end of a buffer.

mod cloud_events;
mod line;
mod syslog;
mod usual;

pub use cloud_events::{Origin, cloud_events};
pub use line::{CsvRows, LineTemplate};
pub use syslog::{Syslog, SyslogFacility};
pub use usual::{APP_NAMES, HOST_NAMES, Usual};

use crate::field::{FieldTable, Path};
use crate::json::{self, Span};

/// Lines of JSON as one JSON array.
pub fn json_array(lines: &[u8], out: &mut Vec<u8>) {
    out.push(b'[');
    for (i, line) in each(lines).enumerate() {
        if i > 0 {
            out.push(b',');
        }
        out.extend_from_slice(line);
    }
    out.push(b']');
}

/// The lines, without their line ends.
pub fn each(lines: &[u8]) -> impl Iterator<Item = &[u8]> {
    lines.split(|b| *b == b'\n').filter(|line| !line.is_empty())
}

/// Fields asked of one event after the other.
struct Asked {
    table: FieldTable,
    fields: Vec<crate::field::FieldId>,
    slots: Vec<Span>,
    scratch: Vec<u8>,
}

impl Asked {
    /// For the fields of these names, each a path with dots or a view.
    fn new(names: &[&str]) -> Asked {
        let mut table = FieldTable::with_resource();
        let fields = names.iter().map(|name| table.want(&Path::of(name.split('.').map(str::to_owned).collect()))).collect();
        Asked { table, fields, slots: Vec::new(), scratch: Vec::new() }
    }

    /// Reads an event; what is no event has no fields.
    fn read(&mut self, event: &[u8]) {
        if json::scan_edited(event, &self.table, &mut self.slots).is_err() {
            self.slots.clear();
            self.slots.resize(self.table.slots(), Span::MISSING);
        }
    }

    /// Where the value of a field stands, by its place in the list.
    fn span(&self, at: usize) -> Span {
        self.table.find(self.fields[at], &self.slots)
    }

    /// The value of a field as text; nothing where it is missing or null.
    fn text<'a>(&'a mut self, event: &'a [u8], at: usize) -> Option<&'a [u8]> {
        let span = self.span(at);
        (span.present() && span.kind != json::Kind::Null).then(|| json::text(event, span, &mut self.scratch))
    }
}

#[cfg(test)]
mod tests;
