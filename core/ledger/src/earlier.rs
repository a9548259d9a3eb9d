//! How events stood before the steps of their destination.

use crate::varint::{self, Varints};

/// How events stood earlier, as differences from how they leave, in the order of their lines. Most steps change little of an event, so that little is kept.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Earlier {
    bytes: Vec<u8>,
    /// Some event differs.
    differs: bool,
}

/// How one event stood earlier: the bytes that it begins and ends with are those with which it leaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Difference<'a> {
    before: usize,
    behind: usize,
    between: &'a [u8],
}

impl Earlier {
    /// Adds an event that stood as `earlier` and leaves as `leaving`.
    pub fn push(&mut self, earlier: &[u8], leaving: &[u8]) {
        if earlier == leaving {
            self.bytes.push(0);
            return;
        }
        self.differs = true;
        let before = common_begin(earlier, leaving);
        let behind = common_end(&earlier[before..], &leaving[before..]);
        let between = &earlier[before..earlier.len() - behind];
        // 0 stands for an event that does not differ.
        for number in [before + 1, behind, between.len()] {
            varint::push(number as u64, &mut self.bytes);
        }
        self.bytes.extend_from_slice(between);
    }

    /// Its stored form; empty if no event differs.
    #[must_use]
    pub fn as_bytes(&self) -> &[u8] {
        if self.differs { &self.bytes } else { &[] }
    }

    /// The differences in the stored form `bytes`, one for each event in order; `None` for one that leaves as it stood. It ends early where the form is broken.
    pub fn read(bytes: &[u8]) -> impl Iterator<Item = Option<Difference<'_>>> {
        let mut rest = Varints(bytes);
        std::iter::from_fn(move || {
            let mut number = || rest.next().and_then(|n| usize::try_from(n).ok());
            let before = number()?;
            if before == 0 {
                return Some(None);
            }
            let (behind, len) = (number()?, number()?);
            let (between, behind_it) = rest.0.split_at_checked(len)?;
            rest.0 = behind_it;
            Some(Some(Difference { before: before - 1, behind, between }))
        })
    }
}

impl Difference<'_> {
    /// How the event stood that leaves as `leaving`; `None` if this is the difference of another one.
    #[must_use]
    pub fn earlier(&self, leaving: &[u8]) -> Option<Vec<u8>> {
        if self.before.checked_add(self.behind)? > leaving.len() {
            return None;
        }
        Some([&leaving[..self.before], self.between, &leaving[leaving.len() - self.behind..]].concat())
    }
}

/// Bytes that are compared at once.
const BLOCK: usize = 16;

/// How many bytes both begin with.
fn common_begin(a: &[u8], b: &[u8]) -> usize {
    let blocks = a.chunks_exact(BLOCK).zip(b.chunks_exact(BLOCK)).take_while(|(a, b)| a == b).count() * BLOCK;
    blocks + a[blocks..].iter().zip(&b[blocks..]).take_while(|(a, b)| a == b).count()
}

/// How many bytes both end with.
fn common_end(a: &[u8], b: &[u8]) -> usize {
    let blocks = a.rchunks_exact(BLOCK).zip(b.rchunks_exact(BLOCK)).take_while(|(a, b)| a == b).count() * BLOCK;
    let rest = a[..a.len() - blocks].iter().rev().zip(b[..b.len() - blocks].iter().rev());
    blocks + rest.take_while(|(a, b)| a == b).count()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn events_come_back_as_they_stood() {
        let pairs: &[(&str, &str)] = &[
            (r#"{"a":1,"mail":"ann@post.example"}"#, r#"{"a":1,"mail":"***"}"#),
            ("{}", "{}"),
            ("{}", r#"{"tag":1}"#),
            (r#"{"a":1}"#, "{}"),
            ("aaaa", "aa"),
            ("aa", "aaaa"),
            ("", "x"),
            ("x", ""),
            ("same", "same"),
            ("left", "right"),
        ];
        let mut earlier = Earlier::default();
        pairs.iter().for_each(|(before, after)| earlier.push(before.as_bytes(), after.as_bytes()));
        let stored = earlier.as_bytes();
        let back: Vec<Option<Difference<'_>>> = Earlier::read(stored).collect();
        assert_eq!(back.len(), pairs.len());
        for (difference, (before, after)) in back.iter().zip(pairs) {
            let stood = difference.map_or_else(|| after.as_bytes().to_vec(), |d| d.earlier(after.as_bytes()).unwrap());
            assert_eq!(stood, before.as_bytes(), "{after}");
        }
        assert!(stored.len() < 80, "little is kept: {}", stored.len());
    }

    #[test]
    fn nothing_is_kept_of_events_that_no_step_changed() {
        let mut earlier = Earlier::default();
        (0..9).for_each(|_| earlier.push(b"{}", b"{}"));
        assert!(earlier.as_bytes().is_empty());
    }

    #[test]
    fn what_is_broken_ends_early_and_fits_no_other_event() {
        let mut earlier = Earlier::default();
        earlier.push(b"a long event that stood", b"a short event that stood");
        let stored = earlier.as_bytes();
        assert_eq!(Earlier::read(stored).count(), 1);
        for cut in 0..stored.len() {
            assert_eq!(Earlier::read(&stored[..cut]).count(), 0, "{cut}");
        }
        assert_eq!(Earlier::read(&[0xff; 12]).count(), 0);
        assert_eq!(Earlier::read(stored).next().unwrap().unwrap().earlier(b"a"), None);
    }
}
