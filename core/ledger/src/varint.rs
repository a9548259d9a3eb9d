//! Numbers in LEB128.

/// Adds a number.
#[inline]
pub(crate) fn push(mut number: u64, out: &mut Vec<u8>) {
    while number >= 0x80 {
        out.push(number as u8 | 0x80);
        number >>= 7;
    }
    out.push(number as u8);
}

/// The numbers that stand at the beginning of some bytes; `None` where the bytes end within one, or it has more than 64 bits.
pub(crate) struct Varints<'a>(pub(crate) &'a [u8]);

impl Iterator for Varints<'_> {
    type Item = u64;

    fn next(&mut self) -> Option<u64> {
        let mut number = 0;
        for (at, b) in self.0.iter().enumerate() {
            number |= u64::from(b & 0x7f).checked_shl(7 * at as u32)?;
            if b & 0x80 == 0 {
                self.0 = &self.0[at + 1..];
                return Some(number);
            }
        }
        None
    }
}
