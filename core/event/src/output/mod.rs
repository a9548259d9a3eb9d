//! Events as destinations want them: the lines that leave the routes, written in other open formats.
//!
//! Every function takes events as they leave, JSON objects a line each, and writes to the end of a buffer.

mod cloud_events;
mod line;
mod portable;
mod stretch;
mod syslog;

pub use cloud_events::{Origin, cloud_events};
pub use line::{CsvRows, LineTemplate};
pub use portable::{Rewritten, portable};
pub use stretch::{NoStretch, QueuePlace, Stretch};
pub use syslog::{FACILITIES, SEVERITIES, Syslog, SyslogFacility};

/// Lines of JSON as one JSON array. Returns how many it holds.
pub fn json_array(lines: &[u8], out: &mut Vec<u8>) -> usize {
    let mut count = 0;
    out.push(b'[');
    for line in each(lines) {
        if count > 0 {
            out.push(b',');
        }
        out.extend_from_slice(line);
        count += 1;
    }
    out.push(b']');
    count
}

/// The lines, without their line ends.
pub fn each(lines: &[u8]) -> impl Iterator<Item = &[u8]> {
    lines.split(|b| *b == b'\n').filter(|line| !line.is_empty())
}
