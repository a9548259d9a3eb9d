//! An event as steps and conditions look at it, and the numbers that texts are.

use rockrose_event::field::{FieldId, FieldTable};
use rockrose_event::json::{self, Kind, Span};
use rockrose_event::simd;

/// An event as steps and conditions see it: its bytes and where its fields stand in them.
#[derive(Clone, Copy)]
pub(crate) struct EventView<'a> {
    pub(crate) json: &'a [u8],
    pub(crate) slots: &'a [Span],
    /// When it arrived, in milliseconds since 1970.
    pub(crate) arrived_ms: i64,
}

impl<'a> EventView<'a> {
    pub(crate) fn text(self, fields: &FieldTable, field: FieldId, scratch: &'a mut Vec<u8>) -> Option<&'a [u8]> {
        let span = fields.find(field, self.slots);
        (span.present() && span.kind != Kind::Null).then(|| json::text(self.json, span, scratch))
    }
}

/// The number that the text `around[start..end]` is, if it is one.
#[inline(always)]
pub(crate) fn number_within(around: &[u8], start: usize, end: usize) -> Option<f64> {
    let len = end - start;
    let short = if (1..=8).contains(&len) { simd::decimal(around, start, len) } else { None };
    short.map_or_else(|| number(&around[start..end]), |n| Some(n as f64))
}

/// The number that a text is, if it is one.
pub(crate) fn number(text: &[u8]) -> Option<f64> {
    if !text.first().is_some_and(|b| b.is_ascii_digit() || matches!(b, b'-' | b'+' | b'.')) {
        return None;
    }
    if text.len() <= 15 && text.iter().all(u8::is_ascii_digit) {
        return Some(text.iter().fold(0u64, |n, b| n * 10 + u64::from(b - b'0')) as f64);
    }
    std::str::from_utf8(text).ok()?.parse().ok().filter(|n: &f64| n.is_finite())
}
