//! Makes a small database of places in the MaxMind format, for demonstrations and tests. Large ones come from elsewhere.

use std::net::IpAddr;

use rockrose_event::address::Network;

use crate::Located;

/// One bit of an address further down the tree: another node, or what stands there.
#[derive(Clone, Copy)]
enum Record {
    Nothing,
    Node(usize),
    Place(usize),
}

/// A database of `places`; of networks inside one another, the narrowest counts. Addresses that none covers are not in it.
#[must_use]
pub fn database(places: &[(Network, Located)], made_s: u64) -> Vec<u8> {
    let mut data = Vec::new();
    let mut offsets = Vec::new();
    for (_, place) in places {
        offsets.push(data.len());
        located(place, &mut data);
    }
    let mut nodes: Vec<[Record; 2]> = vec![[Record::Nothing; 2]];
    let mut order: Vec<usize> = (0..places.len()).collect();
    // Wider networks first, so that narrower ones stand below them.
    order.sort_by_key(|i| bits(&places[*i].0).1);
    for i in order {
        insert(&mut nodes, bits(&places[i].0), i);
    }
    let mut out = Vec::new();
    let count = nodes.len();
    for node in &nodes {
        for record in node {
            let value = match record {
                Record::Nothing => count,
                Record::Node(n) => *n,
                Record::Place(i) => count + 16 + offsets[*i],
            };
            out.extend_from_slice(&(value as u32).to_be_bytes());
        }
    }
    out.extend_from_slice(&[0; 16]);
    out.extend_from_slice(&data);
    out.extend_from_slice(b"\xab\xcd\xefMaxMind.com");
    map(9, &mut out);
    for (key, value) in [("binary_format_major_version", 2), ("binary_format_minor_version", 0), ("ip_version", 6), ("record_size", 32)] {
        text(key, &mut out);
        number(5, value, &mut out);
    }
    text("build_epoch", &mut out);
    number(9, made_s, &mut out);
    text("node_count", &mut out);
    number(6, count as u64, &mut out);
    text("database_type", &mut out);
    text("Places", &mut out);
    text("languages", &mut out);
    out.extend_from_slice(&[1, 4]);
    text("en", &mut out);
    text("description", &mut out);
    map(1, &mut out);
    text("en", &mut out);
    text("made-up places", &mut out);
    out
}

/// The network's first bits in a tree of 128, IPv4 under `::/96`, and how many of them count.
fn bits(network: &Network) -> (u128, u8) {
    match network.base {
        IpAddr::V4(v4) => (u128::from(u32::from(v4)), 96 + network.prefix),
        IpAddr::V6(v6) => (u128::from(v6), network.prefix),
    }
}

fn insert(nodes: &mut Vec<[Record; 2]>, (address, prefix): (u128, u8), place: usize) {
    let mut node = 0;
    for depth in 0..prefix.max(1) {
        let side = (address >> (127 - depth) & 1) as usize;
        if depth + 1 == prefix.max(1) {
            nodes[node][side] = Record::Place(place);
            return;
        }
        node = match nodes[node][side] {
            Record::Node(next) => next,
            // What stood here stands on both sides below, until something narrower takes its place.
            above => {
                nodes.push([above; 2]);
                let next = nodes.len() - 1;
                nodes[node][side] = Record::Node(next);
                next
            }
        };
    }
}

fn control(kind: u8, size: usize, out: &mut Vec<u8>) {
    let (short, more) = if size < 29 { (size as u8, None) } else { (29, Some((size - 29).min(255) as u8)) };
    if kind <= 7 {
        out.push(kind << 5 | short);
    } else {
        out.extend_from_slice(&[short, kind - 7]);
    }
    out.extend(more);
}

fn map(pairs: usize, out: &mut Vec<u8>) {
    control(7, pairs, out);
}

fn text(text: &str, out: &mut Vec<u8>) {
    let mut end = text.len().min(284);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    control(2, end, out);
    out.extend_from_slice(&text.as_bytes()[..end]);
}

fn number(kind: u8, value: u64, out: &mut Vec<u8>) {
    let bytes = value.to_be_bytes();
    let from = bytes.iter().position(|b| *b != 0).unwrap_or(8);
    control(kind, 8 - from, out);
    out.extend_from_slice(&bytes[from..]);
}

fn located(place: &Located, out: &mut Vec<u8>) {
    let position = [("latitude", place.latitude), ("longitude", place.longitude)];
    let known = [
        place.country.is_some(),
        place.region.is_some(),
        place.city.is_some(),
        position.iter().any(|(_, d)| d.is_some()),
        place.network.is_some(),
        place.network_name.is_some(),
    ];
    map(known.iter().filter(|k| **k).count(), out);
    let named = |name: &str, out: &mut Vec<u8>| {
        map(1, out);
        text("names", out);
        map(1, out);
        text("en", out);
        text(name, out);
    };
    if let Some(code) = &place.country {
        text("country", out);
        map(1, out);
        text("iso_code", out);
        text(code, out);
    }
    if let Some(region) = &place.region {
        text("subdivisions", out);
        out.extend_from_slice(&[1, 4]);
        named(region, out);
    }
    if let Some(city) = &place.city {
        text("city", out);
        named(city, out);
    }
    if known[3] {
        text("location", out);
        map(position.iter().filter(|(_, d)| d.is_some()).count(), out);
        for (name, degrees) in position {
            if let Some(degrees) = degrees {
                text(name, out);
                control(3, 8, out);
                out.extend_from_slice(&degrees.to_be_bytes());
            }
        }
    }
    if let Some(network) = place.network {
        text("autonomous_system_number", out);
        number(6, u64::from(network), out);
    }
    if let Some(name) = &place.network_name {
        text("autonomous_system_organization", out);
        text(name, out);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Places;

    #[test]
    fn what_is_written_is_found() {
        let network = |text: &str| {
            let (base, prefix) = text.split_once('/').unwrap();
            Network { base: base.parse().unwrap(), prefix: prefix.parse().unwrap() }
        };
        let place = |city: &str| Located { city: Some(city.to_owned()), ..Located::default() };
        let whole = Located {
            country: Some("ZZ".into()),
            region: Some("South".into()),
            city: Some("Lowmere, where the name is a long one".into()),
            latitude: Some(50.5),
            longitude: Some(-4.25),
            network: Some(64_496),
            network_name: Some("Ferries".into()),
        };
        let made = database(
            &[(network("192.0.2.128/25"), place("Quay")), (network("192.0.2.0/24"), whole.clone()), (network("2001:db8::/32"), place("Bay"))],
            1_795_428_000,
        );
        let places = Places::read(made).unwrap();
        let city = |ip: &str| places.find(ip.parse().unwrap()).and_then(|l| l.city);
        assert_eq!(places.find("192.0.2.7".parse().unwrap()), Some(whole));
        assert_eq!(city("192.0.2.200").as_deref(), Some("Quay"));
        assert_eq!(city("::ffff:192.0.2.200").as_deref(), Some("Quay"));
        assert_eq!(city("2001:db8:7::1").as_deref(), Some("Bay"));
        assert_eq!(city("198.51.100.1"), None);
    }
}
