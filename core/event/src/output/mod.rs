//! Events as destinations want them: the lines that leave the routes, written in other open formats.
//!
//! Every function takes events as they leave, JSON objects a line each, and writes to the end of a buffer.

mod cloud_events;
mod line;
mod syslog;

pub use cloud_events::{Origin, cloud_events};
pub use line::{CsvRows, LineTemplate};
pub use syslog::{Syslog, SyslogFacility};

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
