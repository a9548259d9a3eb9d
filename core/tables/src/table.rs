//! Tables that `look up` and `locate` ask: rows of a CSV file by key, places of addresses by a database in the MaxMind format.
//!
//! The caller reads the files; here their bytes become a [`Table`]. A [`TableSlot`] is what a running plan holds: its table can be exchanged while events are processed.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, PoisonError, RwLock};

use rockrose_event::address::address;
use rockrose_event::json::{Kind, quote};
use rockrose_event::scan::value_at;
use rockrose_event::texts::Texts;

/// Most rows of a CSV table.
const MAX_ROWS: usize = 2_000_000;

/// How a value is found among the keys of a CSV table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Match {
    /// A key that is the value, byte by byte.
    Exact,
    /// A key that is the value, case ignored.
    IgnoreCase,
    /// The longest key that the value begins with.
    Prefix,
    /// The narrowest network that the address lies in.
    Network,
}

impl Match {
    /// All ways, in the order in which messages name them.
    pub const ALL: [Match; 4] = [Match::Exact, Match::IgnoreCase, Match::Prefix, Match::Network];

    /// The word for it in a plan.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["exact", "ignore case", "prefix", "network"][self as usize]
    }
}

/// What is wrong with a table's file.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TableError {
    /// A line of a CSV file that cannot be read.
    #[error("line {line}: {reason}")]
    Line {
        /// Which line, from 1.
        line: usize,
        /// What is wrong with it.
        reason: String,
    },
    /// A database that cannot be read.
    #[error("not a database of places: {0}")]
    Database(String),
}

/// A table in memory.
#[derive(Debug)]
pub enum Table {
    /// A table of rows, found by their key.
    Rows(Rows),
    /// Places by address.
    Places(Box<Places>),
}

/// A CSV table.
#[derive(Debug)]
pub struct Rows {
    /// The columns' names, the key's left out.
    pub columns: Vec<String>,
    /// Values by row, each a JSON text.
    rows: Vec<Vec<Vec<u8>>>,
    find: Find,
}

#[derive(Debug)]
enum Find {
    Text {
        keys: Texts,
        ignore_case: bool,
    },
    Prefix {
        lengths: Vec<usize>,
        keys: Texts,
    },
    /// By prefix length, longest first: the networks' first bits.
    Network(Vec<(u8, HashMap<u128, u32>)>),
}

fn network_bits(ip: IpAddr) -> u128 {
    match ip.to_canonical() {
        IpAddr::V4(v4) => u128::from(v4.to_ipv6_mapped()),
        IpAddr::V6(v6) => u128::from(v6),
    }
}

fn masked(bits: u128, prefix: u8) -> u128 {
    bits & u128::MAX.checked_shl(128 - u32::from(prefix)).unwrap_or(0)
}

/// The columns besides `key` that the first line of a CSV file names, of which `beginning` is at least that line. `None` if it does not name them, or lacks the key.
#[must_use]
pub fn columns(beginning: &[u8], key: &str) -> Option<Vec<String>> {
    let end = beginning.iter().rposition(|b| *b == b'\n').map_or(beginning.len(), |end| end + 1);
    let text = std::str::from_utf8(&beginning[..end]).ok()?;
    let (_, mut header) = csv_records(text.strip_prefix('\u{feff}').unwrap_or(text)).next()?;
    header.remove(header.iter().position(|column| column == key)?);
    Some(header)
}

