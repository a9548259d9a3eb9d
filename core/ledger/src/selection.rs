//! Which lines of a batch an entry stands for.

use crate::varint::{self, Varints};

/// Line numbers of a batch, rising (a line may stand twice in a row), kept as LEB128 differences.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Selection {
    bytes: Vec<u8>,
    last: u32,
    len: u32,
}

impl Selection {
    /// Adds a line that is not before the last one.
    #[inline]
    pub fn push(&mut self, line: u32) {
        debug_assert!(line >= self.last, "lines are added in order");
        varint::push(u64::from(line.wrapping_sub(self.last)), &mut self.bytes);
        self.last = line;
        self.len += 1;
    }

    /// How many lines.
    #[must_use]
    pub fn len(&self) -> usize {
        self.len as usize
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Its stored form.
    #[must_use]
    pub fn as_bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// Calls `each` with every line number in the stored form `bytes`. Says whether the form was whole.
    pub fn read(bytes: &[u8], mut each: impl FnMut(u32)) -> bool {
        let (mut line, mut rest) = (0u32, Varints(bytes));
        for difference in rest.by_ref() {
            let Ok(difference) = u32::try_from(difference) else { return false };
            line = line.wrapping_add(difference);
            each(line);
        }
        rest.0.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn round_trip() {
        let lines = [0, 0, 1, 127, 128, 300, 70_000, u32::MAX];
        let mut s = Selection::default();
        lines.iter().for_each(|l| s.push(*l));
        let mut back = Vec::new();
        assert!(Selection::read(s.as_bytes(), |l| back.push(l)));
        assert_eq!(back, lines);
        assert!(!Selection::read(&[0x80], |_| {}));
        assert!(!Selection::read(&[0xff; 9], |_| {}));
    }
}
