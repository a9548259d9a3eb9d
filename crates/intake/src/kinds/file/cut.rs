//! Cuts what was read of a file into whole lines.

/// What was cut.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Cut {
    /// How many bytes are done with.
    pub(super) used: usize,
    /// Lines that were longer than an event may be.
    pub(super) too_long: u64,
}

/// Moves the whole lines of `bytes` to `out`; with `last`, what stands behind the last line end is a line too. A line longer than `max` is cut, and the rest of it passed over.
pub(super) fn lines(bytes: &[u8], last: bool, max: usize, passing: &mut bool, out: &mut Vec<u8>) -> Cut {
    let mut cut = Cut::default();
    if *passing {
        match memchr::memchr(b'\n', bytes) {
            Some(end) => (*passing, cut.used) = (false, end + 1),
            None => return Cut { used: bytes.len(), too_long: 0 },
        }
    }
    let (from, mut plain) = (cut.used, cut.used);
    for end in memchr::memchr_iter(b'\n', &bytes[from..]).map(|e| e + from) {
        if end - cut.used > max {
            out.extend_from_slice(&bytes[plain..cut.used]);
            shortened(&bytes[cut.used..cut.used + max], out);
            cut.too_long += 1;
            plain = end + 1;
        }
        cut.used = end + 1;
    }
    out.extend_from_slice(&bytes[plain..cut.used]);
    let rest = &bytes[cut.used..];
    if rest.len() > max {
        shortened(&rest[..max], out);
        cut.too_long += 1;
        (cut.used, *passing) = (bytes.len(), !last);
    } else if last && !rest.is_empty() {
        out.extend_from_slice(rest);
        out.push(b'\n');
        cut.used = bytes.len();
    }
    cut
}

/// A line that was cut is text: JSON that breaks off could not be read.
pub(crate) fn shortened(beginning: &[u8], out: &mut Vec<u8>) {
    out.extend_from_slice(b"{\"message\":");
    rockrose_event::json::quote(String::from_utf8_lossy(beginning).as_bytes(), out);
    out.extend_from_slice(b",\"cut\":true}\n");
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whole_lines_go_and_long_ones_are_cut() {
        let cut = |text: &str, last, passing| {
            let (mut out, mut passing) = (Vec::new(), passing);
            let cut = lines(text.as_bytes(), last, 8, &mut passing, &mut out);
            (String::from_utf8(out).unwrap(), cut.used, cut.too_long, passing)
        };
        let s = |t: &str| t.to_owned();
        assert_eq!(cut("one\ntwo\nthr", false, false), (s("one\ntwo\n"), 8, 0, false));
        assert_eq!(cut("one\ntwo\nthr", true, false), (s("one\ntwo\nthr\n"), 11, 0, false));
        assert_eq!(cut("thr", false, false), (s(""), 0, 0, false));
        let long = "{\"message\":\"12345678\",\"cut\":true}\n";
        assert_eq!(cut("a\n1234567890\nb\n", false, false), (format!("a\n{long}b\n"), 15, 1, false));
        assert_eq!(cut("a\n1234567890", false, false), (format!("a\n{long}"), 12, 1, true));
        assert_eq!(cut("a\n1234567890", true, false), (format!("a\n{long}"), 12, 1, false));
        assert_eq!(cut("90\nb\n", false, true), (s("b\n"), 5, 0, false));
        assert_eq!(cut("90", false, true), (s(""), 2, 0, true));
        assert_eq!(cut("12345678\n", false, false), (s("12345678\n"), 9, 0, false));
    }
}