impl Rows {
    /// Reads a CSV file whose first line names the columns, among them `key`.
    pub fn read(file: &[u8], key: &str, how: Match) -> Result<Rows, TableError> {
        let wrong = |line: usize, reason: String| TableError::Line { line, reason };
        let text = std::str::from_utf8(file).map_err(|_| wrong(1, "the file is not UTF-8".to_owned()))?;
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        let mut records = csv_records(text);
        let (_, header) = records.next().ok_or_else(|| wrong(1, "the file is empty".to_owned()))?;
        let place = header.iter().position(|c| c == key).ok_or_else(|| wrong(1, format!("there is no column `{key}`")))?;
        let mut columns = header.clone();
        columns.remove(place);
        let mut rows = Vec::new();
        let (mut keys, mut lengths) = (Texts::default(), Vec::new());
        let mut networks: HashMap<u8, HashMap<u128, u32>> = HashMap::new();
        for (line, mut record) in records {
            if record.len() != header.len() {
                return Err(wrong(line, format!("{} values, but {} columns", record.len(), header.len())));
            }
            if rows.len() == MAX_ROWS {
                return Err(wrong(line, "more than 2 000 000 rows".to_owned()));
            }
            let key = record.remove(place);
            let number = rows.len() as u32;
            match how {
                Match::Exact => keys.insert(key.as_bytes(), number),
                Match::IgnoreCase => keys.insert(key.to_lowercase().as_bytes(), number),
                Match::Prefix => {
                    lengths.push(key.len());
                    keys.insert(key.as_bytes(), number);
                }
                Match::Network => {
                    let (address, prefix) = key.split_once('/').map_or((key.as_str(), None), |(a, p)| (a, Some(p)));
                    let ip: IpAddr = address.trim().parse().map_err(|_| wrong(line, format!("`{key}` is not a network")))?;
                    let width = if ip.is_ipv4() { 32 } else { 128 };
                    let prefix = prefix.map_or(Ok(width), |p| p.trim().parse::<u8>().ok().filter(|p| *p <= width).ok_or(()));
                    let prefix = prefix.map_err(|()| wrong(line, format!("`{key}` is not a network")))? + (128 - width);
                    networks.entry(prefix).or_default().insert(masked(network_bits(ip), prefix), number);
                }
            }
            rows.push(record.iter().map(|value| token(value)).collect());
        }
        lengths.sort_unstable_by(|a, b| b.cmp(a));
        lengths.dedup();
        let find = match how {
            Match::Exact | Match::IgnoreCase => Find::Text { keys, ignore_case: how == Match::IgnoreCase },
            Match::Prefix => Find::Prefix { lengths, keys },
            Match::Network => {
                let mut networks: Vec<_> = networks.into_iter().collect();
                networks.sort_by_key(|(prefix, _)| std::cmp::Reverse(*prefix));
                Find::Network(networks)
            }
        };
        Ok(Rows { columns, rows, find })
    }

    /// How many rows there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// The values (as JSON) of the row that `value` finds.
    #[must_use]
    pub fn find(&self, value: &[u8]) -> Option<&[Vec<u8>]> {
        let number = match &self.find {
            Find::Text { keys, ignore_case: false } => keys.get(value)?,
            Find::Text { keys, .. } => keys.get(String::from_utf8_lossy(value).to_lowercase().as_bytes())?,
            Find::Prefix { lengths, keys } => lengths.iter().filter(|len| **len <= value.len()).find_map(|len| keys.within(value, 0, *len))?,
            Find::Network(networks) => {
                let bits = network_bits(address(value)?);
                networks.iter().find_map(|(prefix, of)| of.get(&masked(bits, *prefix)).copied())?
            }
        };
        self.rows.get(number as usize).map(Vec::as_slice)
    }
}

/// A value as JSON: numbers and truth values as they are, all else as text.
fn token(value: &str) -> Vec<u8> {
    let plain = value.len() <= 15
        && !value.is_empty()
        && (value == "true"
            || value == "false"
            || value_at(value.as_bytes(), 0).is_ok_and(|s| s.kind == Kind::Number && s.start == 0 && s.end as usize == value.len()));
    if plain {
        return value.as_bytes().to_vec();
    }
    let mut out = Vec::new();
    quote(value.as_bytes(), &mut out);
    out
}

/// The records of a CSV text (RFC 4180), each with the line it begins on.
fn csv_records(text: &str) -> impl Iterator<Item = (usize, Vec<String>)> {
    let mut chars = text.chars().peekable();
    let mut line = 1;
    std::iter::from_fn(move || {
        loop {
            chars.peek()?;
            let began = line;
            let (mut record, mut value, mut quoted, mut any) = (Vec::new(), String::new(), false, false);
            loop {
                match chars.next() {
                    Some('"') if quoted && chars.peek() == Some(&'"') => {
                        chars.next();
                        value.push('"');
                    }
                    Some('"') if quoted => quoted = false,
                    Some('"') if value.is_empty() => (quoted, any) = (true, true),
                    Some(',') if !quoted => {
                        any = true;
                        record.push(std::mem::take(&mut value));
                    }
                    Some('\r') if !quoted && chars.peek() == Some(&'\n') => {}
                    Some('\n') if !quoted => {
                        line += 1;
                        break;
                    }
                    Some(c) => {
                        line += usize::from(c == '\n');
                        value.push(c);
                    }
                    None => break,
                }
            }
            if any || !value.is_empty() {
                record.push(value);
                return Some((began, record));
            }
        }
    })
}

/// A database of places in the MaxMind format.
pub struct Places {
    reader: maxminddb::Reader<Vec<u8>>,
}

impl std::fmt::Debug for Places {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Places(…)")
    }
}

