//! Where a plain run inside a JSON string ends, many bytes at a time.
//!
//! The one module with `unsafe`: looks at so many bytes at a place, loads of sixteen bytes, and what is done with them. SSE2 is asked for (which costs nothing, since every x86-64
//! processor has it), and SSSE3 where bytes change places; on other processors, and at the end of a text, eight bytes are looked at in plain arithmetic. A test holds the two equal.

const ONES: u64 = 0x0101_0101_0101_0101;
const HIGH: u64 = 0x8080_8080_8080_8080;

/// Bytes of `word` that end a plain run inside a string: quote, backslash, control. High bit of each.
#[inline]
fn stops(word: u64) -> u64 {
    let quote = word ^ (ONES * b'"' as u64);
    let slash = word ^ (ONES * b'\\' as u64);
    let zero = |x: u64| x.wrapping_sub(ONES) & !x;
    // A false hit is only possible above a true one, so the lowest set bit is always right.
    (zero(quote) | zero(slash) | (word.wrapping_sub(ONES * 0x20) & !word)) & HIGH
}

/// The `N` bytes at `at`, if there are as many. One comparison, where a range costs three.
#[inline(always)]
pub fn chunk<const N: usize>(text: &[u8], at: usize) -> Option<&[u8; N]> {
    if text.len() >= N && at <= text.len() - N {
        // SAFETY: `at + N` is at most the length, as was just seen, and an array of bytes may stand anywhere.
        #[allow(unsafe_code)]
        return Some(unsafe { &*text.as_ptr().add(at).cast::<[u8; N]>() });
    }
    None
}

/// The eight bytes at `at`, or fewer with zeros behind, the first byte lowest.
#[inline(always)]
pub fn eight(text: &[u8], at: usize) -> u64 {
    match chunk::<8>(text, at) {
        Some(bytes) => u64::from_le_bytes(*bytes),
        None => last_few(text, at),
    }
}

/// The fewer than eight bytes from `at` to the end, zeros behind.
#[inline]
fn last_few(text: &[u8], at: usize) -> u64 {
    let rest = text.get(at..).unwrap_or_default();
    if let (Some(bytes), false) = (text.last_chunk::<8>(), rest.is_empty()) {
        // The last eight bytes, without those before.
        return u64::from_le_bytes(*bytes) >> (8 * (8 - rest.len()));
    }
    match (rest, rest.first_chunk::<4>(), rest.last_chunk::<4>()) {
        // Of four to seven the halves overlap, and hold the same where they do.
        (_, Some(first), Some(last)) => u64::from(u32::from_le_bytes(*first)) | u64::from(u32::from_le_bytes(*last)) << (8 * (rest.len() - 4)),
        ([a, b, c], ..) => u64::from(u32::from_le_bytes([*a, *b, *c, 0])),
        ([a, b], ..) => u64::from(u16::from_le_bytes([*a, *b])),
        ([a], ..) => u64::from(*a),
        _ => 0,
    }
}

/// What stands in sixteen bytes of a string: a bit for each, the first byte lowest.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Marks {
    /// Quotation marks.
    pub quotes: u32,
    /// Backslashes.
    pub slashes: u32,
    /// Control characters.
    pub controls: u32,
}

impl Marks {
    #[inline(always)]
    /// Looks at sixteen bytes.
    #[must_use]
    pub fn of(chunk: &[u8; 16]) -> Marks {
        #[cfg(target_arch = "x86_64")]
        if sse2::is_there() {
            return Marks { quotes: sse2::equal_to(chunk, b'"'), slashes: sse2::equal_to(chunk, b'\\'), controls: sse2::controls(chunk) };
        }
        Marks::plain(chunk)
    }

    /// Finds them with plain instructions, where the processor has no others.
    fn plain(chunk: &[u8; 16]) -> Marks {
        let bits = |is: fn(u8) -> bool| chunk.iter().rev().fold(0, |bits, byte| bits << 1 | u32::from(is(*byte)));
        Marks { quotes: bits(|b| b == b'"'), slashes: bits(|b| b == b'\\'), controls: bits(|b| b < 0x20) }
    }

    /// Those that end a plain run.
    #[inline(always)]
    pub fn stops(self) -> u32 {
        self.quotes | self.slashes | self.controls
    }
}

