//! Which lines of a batch an entry stands for.

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
        let mut difference = line.wrapping_sub(self.last);
        while difference >= 0x80 {
            self.bytes.push(difference as u8 | 0x80);
            difference >>= 7;
        }
        self.bytes.push(difference as u8);
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
        let (mut line, mut part, mut shift) = (0u32, 0u32, 0u32);
        for &b in bytes {
            let Some(bits) = u32::from(b & 0x7f).checked_shl(shift) else { return false };
            part |= bits;
            if b & 0x80 != 0 {
                shift += 7;
            } else {
                line = line.wrapping_add(part);
                each(line);
                (part, shift) = (0, 0);
            }
        }
        shift == 0
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