/// What is known of an address.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Located {
    /// ISO 3166-1 code.
    pub country: Option<String>,
    /// The first subdivision's name.
    pub region: Option<String>,
    /// The city's name.
    pub city: Option<String>,
    /// Degrees north.
    pub latitude: Option<f64>,
    /// Degrees east.
    pub longitude: Option<f64>,
    /// The number of its autonomous system.
    pub network: Option<u32>,
    /// The name of its autonomous system.
    pub network_name: Option<String>,
}

impl Places {
    /// Reads a database.
    pub fn read(file: Vec<u8>) -> Result<Places, TableError> {
        maxminddb::Reader::from_source(file).map(|reader| Places { reader }).map_err(|e| TableError::Database(e.to_string()))
    }

    /// What the database says of an address.
    #[must_use]
    pub fn find(&self, ip: IpAddr) -> Option<Located> {
        let said: serde_json::Value = self.reader.lookup(ip.to_canonical()).ok()?.decode().ok()??;
        let text = |pointer: &str| said.pointer(pointer).and_then(|v| v.as_str()).map(str::to_owned);
        let number = |pointer: &str| said.pointer(pointer).and_then(serde_json::Value::as_f64);
        Some(Located {
            country: text("/country/iso_code"),
            region: text("/subdivisions/0/names/en"),
            city: text("/city/names/en"),
            latitude: number("/location/latitude"),
            longitude: number("/location/longitude"),
            network: number("/autonomous_system_number").map(|n| n as u32),
            network_name: text("/autonomous_system_organization"),
        })
    }
}

/// A table that a running plan asks; it may be exchanged at any time, and may be missing.
#[derive(Debug, Default)]
pub struct TableSlot {
    table: RwLock<Option<Arc<Table>>>,
}

impl TableSlot {
    /// A slot with a table in it.
    #[must_use]
    pub fn of(table: Table) -> TableSlot {
        TableSlot { table: RwLock::new(Some(Arc::new(table))) }
    }

    /// The table, if there is one.
    #[must_use]
    pub fn get(&self) -> Option<Arc<Table>> {
        self.table.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Puts another table in its place.
    pub fn set(&self, table: Table) {
        *self.table.write().unwrap_or_else(PoisonError::into_inner) = Some(Arc::new(table));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn find(how: Match, file: &str, value: &str) -> Option<Vec<String>> {
        let rows = Rows::read(file.as_bytes(), "key", how).unwrap();
        rows.find(value.as_bytes()).map(|r| r.iter().map(|v| String::from_utf8_lossy(v).into_owned()).collect())
    }

    #[test]
    fn rows_are_found_in_four_ways() {
        let file = "port,key,berths\nTansy Quay,TQ,4\n\"Marrow \"\"Old\"\" Bay\",mb,\"2,5\"\r\n\nLowmere,TQ-2,0\n";
        assert_eq!(find(Match::Exact, file, "TQ").unwrap(), ["\"Tansy Quay\"", "4"]);
        assert_eq!(find(Match::Exact, file, "MB"), None);
        assert_eq!(find(Match::IgnoreCase, file, "MB").unwrap(), ["\"Marrow \\\"Old\\\" Bay\"", "\"2,5\""]);
        assert_eq!(find(Match::Prefix, file, "TQ-27").unwrap()[0], "\"Lowmere\"");
        assert_eq!(find(Match::Prefix, file, "TQx").unwrap()[0], "\"Tansy Quay\"");
        let networks = "key,who\n192.0.2.0/24,quays\n192.0.2.128/25,kiosks\n2001:db8::/32,six\n198.51.100.7,one\n";
        for (ip, who) in [
            ("192.0.2.1", "\"quays\""),
            ("192.0.2.200", "\"kiosks\""),
            ("2001:db8::9", "\"six\""),
            ("198.51.100.7", "\"one\""),
            ("::ffff:192.0.2.1", "\"quays\""),
        ] {
            assert_eq!(find(Match::Network, networks, ip).unwrap(), [who], "{ip}");
        }
        assert_eq!(find(Match::Network, networks, "203.0.113.1"), None);
        assert_eq!(find(Match::Network, networks, "kiosk"), None);
    }

    #[test]
    fn a_wrong_file_says_where() {
        let wrong = |file: &str, how| Rows::read(file.as_bytes(), "key", how).map(|_| ()).unwrap_err().to_string();
        assert_eq!(wrong("key,a\nx,1\ny\n", Match::Exact), "line 3: 1 values, but 2 columns");
        assert_eq!(wrong("name,a\n", Match::Exact), "line 1: there is no column `key`");
        assert_eq!(wrong("key\nquay\n", Match::Network), "line 2: `quay` is not a network");
        assert!(Places::read(b"no database".to_vec()).is_err());
    }
}