/// For each set of bits, where each of eight bytes goes when a backslash stands before each whose bit is set, the first byte lowest; the backslash is the ninth.
static SLASHED: [[u8; 16]; 256] = {
    let mut from = [[8; 16]; 256];
    let mut marked = 0;
    while marked < 256 {
        let (mut at, mut to) = (0, 0);
        while at < 8 {
            to += marked >> at & 1;
            from[marked][to] = at as u8;
            (at, to) = (at + 1, to + 1);
        }
        marked += 1;
    }
    from
};

/// Appends `text` from `at` on to `out`, a backslash before each quote and backslash, sixteen bytes at a time; up to sixteen that hold a control character, or until fewer are left.
/// Returns where it stopped.
#[inline]
pub fn slash(text: &[u8], at: usize, out: &mut Vec<u8>) -> usize {
    #[cfg(target_arch = "x86_64")]
    if std::is_x86_feature_detected!("ssse3") && std::is_x86_feature_detected!("popcnt") {
        // SAFETY: the processor has both, as was just seen.
        #[allow(unsafe_code)]
        return unsafe { ssse3::slash(text, at, out) };
    }
    plain_slash(text, at, out)
}

/// Writes the text with plain instructions, where the processor has no others.
fn plain_slash(text: &[u8], mut at: usize, out: &mut Vec<u8>) -> usize {
    while let Some(bytes) = chunk::<16>(text, at) {
        let marks = Marks::of(bytes);
        if marks.controls != 0 {
            break;
        }
        for byte in bytes {
            if matches!(byte, b'"' | b'\\') {
                out.push(b'\\');
            }
            out.push(*byte);
        }
        at += 16;
    }
    at
}

/// How many of the first `len` bytes of `word`, at the most eight, stand before the first that ends a plain run inside a string.
#[inline(always)]
pub fn plain_of_8(word: u64, len: usize) -> usize {
    ((stops(word).trailing_zeros() / 8) as usize).min(len)
}

/// How many of the eight bytes of `word`, from the lowest, are ASCII digits.
#[inline(always)]
pub fn digits(word: u64) -> usize {
    // A digit has 3 in its upper half and at most 9 in its lower.
    let odd = (word ^ (ONES * 0x30)) & (ONES * 0xf0) | ((word & (ONES * 0x0f)) + ONES * 6) & (ONES * 0x10);
    (odd.trailing_zeros() / 8) as usize
}

/// The number that the `len` bytes at `at` (1 to 8) write in decimal digits, if they are nothing else.
#[inline(always)]
pub fn decimal(text: &[u8], at: usize, len: usize) -> Option<u64> {
    // Zeros before the first digit make it eight.
    let before = 8 * (8 - len as u32);
    let word = eight(text, at) << before | (ONES * 0x30) & ((1 << before) - 1);
    if digits(word) != 8 {
        return None;
    }
    // Neighbours are put together: digits to pairs, pairs to fours, fours to eight.
    let pairs = (word & (ONES * 0x0f)).wrapping_mul(10 << 8 | 1) >> 8 & 0x00ff_00ff_00ff_00ff;
    let fours = pairs.wrapping_mul(100 << 16 | 1) >> 16 & 0x0000_ffff_0000_ffff;
    Some(fours.wrapping_mul(10_000 << 32 | 1) >> 32)
}

/// The first place at or behind `at` that holds a quote, a backslash or a control character; the text's length if there is none.
#[inline(always)]
pub fn string_stop(text: &[u8], mut at: usize) -> usize {
    #[cfg(target_arch = "x86_64")]
    while sse2::is_there()
        && let Some(chunk) = chunk::<16>(text, at)
    {
        let hits = sse2::string_stops(chunk);
        if hits != 0 {
            return at + hits.trailing_zeros() as usize;
        }
        at += 16;
    }
    plain_stop(text, at)
}

/// The first place at or behind `at` that holds `byte`. For what is expected near: it is looked for without a call.
#[inline(always)]
pub fn find(text: &[u8], mut at: usize, byte: u8) -> Option<usize> {
    #[cfg(target_arch = "x86_64")]
    while sse2::is_there()
        && let Some(chunk) = chunk::<16>(text, at)
    {
        let hits = sse2::equal_to(chunk, byte);
        if hits != 0 {
            return Some(at + hits.trailing_zeros() as usize);
        }
        at += 16;
    }
    memchr::memchr(byte, text.get(at..)?).map(|n| at + n)
}

