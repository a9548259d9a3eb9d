//! Numbers as RFC 8259 writes them, eight digits at a time.

use crate::simd;

/// Where the number that begins at `at` ends, or what is wrong with it and where.
#[inline(always)]
pub(super) fn number_end(json: &[u8], mut at: usize) -> Result<usize, (usize, &'static str)> {
    if json.get(at) == Some(&b'-') {
        at += 1;
    }
    let word = simd::eight(json, at);
    let mut count = simd::digits(word);
    if count == 0 {
        return Err((at, "a number without digits"));
    }
    if word & 0xff == u64::from(b'0') && count > 1 {
        return Err((at + 1, "a number that begins with a zero"));
    }
    at += count;
    if count == 8 {
        at = more_digits(json, at);
    }
    let mut next = json.get(at).copied().unwrap_or(0);
    if next == b'.' {
        at += 1;
        count = simd::digits(simd::eight(json, at));
        if count == 0 {
            return Err((at, "a decimal point without digits"));
        }
        at += count;
        if count == 8 {
            at = more_digits(json, at);
        }
        next = json.get(at).copied().unwrap_or(0);
    }
    if next | 0x20 == b'e' {
        at += 1;
        if matches!(json.get(at), Some(b'+' | b'-')) {
            at += 1;
        }
        let end = more_digits(json, at);
        if end == at {
            return Err((at, "an exponent without digits"));
        }
        at = end;
    }
    Ok(at)
}

#[inline(never)]
fn more_digits(json: &[u8], mut at: usize) -> usize {
    loop {
        let count = simd::digits(simd::eight(json, at));
        at += count;
        if count < 8 {
            return at;
        }
    }
}
