//! Known texts, each with a number: a table that tells a short text from all others in a few instructions.

use crate::simd;

/// A map from texts to numbers that is built once and asked often.
#[derive(Clone, Debug, Default)]
pub struct Texts {
    /// Open-addressed, a power of two long and at most half full.
    index: Vec<Entry>,
    /// What follows the first eight bytes of longer texts.
    rests: Vec<u8>,
    len: usize,
    longest: usize,
}

#[derive(Clone, Copy, Debug)]
struct Entry {
    head: u64,
    /// `u32::MAX` marks a free place.
    len: u32,
    rest: u32,
    number: u32,
}

const FREE: Entry = Entry { head: 0, len: u32::MAX, rest: 0, number: 0 };

/// The first eight bytes, zeros behind a shorter text.
#[inline(always)]
fn head(text: &[u8], start: usize, len: usize) -> u64 {
    let word = simd::eight(text, start);
    if len < 8 { word & ((1 << (8 * len)) - 1) } else { word }
}

#[inline(always)]
fn place(head: u64, text: &[u8], end: usize, len: usize) -> usize {
    // The last eight bytes tell apart what begins alike.
    let tail = if len > 8 { simd::eight(text, end - 8) } else { 0 };
    let mixed = u128::from(head ^ tail.rotate_left(23) ^ (len as u64) << 56) * 0x9e37_79b9_7f4a_7c15;
    (mixed ^ mixed >> 64) as usize
}

impl Texts {
    /// Gives `text` a number; one that it has already is exchanged.
    pub fn insert(&mut self, text: &[u8], number: u32) {
        if (self.len + 1) * 2 > self.index.len() {
            let grown = vec![FREE; (self.index.len() * 2).max(8)];
            let old = std::mem::replace(&mut self.index, grown);
            for entry in old.into_iter().filter(|e| e.len != u32::MAX) {
                let rest = &self.rests[entry.rest as usize..entry.rest as usize + (entry.len as usize).saturating_sub(8)];
                let whole = [&entry.head.to_le_bytes()[..(entry.len as usize).min(8)], rest].concat();
                let free = self.find(&whole, 0, whole.len()).unwrap_or_else(|free| free);
                self.index[free] = entry;
            }
        }
        match self.find(text, 0, text.len()) {
            Ok(known) => self.index[known].number = number,
            Err(free) => {
                self.index[free] = Entry { head: head(text, 0, text.len()), len: text.len() as u32, rest: self.rests.len() as u32, number };
                self.rests.extend_from_slice(text.get(8..).unwrap_or_default());
                self.len += 1;
                self.longest = self.longest.max(text.len());
            }
        }
    }

    /// Where the text stands, or where it would.
    #[inline(always)]
    fn find(&self, text: &[u8], start: usize, end: usize) -> Result<usize, usize> {
        let len = end - start;
        let head = head(text, start, len);
        let mask = self.index.len() - 1;
        let mut at = place(head, text, end, len) & mask;
        loop {
            let entry = &self.index[at];
            if entry.len == u32::MAX {
                return Err(at);
            }
            if entry.head == head
                && entry.len as usize == len
                && (len <= 8 || self.rests[entry.rest as usize..entry.rest as usize + len - 8] == text[start + 8..end])
            {
                return Ok(at);
            }
            at = (at + 1) & mask;
        }
    }

    /// The number of `text[start..end]`, if it is known. What stands around it lets the look be wide.
    #[inline(always)]
    pub fn within(&self, text: &[u8], start: usize, end: usize) -> Option<u32> {
        if end - start > self.longest || self.len == 0 {
            return None;
        }
        self.find(text, start, end).ok().map(|at| self.index[at].number)
    }

    /// The number of `text`, if it is known.
    #[inline]
    pub fn get(&self, text: &[u8]) -> Option<u32> {
        self.within(text, 0, text.len())
    }

    /// Whether no text is known.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// How many texts are known.
    #[must_use]
    pub fn len(&self) -> usize {
        self.len
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn knows_what_was_put_in_and_nothing_else() {
        let mut texts = Texts::default();
        assert_eq!(texts.get(b""), None);
        let names: Vec<String> =
            (0..3_000).map(|i| format!("{}{i}", "name-".repeat(i % 7))).chain([String::new(), "é".into(), "\0".into(), "\0\0".into()]).collect();
        for (i, name) in names.iter().enumerate() {
            texts.insert(name.as_bytes(), i as u32);
        }
        assert_eq!(texts.len(), names.len());
        for (i, name) in names.iter().enumerate() {
            assert_eq!(texts.get(name.as_bytes()), Some(i as u32), "{name}");
            let padded = format!("xx{name}yyyyyyyyyy");
            assert_eq!(texts.within(padded.as_bytes(), 2, 2 + name.len()), Some(i as u32), "{name}");
            assert_eq!(texts.get(format!("{name}?").as_bytes()), None);
        }
        texts.insert(b"", 9);
        assert_eq!((texts.get(b""), texts.len()), (Some(9), names.len()));
    }
}