/// Every place that holds `byte`, in order: for what is met every few hundred bytes.
#[inline(always)]
pub fn each(text: &[u8], byte: u8, mut found: impl FnMut(usize)) {
    let mut at = 0;
    #[cfg(target_arch = "x86_64")]
    while sse2::is_there()
        && let Some(chunk) = chunk::<64>(text, at)
    {
        let mut hits = sse2::all_equal_to(chunk, byte);
        while hits != 0 {
            found(at + hits.trailing_zeros() as usize);
            hits &= hits - 1;
        }
        at += 64;
    }
    memchr::memchr_iter(byte, &text[at..]).for_each(|n| found(at + n));
}

/// Finds the byte with plain instructions, where the processor has no others.
#[inline(never)]
fn plain_stop(text: &[u8], mut at: usize) -> usize {
    while let Some(bytes) = chunk::<8>(text, at) {
        let hits = stops(u64::from_le_bytes(*bytes));
        if hits != 0 {
            return at + (hits.trailing_zeros() / 8) as usize;
        }
        at += 8;
    }
    // The zeros behind the last bytes stop it as well, at the end.
    let hits = stops(last_few(text, at));
    (at + (hits.trailing_zeros() / 8) as usize).min(text.len())
}

/// Whether the first `len` bytes of `text` are those of `name`.
#[inline(always)]
pub fn begins_with(text: &[u8; 32], name: &[u8; 32], len: u8) -> bool {
    #[cfg(target_arch = "x86_64")]
    if sse2::is_there() {
        return sse2::begins_with(text, name, len);
    }
    plain_begins_with(text, name, len)
}

/// Compares with plain instructions, where the processor has no others.
fn plain_begins_with(text: &[u8; 32], name: &[u8; 32], len: u8) -> bool {
    text[..len as usize] == name[..len as usize]
}

#[cfg(target_arch = "x86_64")]
mod ssse3 {
    use std::arch::x86_64::{_mm_loadl_epi64, _mm_loadu_si128, _mm_set1_epi8, _mm_shuffle_epi8, _mm_storeu_si128, _mm_unpacklo_epi64};

    use super::{Marks, SLASHED, chunk};

    #[target_feature(enable = "ssse3,popcnt")]
    pub(super) fn slash(text: &[u8], mut at: usize, out: &mut Vec<u8>) -> usize {
        while let Some(bytes) = chunk::<16>(text, at) {
            let marks = Marks::of(bytes);
            if marks.controls != 0 {
                break;
            }
            at += 16;
            let marked = marks.stops();
            if marked == 0 {
                out.extend_from_slice(bytes);
                continue;
            }
            let (halves, _) = bytes.as_chunks::<8>();
            for (half, marked) in halves.iter().zip([marked as u8, (marked >> 8) as u8]) {
                let mut slashed = [0; 16];
                // SAFETY: eight bytes are loaded from eight, sixteen from sixteen, and sixteen stored to sixteen; each may stand anywhere.
                #[allow(unsafe_code)]
                unsafe {
                    let source = _mm_unpacklo_epi64(_mm_loadl_epi64(half.as_ptr().cast()), _mm_set1_epi8(b'\\' as i8));
                    let from = _mm_loadu_si128(SLASHED[usize::from(marked)].as_ptr().cast());
                    _mm_storeu_si128(slashed.as_mut_ptr().cast(), _mm_shuffle_epi8(source, from));
                }
                let end = out.len() + 8 + marked.count_ones() as usize;
                out.extend_from_slice(&slashed);
                out.truncate(end);
            }
        }
        at
    }
}

#[cfg(target_arch = "x86_64")]
mod sse2 {
    use std::arch::x86_64::{_mm_cmpeq_epi8, _mm_loadu_si128, _mm_min_epu8, _mm_movemask_epi8, _mm_or_si128, _mm_set1_epi8};

    /// Whether the processor has it: every x86-64 processor does, so that a build for one knows the answer and the question costs nothing.
    #[inline(always)]
    pub(super) fn is_there() -> bool {
        std::is_x86_feature_detected!("sse2")
    }

