//! What somebody sees of the events at a place.

use std::borrow::Cow;

use rockrose_engine::{Masks, Matcher, MatcherScratch};
use rockrose_language::{Grant, Place};
use rockrose_redact::HashKey;

/// What somebody sees of the events at one place: all, none, or those that meet a condition, as they are or redacted.
pub struct Eye {
    /// Those that hide nothing first.
    ways: Vec<Way>,
    scratch: MatcherScratch,
}

/// One grant at this place.
struct Way {
    when: Option<(Matcher, MatcherScratch)>,
    after: Option<Masks>,
}

impl Eye {
    pub(crate) fn new(grants: &[Grant], place: &Place, key: &HashKey) -> Eye {
        let way = |grant: &Grant| match grant {
            Grant::See { at, when, after } if at.is_empty() || at.contains(place) => Some(Way {
                when: when.as_ref().map(|when| (Matcher::new(when), MatcherScratch::default())),
                after: after.as_ref().map(|step| Masks::new(std::slice::from_ref(&**step), key.clone())),
            }),
            _ => None,
        };
        let mut ways: Vec<Way> = grants.iter().filter_map(way).collect();
        ways.sort_by_key(|way| way.after.is_some());
        Eye { ways, scratch: MatcherScratch::default() }
    }

    /// Whether every event is seen as it is. Only then may be shown what cannot be read as an event.
    #[must_use]
    pub fn sees_all(&self) -> bool {
        self.ways.iter().any(|way| way.when.is_none() && way.after.is_none())
    }

    /// Whether no event can be seen.
    #[must_use]
    pub fn is_blind(&self) -> bool {
        self.ways.is_empty()
    }

    /// The event `json` (one object), which arrived at `arrived_ms` (milliseconds since 1970), as it may be seen; nothing, if it may not be. What is not an event is seen only
    /// where all is.
    #[must_use]
    pub fn shows<'a>(&mut self, json: &'a [u8], arrived_ms: i64) -> Option<Cow<'a, [u8]>> {
        if self.sees_all() {
            return Some(Cow::Borrowed(json));
        }
        let meets = |way: &mut Way| way.when.as_mut().is_none_or(|(when, scratch)| when.meets_next(json, arrived_ms, scratch));
        let way = self.ways.iter_mut().find_map(|way| meets(way).then_some(way))?;
        match &mut way.after {
            None => Some(Cow::Borrowed(json)),
            Some(masks) => masks.done_to(json, arrived_ms).map(Cow::Owned),
        }
    }

    /// As [`Eye::shows`], but only what is an event: whoever writes it need not check that it is one object.
    #[must_use]
    pub fn shows_event<'a>(&mut self, json: &'a [u8], arrived_ms: i64) -> Option<Cow<'a, str>> {
        // Conditions and masks are asked of events only.
        if self.sees_all() && !self.scratch.is_event(json) {
            return None;
        }
        match self.shows(json, arrived_ms)? {
            Cow::Borrowed(json) => std::str::from_utf8(json).ok().map(Cow::Borrowed),
            Cow::Owned(json) => String::from_utf8(json).ok().map(Cow::Owned),
        }
    }
}
