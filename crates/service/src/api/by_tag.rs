//! The account by the values of a tag: who arrived, was sent where, and what that costs.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use rockrose_intake::Problem;
use rockrose_ledger::{Account, Amount, BEFORE, Measure, Money, OTHER, WITHOUT};
use rockrose_plan::CheckedPlan;
use serde::Deserialize;
use utoipa::IntoParams;

use super::extract::Asked;
use super::ledger::LedgerQuery;
use super::types::{ExactMoney, LedgerByTag, TagSent, TagShare, TagValue};
use super::{spool_problem, types};
use crate::{App, now_ms};

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct TagQuery {
    /// A tag that the plan accounts by, as the plan writes it; left out, the first. What was counted by one that the plan had earlier is told as well.
    tag: Option<String>,
    /// Only the last so many minutes; left out, everything since the beginning.
    minutes: Option<i64>,
    /// Only from here on, in milliseconds since 1970; the minute in which it lies counts whole. Not together with `minutes`.
    from_ms: Option<i64>,
    /// Only up to here, in milliseconds since 1970; the minute in which it lies counts whole. Not together with `minutes`.
    to_ms: Option<i64>,
}

/// The account by the values of a tag, which add up to the account itself.
#[utoipa::path(get, path = "/api/v1/ledger/by-tag", tag = "verify", params(TagQuery), responses((status = 200, body = types::LedgerByTag), (status = 400, body = types::Problem), (status = 401, body = types::Problem)))]
pub(crate) async fn by_tag(State(app): State<Arc<App>>, Asked(query): Asked<TagQuery>) -> Result<Json<LedgerByTag>, Problem> {
    let now = now_ms();
    let TagQuery { tag, minutes, from_ms, to_ms } = query;
    let (since, until) = LedgerQuery { minutes, from_ms, to_ms }.span(now)?;
    let running = app.engine.running();
    let plan = &running.checked;
    let tags: Vec<String> = plan.account_by.iter().map(ToString::to_string).collect();
    let none = |detail: String| Problem::new(StatusCode::BAD_REQUEST, "no-such-tag", "No such tag", &detail);
    let asked = tag.or_else(|| tags.first().cloned());
    let Some(tag) = asked else {
        return Err(none("the plan tells its account apart by no tag: `account_by = [\"team\"]` above its first section does".to_owned()));
    };
    let told = app.spool.by_tag(&tag, since, until).await.map_err(|e| spool_problem(&e))?;
    if told.is_empty() && !tags.contains(&tag) {
        return Err(none(format!("the account was never told apart by `{tag}`; the plan does so by {}", types::listed(&tags))));
    }
    let counted = told.into_iter().map(|(value, row)| (value, row.account, row.amount)).collect();
    Ok(Json(LedgerByTag { since_ms: since.map(|m| m * 60_000), until_ms: until.map(|m| m * 60_000), now_ms: now, values: shares(plan, counted), tag, tags }))
}

/// What a value comes to, as far as it is added up.
#[derive(Default)]
struct Share {
    arrived: Amount,
    removed: Amount,
    sent: BTreeMap<String, Amount>,
    saved: BTreeMap<String, Money>,
}

fn shares(plan: &CheckedPlan, counted: Vec<(String, Account, Amount)>) -> Vec<TagShare> {
    let prices = types::Prices::of(plan);
    let mut all: BTreeMap<String, Share> = BTreeMap::new();
    for (value, account, amount) in counted {
        let share = all.entry(value).or_default();
        match account.measure {
            Measure::Passed => share.arrived += amount,
            Measure::Enqueued => *share.sent.entry(account.name.clone()).or_default() += amount,
            Measure::Spilled => {
                let sent = share.sent.entry(account.name.clone()).or_default();
                *sent = *sent - amount;
            }
            Measure::Removed => share.removed += amount,
            _ => {}
        }
        for (currency, money) in prices.saved(&account, amount) {
            *share.saved.entry(currency.to_owned()).or_default() += money;
        }
    }
    let shown = |(value, share): (String, Share)| {
        let sent = |(destination, amount): (String, Amount)| {
            let price = prices.billed(&Account::at_destination(&destination, "", Measure::Enqueued));
            TagSent {
                events: amount.events,
                bytes: amount.bytes,
                money: price.map(|price| price.of(amount).to_string()),
                currency: price.map(|price| price.currency.clone()),
                destination,
            }
        };
        let of = match value.as_str() {
            WITHOUT => TagValue::Without,
            OTHER => TagValue::Others,
            BEFORE => TagValue::Before,
            _ => TagValue::Value,
        };
        TagShare {
            of,
            value: if of == TagValue::Value { value } else { String::new() },
            arrived_events: share.arrived.events,
            arrived_bytes: share.arrived.bytes,
            removed_events: share.removed.events,
            removed_bytes: share.removed.bytes,
            sent: share.sent.into_iter().filter(|(_, amount)| !amount.is_zero()).map(sent).collect(),
            saved: share.saved.into_iter().map(|(currency, money)| ExactMoney { money: money.to_string(), currency }).collect(),
        }
    };
    let mut shown: Vec<TagShare> = all.into_iter().map(shown).collect();
    shown.sort_by_key(|share| share.of as usize);
    shown
}

#[cfg(test)]
mod tests {
    use rockrose_ledger::Stage;

    use super::*;

    #[test]
    fn a_value_is_billed_for_what_is_sent_and_not_spilled() {
        let plan = CheckedPlan::read(
            "account_by = ['team']\n[source.s]\nkind = 'http'\nlisten = '127.0.0.1:1'\n[destination.desk]\nkind = 'discard'\nprice = { per_gb = 2, currency = 'EUR' }\n\
             [destination.vault]\nkind = 'discard'\n[[route]]\nname = 'web'\nto = ['desk', 'vault']\n",
        )
        .unwrap();
        let at = |name: &str, measure| Account::at_destination(name, "web", measure);
        let step = Account { stage: Stage::Route, name: "web".into(), via: "s".into(), position: 1, sentence: "drop a = 1".into(), measure: Measure::Removed };
        let passed = Account { stage: Stage::Source, name: "s".into(), via: String::new(), position: 0, sentence: String::new(), measure: Measure::Passed };
        let of = |value: &str, account: &Account, events, bytes| (value.to_owned(), account.clone(), Amount { events, bytes });
        let told = shares(
            &plan,
            vec![
                of(BEFORE, &passed, 9, 90),
                of("quays", &passed, 4, 4_000),
                of("quays", &step, 1, 1_000),
                of("quays", &at("desk", Measure::Enqueued), 3, 3_000),
                of("quays", &at("desk", Measure::Spilled), 1, 1_000),
                of("quays", &at("vault", Measure::Enqueued), 4, 4_000),
                of(WITHOUT, &passed, 1, 10),
                of(OTHER, &passed, 2, 20),
            ],
        );
        let kinds: Vec<_> = told.iter().map(|share| (share.of, share.value.as_str(), share.arrived_events)).collect();
        assert_eq!(kinds, [(TagValue::Value, "quays", 4), (TagValue::Without, "", 1), (TagValue::Others, "", 2), (TagValue::Before, "", 9)]);
        let sent: Vec<_> = told[0].sent.iter().map(|s| (s.destination.as_str(), s.events, s.bytes, s.money.as_deref())).collect();
        assert_eq!(sent, [("desk", 2, 2_000, Some("0.000004")), ("vault", 4, 4_000, None)]);
        assert_eq!((told[0].removed_events, told[0].saved[0].money.as_str()), (1, "0.000002"));
    }
}