    /// Whether the first `len` bytes are the same. Most names are done with the first sixteen.
    #[inline(always)]
    pub(super) fn begins_with(a: &[u8; 32], b: &[u8; 32], len: u8) -> bool {
        // SAFETY: the references cover the twice sixteen bytes that are loaded, and an unaligned load may start anywhere. SSE2 is part of x86-64.
        #[allow(unsafe_code)]
        let equal = |at: usize| unsafe {
            let same = _mm_cmpeq_epi8(_mm_loadu_si128(a.as_ptr().add(at).cast()), _mm_loadu_si128(b.as_ptr().add(at).cast()));
            _mm_movemask_epi8(same) as u32
        };
        let first = equal(0).trailing_ones();
        first >= u32::from(len) || (first == 16 && 16 + equal(16).trailing_ones() >= u32::from(len))
    }

    /// A bit for each byte of `chunk` that is `byte`, the first lowest.
    #[inline(always)]
    pub(super) fn equal_to(chunk: &[u8; 16], byte: u8) -> u32 {
        // SAFETY: the reference covers the sixteen bytes that are loaded, and an unaligned load may start anywhere. SSE2 is part of x86-64.
        #[allow(unsafe_code)]
        unsafe {
            _mm_movemask_epi8(_mm_cmpeq_epi8(_mm_loadu_si128(chunk.as_ptr().cast()), _mm_set1_epi8(byte as i8))) as u32
        }
    }

    /// A bit for each of 64 bytes that is `byte`, the first byte lowest.
    #[inline(always)]
    pub(super) fn all_equal_to(chunk: &[u8; 64], byte: u8) -> u64 {
        let (parts, _) = chunk.as_chunks::<16>();
        parts.iter().rev().fold(0, |hits, part| hits << 16 | u64::from(equal_to(part, byte)))
    }

    /// A bit for each byte of `chunk` that is a control character, the first byte lowest.
    #[inline(always)]
    pub(super) fn controls(chunk: &[u8; 16]) -> u32 {
        // SAFETY: the reference covers the sixteen bytes that are loaded, and an unaligned load may start anywhere. SSE2 is part of x86-64.
        #[allow(unsafe_code)]
        unsafe {
            let bytes = _mm_loadu_si128(chunk.as_ptr().cast());
            _mm_movemask_epi8(_mm_cmpeq_epi8(_mm_min_epu8(bytes, _mm_set1_epi8(0x1f)), bytes)) as u32
        }
    }

