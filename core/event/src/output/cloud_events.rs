//! CloudEvents 1.0, a batch in JSON.

use super::each;
use crate::json;
use crate::time::{self, TimeForm};
use crate::usual::FieldReader;

/// Where an event stood in its queue: the same each time it is sent, so that a receiver can tell one that comes twice.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Origin {
    /// The queue entry.
    pub entry: i64,
    /// Its place in that, from 0.
    pub place: i64,
    /// The route it came by.
    pub route: String,
    /// When it was queued, in milliseconds since 1970.
    pub queued_ms: i64,
}

/// Lines of JSON as a batch of CloudEvents, each with its origin. `node` tells this sender from others. Returns how many it holds.
pub fn cloud_events(lines: &[u8], origins: &[Origin], node: &str, out: &mut Vec<u8>) -> usize {
    let mut asked = FieldReader::new(&["time"]);
    let reader = time::Reader::new(&TimeForm::default());
    let mut count = 0;
    out.push(b'[');
    for (i, (line, origin)) in each(lines).zip(origins).enumerate() {
        if i > 0 {
            out.push(b',');
        }
        out.extend_from_slice(b"{\"specversion\":\"1.0\",\"type\":\"log.event\",\"datacontenttype\":\"application/json\",\"id\":\"");
        out.extend_from_slice(format!("{}-{}\",\"source\":", origin.entry, origin.place).as_bytes());
        json::quote(format!("{node}/routes/{}", origin.route.replace(' ', "-")).as_bytes(), out);
        asked.read(line);
        // Only what can be read as a time may stand there.
        if let Some(at) = asked.text(line, 0).and_then(|text| reader.read(text, 0)) {
            out.extend_from_slice(b",\"time\":\"");
            time::write(at, out);
            out.push(b'"');
        }
        out.extend_from_slice(b",\"data\":");
        out.extend_from_slice(line);
        out.push(b'}');
        count = i + 1;
    }
    out.push(b']');
    count
}
