//! Steps that would save something, or keep personal data from leaving.

use rockrose_ledger::{Amount, Price};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::Volume;

/// A step that is worth a thought. It is never applied by itself.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Suggestion {
    /// The same for the same sentence at the same place.
    pub id: String,
    /// `personal data`, `health checks`, `repetitive messages`, `repeats`, `unread field`, `long texts` or `copies`.
    pub reason: String,
    /// The part of the plan at the end of whose list it would stand: `route:NAME` or `destination:NAME`.
    pub part: String,
    /// The sentence.
    pub step: String,
    /// What was found, in a sentence.
    pub because: String,
    /// What it would save in a month, at all destinations together.
    pub saves: Volume,
    /// The share of the bytes that its part sends, 0 to 1.
    pub share: f64,
    /// What that comes to in money.
    pub money: Vec<SavedMoney>,
}

/// Money that is saved in a month.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SavedMoney {
    /// How much.
    pub amount: f64,
    /// ISO 4217 code.
    pub currency: String,
}

/// Suggestions for the active plan.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SuggestionsAnswer {
    /// The active revision.
    pub revision: i64,
    /// How many events of the samples were looked at.
    pub events: u64,
    /// The stretch of real time, in milliseconds, from which a month is estimated; nothing, if too little has flowed.
    pub estimated_from_ms: Option<i64>,
    /// Those that protect somebody first, then by the money that they save.
    pub suggestions: Vec<Suggestion>,
    /// How many were left out, since they were declined.
    pub declined: usize,
}

/// A suggestion was declined, or is made again.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Declined {
    /// Its id.
    pub id: String,
    /// Whether it is declined now.
    pub declined: bool,
}

impl Suggestion {
    /// Fills in what was found: `month` makes amounts of a month out of those that were measured, `price` knows what a destination bills.
    #[must_use]
    pub fn new<'a>(found: &rockrose_suggest::Suggestion, month: impl Fn(Amount) -> Amount, price: impl Fn(&str) -> Option<&'a Price>) -> Suggestion {
        let mut money: Vec<SavedMoney> = Vec::new();
        for (destination, saved) in &found.saves {
            let Some(price) = price(destination) else { continue };
            let amount = price.of(month(*saved)).to_f64();
            match money.iter_mut().find(|m| m.currency == price.currency) {
                Some(sum) => sum.amount += amount,
                None => money.push(SavedMoney { amount, currency: price.currency.clone() }),
            }
        }
        let saved = month(Amount { events: found.saves.iter().map(|(_, saved)| saved.events).sum(), bytes: found.bytes() });
        Suggestion {
            id: found.id.clone(),
            reason: found.reason.word().to_owned(),
            part: found.part.clone(),
            step: found.step.clone(),
            because: found.because.clone(),
            saves: Volume { events: saved.events, bytes: saved.bytes },
            share: if found.of.bytes > 0 { found.bytes() as f64 / found.of.bytes as f64 } else { 0.0 },
            money,
        }
    }
}