    /// A bit for each byte of `chunk` that ends a plain run, the first byte lowest.
    #[inline(always)]
    pub(super) fn string_stops(chunk: &[u8; 16]) -> u32 {
        // SAFETY: the reference covers the sixteen bytes that are loaded, and an unaligned load may start anywhere. SSE2 is part of x86-64.
        #[allow(unsafe_code)]
        unsafe {
            let bytes = _mm_loadu_si128(chunk.as_ptr().cast());
            let quote = _mm_cmpeq_epi8(bytes, _mm_set1_epi8(b'"' as i8));
            let slash = _mm_cmpeq_epi8(bytes, _mm_set1_epi8(b'\\' as i8));
            let control = _mm_cmpeq_epi8(_mm_min_epu8(bytes, _mm_set1_epi8(0x1f)), bytes);
            _mm_movemask_epi8(_mm_or_si128(_mm_or_si128(quote, slash), control)) as u32
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_ways_stop_at_the_same_place() {
        for stop in 0..=255u8 {
            let stops_there = stop < 0x20 || matches!(stop, b'"' | b'\\');
            for at in 0..90 {
                let mut text = vec![b'x'; 90];
                text[at] = stop;
                for from in [0, 1, 7] {
                    let expected = if stops_there && at >= from { at } else { 90 };
                    assert_eq!((string_stop(&text, from), plain_stop(&text, from)), (expected, expected), "byte {stop} at {at} from {from}");
                }
            }
        }
        assert_eq!(string_stop(b"", 0), 0);
    }

    #[test]
    fn both_ways_mark_and_slash_alike() {
        for byte in 0..=255u8 {
            for at in 0..16 {
                let mut chunk = *b"Tansy \"Quay\", \\\n";
                chunk[at] = byte;
                assert_eq!(Marks::of(&chunk), Marks::plain(&chunk));
                assert_eq!(Marks::of(&chunk).stops() >> at & 1 == 1, byte < 0x20 || matches!(byte, b'"' | b'\\'));
            }
        }
        for marked in 0..=65_535u32 {
            let text: Vec<u8> = (0..16).map(|at| if marked >> at & 1 == 0 { b'a' + at } else { *[b'"', b'\\'].get(at as usize % 2).unwrap() }).collect();
            let (mut out, mut plain) = (Vec::new(), Vec::new());
            assert_eq!((slash(&text, 0, &mut out), plain_slash(&text, 0, &mut plain)), (16, 16));
            assert_eq!(out, plain);
            assert_eq!(out.len(), 16 + marked.count_ones() as usize);
        }
        // Up to what holds a control character, and never into the last few.
        let text = b"gate \"4\", a line that is long\nenough";
        let mut out = Vec::new();
        assert_eq!(slash(text, 0, &mut out), 16);
        assert_eq!(out, b"gate \\\"4\\\", a line");
    }

    #[test]
    fn the_last_few_bytes_are_followed_by_zeros() {
        let text = *b"Tansy Quay, gate 4";
        for len in 0..text.len() {
            for at in len.saturating_sub(7)..=len {
                let mut expected = [0; 8];
                expected[..len - at].copy_from_slice(&text[at..len]);
                assert_eq!(last_few(&text[..len], at).to_le_bytes(), expected, "{at} of {len}");
            }
        }
    }

    #[test]
    fn a_byte_is_found_where_it_first_stands() {
        for len in 0..70 {
            for at in 0..len {
                let mut text = vec![b'x'; len];
                text[at] = b' ';
                for from in [0, 1, 17] {
                    assert_eq!(find(&text, from, b' '), text.iter().enumerate().position(|(i, b)| i >= from && *b == b' '), "{len} {at} {from}");
                }
            }
            assert_eq!(find(&vec![b'x'; len], 0, b' '), None);
        }
    }

    #[test]
    fn every_place_is_found_once() {
        for step in [1, 3, 63, 64, 65, 200] {
            for len in [0, 1, 63, 64, 65, 500] {
                let text: Vec<u8> = (0..len).map(|i| if i % step == 0 { b'\n' } else { b'x' }).collect();
                let mut places = Vec::new();
                each(&text, b'\n', |at| places.push(at));
                assert_eq!(places, (0..len).step_by(step).collect::<Vec<_>>());
            }
        }
    }

    #[test]
    fn both_ways_compare_alike() {
        let name = *b"\"trace_id\":\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0";
        for odd in 0..32 {
            let mut text = name;
            text[odd] ^= 1;
            for len in 0..=32 {
                assert_eq!(begins_with(&text, &name, len), plain_begins_with(&text, &name, len), "{odd} {len}");
                assert_eq!(begins_with(&text, &name, len), odd >= len as usize);
            }
        }
    }

    #[test]
    fn decimals_are_read_as_the_library_reads_them() {
        for text in ["0", "7", "42", "999", "1000", "65535", "123456", "9999999", "12345678", "00000012", "1a", "-1", "+5", "12 4", "/", ":", "1234567é"] {
            let around = format!("<{text}>");
            let len = text.len().min(8);
            let expected = text.as_bytes()[..len].iter().all(u8::is_ascii_digit).then(|| text[..len].parse().unwrap());
            assert_eq!((decimal(around.as_bytes(), 1, len), decimal(text.as_bytes(), 0, len)), (expected, expected), "{text}");
        }
    }

    #[test]
    fn digits_are_counted_to_the_first_other_byte() {
        for (text, count) in [("12345678", 8), ("1234567x", 7), ("x", 0), ("9,8", 1), ("0/0", 1), ("0:0", 1), ("", 0), ("77\u{e9}", 2), ("3\u{0}3", 1)] {
            assert_eq!(digits(eight(text.as_bytes(), 0)), count, "{text}");
        }
        for b in 0..=255u8 {
            assert_eq!(digits(u64::from_le_bytes([b'5', b, b'5', b, 0, 0, 0, 0])) > 1, b.is_ascii_digit(), "{b}");
        }
    }
}
