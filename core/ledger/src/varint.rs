//! Numbers in LEB128.

/// Adds a number.
#[inline]
pub fn push(mut number: u64, out: &mut Vec<u8>) {
    while number >= 0x80 {
        out.push(number as u8 | 0x80);
        number >>= 7;
    }
    out.push(number as u8);
}

/// The numbers that stand at the beginning of some bytes; `None` where the bytes end within one, or it has more than 64 bits.
#[derive(Clone, Debug)]
pub struct Varints<'a>(pub &'a [u8]);

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

/// Adds a number that may be below zero, so that small ones of either sign are short.
#[inline]
pub fn push_signed(number: i64, out: &mut Vec<u8>) {
    push(((number << 1) ^ (number >> 63)) as u64, out);
}

/// The number that [`push_signed`] wrote as this one.
#[must_use]
pub fn signed(number: u64) -> i64 {
    (number >> 1) as i64 ^ -((number & 1) as i64)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signed_numbers_come_back() {
        let all = [0, 1, -1, 63, -64, 64, 300, -300, i64::MAX, i64::MIN];
        let mut bytes = Vec::new();
        all.iter().for_each(|number| push_signed(*number, &mut bytes));
        assert_eq!(Varints(&bytes).map(signed).collect::<Vec<_>>(), all);
        assert_eq!(bytes[..4], [0, 2, 1, 126]);
    }
}
