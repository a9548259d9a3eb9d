//! `cost`: what sending costs, to the last place.

use std::collections::BTreeMap;

use clap::{Args, ValueEnum};
use rockrose_api::{Flow, LedgerAnswer, LedgerByTag, LedgerEntry, TagShare, TagValue};
use rockrose_ledger::Money;
use serde_json::json;

use crate::client::Client;
use crate::ledger::{Span, span_in_words};
use crate::{Common, Exit, Outcome, format};

/// What costs are told apart by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum By {
    /// Where events were sent
    Destination,
    /// The routes that sent them
    Route,
    /// The teams to which the routes belong
    Team,
}

/// Which costs are shown.
#[derive(Args)]
pub struct CostArgs {
    #[command(flatten)]
    span: Span,
    /// What the costs are told apart by
    #[arg(long, value_enum, default_value = "destination")]
    by: By,
    /// Show instead what each step of the routes and destinations has saved, by the prices of the destinations where that would have gone
    #[arg(long, conflicts_with = "by")]
    saved: bool,
    /// Show instead what each value of a tag comes to: a field that the plan names in `account_by`
    #[arg(long, value_name = "FIELD", conflicts_with_all = ["by", "saved"])]
    tag: Option<String>,
}

/// Sums of money, by currency.
pub(crate) type Sums = BTreeMap<String, Money>;

/// What one value of a tag comes to, over all destinations.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct TagLine {
    /// The value; of what is of no single one, what it is of, in brackets.
    pub(crate) value: String,
    pub(crate) arrived: (i64, i64),
    pub(crate) sent: (i64, i64),
    pub(crate) costs: Sums,
    pub(crate) saved: Sums,
}

/// The values of a tag, those that cost or send most first.
pub(crate) fn tag_lines(account: &LedgerByTag) -> Vec<TagLine> {
    let add = |sums: &mut Sums, money: Option<&str>, currency: Option<&str>| {
        if let (Some(money), Some(currency)) = (money.and_then(Money::read_exact), currency) {
            *sums.entry(currency.to_owned()).or_default() += money;
        }
    };
    let line = |share: &TagShare| {
        let value = match share.of {
            TagValue::Value => share.value.clone(),
            TagValue::Without => format!("(without {})", account.tag),
            TagValue::Others => "(all other values)".to_owned(),
            TagValue::Before => "(not told apart then)".to_owned(),
        };
        let (mut costs, mut saved) = (Sums::new(), Sums::new());
        share.sent.iter().for_each(|sent| add(&mut costs, sent.money.as_deref(), sent.currency.as_deref()));
        share.saved.iter().for_each(|amount| add(&mut saved, Some(&amount.money), Some(&amount.currency)));
        let sent = share.sent.iter().fold((0, 0), |sum, sent| (sum.0 + sent.events, sum.1 + sent.bytes));
        TagLine { value, arrived: (share.arrived_events, share.arrived_bytes), sent, costs, saved }
    };
    let mut lines: Vec<TagLine> = account.values.iter().map(line).collect();
    let most = |line: &TagLine| (line.costs.values().copied().sum::<Money>(), line.sent.1, line.arrived.1);
    lines.sort_by_key(|line| std::cmp::Reverse(most(line)));
    lines
}

/// Amounts to the hundredth, each with its currency.
fn in_words(sums: &Sums) -> String {
    sums.iter().map(|(currency, money)| format!("{} {currency}", hundredths(*money))).collect::<Vec<_>>().join(" + ")
}

/// The call for the account by a tag in a span.
pub(crate) fn tag_query(tag: &str, span: &str) -> String {
    format!("/api/v1/ledger/by-tag?tag={}&{span}", percent_encoding::utf8_percent_encode(tag, percent_encoding::NON_ALPHANUMERIC))
}

async fn show_tag(common: &Common, client: &Client, tag: &str, span: &Span) -> Outcome {
    let answer = client.get(&tag_query(tag, &span.query())).await?;
    if common.json {
        answer.print()?;
        return Ok(Exit::Done);
    }
    let account: LedgerByTag = answer.read()?;
    let lines = tag_lines(&account);
    if lines.is_empty() {
        return format::line("Nothing was counted in this time.");
    }
    let mut rows: Vec<Vec<String>> = Vec::new();
    let mut all = TagLine { value: "in all".to_owned(), arrived: (0, 0), sent: (0, 0), costs: Sums::new(), saved: Sums::new() };
    for line in &lines {
        all.arrived = (all.arrived.0 + line.arrived.0, all.arrived.1 + line.arrived.1);
        all.sent = (all.sent.0 + line.sent.0, all.sent.1 + line.sent.1);
        for (sums, more) in [(&mut all.costs, &line.costs), (&mut all.saved, &line.saved)] {
            more.iter().for_each(|(currency, money)| *sums.entry(currency.clone()).or_default() += *money);
        }
    }
    for line in lines.iter().chain([&all]) {
        let (events, bytes) = (format::count, |bytes: i64| format::bytes(bytes as f64));
        let amounts = [events(line.arrived.0), bytes(line.arrived.1), events(line.sent.0), bytes(line.sent.1)];
        rows.push([vec![line.value.clone()], amounts.to_vec(), vec![in_words(&line.costs), in_words(&line.saved)]].concat());
    }
    let head = [account.tag.as_str(), "arrived", "bytes", "sent", "bytes", "costs", "saved by steps"];
    format::blocks(&[span_in_words(account.since_ms, account.until_ms), format::table(&head, &[1, 2, 3, 4, 5, 6], rows)])
}

/// What a step has saved, in one currency.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Saved {
    /// `route NAME` or `destination NAME`.
    pub(crate) place: String,
    pub(crate) sentence: String,
    /// Events that it removed.
    pub(crate) events: i64,
    /// Bytes that it removed or took off.
    pub(crate) bytes: i64,
    pub(crate) money: Money,
    pub(crate) currency: String,
}

/// What each step has saved, the most first; those that add more than they take come last.
pub(crate) fn saved(rows: &[LedgerEntry]) -> Vec<Saved> {
    let mut all: Vec<Saved> = Vec::new();
    for row in rows {
        for amount in &row.saved {
            let Some(money) = Money::read_exact(&amount.money) else { continue };
            let place = format!("{} {}", row.place, row.name);
            let events = if row.measure == "removed" { row.events } else { 0 };
            match all.iter_mut().find(|s| s.place == place && s.sentence == row.sentence && s.currency == amount.currency) {
                Some(sum) => {
                    sum.events += events;
                    sum.bytes += row.bytes;
                    sum.money += money;
                }
                None => all.push(Saved { place, sentence: row.sentence.clone(), events, bytes: row.bytes, money, currency: amount.currency.clone() }),
            }
        }
    }
    all.sort_by(|a, b| b.money.cmp(&a.money).then_with(|| (&a.place, &a.sentence).cmp(&(&b.place, &b.sentence))));
    all
}

fn show_saved(common: &Common, account: &LedgerAnswer) -> Outcome {
    let all = saved(&account.rows);
    if common.json {
        let row = |s: &Saved| json!({ "at": s.place, "step": s.sentence, "events": s.events, "bytes": s.bytes, "money": s.money.to_string(), "currency": s.currency });
        return format::print_json(&json!({ "since_ms": account.since_ms, "until_ms": account.until_ms, "rows": all.iter().map(row).collect::<Vec<_>>() }));
    }
    if all.is_empty() {
        return format::line("No step has taken anything from what goes to a destination with a price.");
    }
    let row =
        |s: &Saved| vec![hundredths(s.money), s.currency.clone(), format::count(s.events), format::bytes(s.bytes as f64), s.place.clone(), s.sentence.clone()];
    format::blocks(&[
        span_in_words(account.since_ms, account.until_ms),
        format::table(&["saved", "", "events", "bytes", "at", "step"], &[0, 2, 3], all.iter().map(row).collect()),
    ])
}

/// What one destination, route or team has spent, in one currency.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(crate) struct Spent {
    events: i64,
    bytes: i64,
    pub(crate) money: Money,
}

/// Sums of rows that cost something, by a name and the currency.
pub(crate) fn sums(rows: &[LedgerEntry], name: impl Fn(&LedgerEntry) -> String) -> BTreeMap<(String, String), Spent> {
    let mut all: BTreeMap<(String, String), Spent> = BTreeMap::new();
    for row in rows {
        let (Some(money), Some(currency)) = (row.money.as_deref().and_then(Money::read_exact), &row.currency) else { continue };
        let sum = all.entry((name(row), currency.clone())).or_default();
        // What was spilled to another destination is taken off, as its money is.
        let sign = if row.measure == "spilled" { -1 } else { 1 };
        sum.events += sign * row.events;
        sum.bytes += sign * row.bytes;
        sum.money += money;
    }
    all
}

pub(crate) async fn cost(common: &Common, args: CostArgs) -> Outcome {
    let client = Client::new(common)?;
    if let Some(tag) = &args.tag {
        return show_tag(common, &client, tag, &args.span).await;
    }
    let account: LedgerAnswer = client.get(&format!("/api/v1/ledger?{}", args.span.query())).await?.read()?;
    if args.saved {
        return show_saved(common, &account);
    }
    let teams: BTreeMap<String, String> = match args.by {
        By::Team => {
            let flow: Flow = client.get("/api/v1/flow").await?.read()?;
            flow.routes.into_iter().filter_map(|r| Some((r.name, r.team?))).collect()
        }
        By::Destination | By::Route => BTreeMap::new(),
    };
    let spent = sums(&account.rows, |row| match args.by {
        By::Destination => row.name.clone(),
        By::Route => row.via.clone(),
        By::Team => teams.get(&row.via).cloned().unwrap_or_else(|| "(no team)".to_owned()),
    });
    let mut totals: BTreeMap<&str, Money> = BTreeMap::new();
    spent.iter().for_each(|((_, currency), spent)| *totals.entry(currency).or_default() += spent.money);
    // What is paid by the month is paid for a destination, and by nobody in particular.
    let standing = account.costs.iter().filter_map(|c| Some((c, Money::read_exact(c.standing.as_deref()?)?))).filter(|(_, money)| *money != Money::ZERO);
    let standing: Vec<(&str, Money, &str)> = standing.map(|(c, money)| (c.destination.as_str(), money, c.currency.as_str())).collect();
    standing.iter().for_each(|(_, money, currency)| *totals.entry(currency).or_default() += *money);
    if common.json {
        let rows: Vec<_> = spent
            .iter()
            .map(|((name, currency), s)| json!({ "name": name, "events": s.events, "bytes": s.bytes, "money": s.money.to_string(), "currency": currency }))
            .collect();
        let standing: Vec<_> =
            standing.iter().map(|(name, money, currency)| json!({ "destination": name, "money": money.to_string(), "currency": currency })).collect();
        let totals: Vec<_> = totals.iter().map(|(currency, money)| json!({ "currency": currency, "money": money.to_string() })).collect();
        return format::print_json(
            &json!({ "since_ms": account.since_ms, "until_ms": account.until_ms, "rows": rows, "standing": standing, "totals": totals }),
        );
    }
    if account.costs.is_empty() {
        format::line("No destination has a price. Give one in the plan: `price = { per_gb = 2.40, currency = \"EUR\" }`.")?;
        return Ok(Exit::Done);
    }
    let shown = |money: Money, currency: &str| vec![hundredths(money), currency.to_owned()];
    let mut rows: Vec<Vec<String>> = spent
        .iter()
        .map(|((name, currency), s)| [vec![name.clone(), format::count(s.events), format::bytes(s.bytes as f64)], shown(s.money, currency)].concat())
        .collect();
    rows.extend(
        standing.iter().map(|(name, money, currency)| [vec![format!("{name}, by the month"), String::new(), String::new()], shown(*money, currency)].concat()),
    );
    rows.extend(totals.iter().map(|(currency, money)| [vec!["in all".to_owned(), String::new(), String::new()], shown(*money, currency)].concat()));
    let word = match args.by {
        By::Destination => "destination",
        By::Route => "route",
        By::Team => "team",
    };
    let prices: Vec<String> = account.costs.iter().map(|c| format!("{} bills {}.", c.destination, c.price)).collect();
    format::blocks(&[
        span_in_words(account.since_ms, account.until_ms),
        format::table(&[word, "events", "bytes", "costs", ""], &[1, 2, 3], rows),
        prices.join("\n"),
    ])?;
    Ok(Exit::Done)
}

/// An amount to the hundredth; of less than one, as many places as say something.
pub(crate) fn hundredths(money: Money) -> String {
    let amount = money.to_f64();
    if amount.abs() >= 0.000_000_5 && amount.abs() < 0.01 { format!("{amount:.6}") } else { format!("{:.2}", if amount.abs() < 0.005 { 0.0 } else { amount }) }
}

#[cfg(test)]
mod tests {
    use rockrose_api::{ExactMoney, TagSent};

    use super::*;

    #[test]
    fn values_are_listed_by_what_they_cost() {
        let share = |of, value: &str, money: &str, bytes| TagShare {
            of,
            value: value.into(),
            arrived_events: 3,
            arrived_bytes: 90,
            removed_events: 1,
            removed_bytes: 30,
            sent: ["desk", "vault"]
                .map(|name| TagSent { destination: name.into(), events: 1, bytes, money: Some(money.into()), currency: Some("EUR".into()) })
                .into(),
            saved: vec![ExactMoney { money: "0.0000000001".into(), currency: "EUR".into() }],
        };
        let values =
            vec![share(TagValue::Value, "quays", "0.1", 20), share(TagValue::Value, "desk", "0.30000000001", 10), share(TagValue::Without, "", "0", 1)];
        let account = LedgerByTag { since_ms: None, until_ms: None, now_ms: 0, tag: "team".into(), tags: vec!["team".into()], values };
        let told: Vec<_> = tag_lines(&account).into_iter().map(|line| (line.value, line.sent.1, line.costs["EUR"].to_string())).collect();
        let line = |value: &str, bytes, costs: &str| (value.to_owned(), bytes, costs.to_owned());
        assert_eq!(told, [line("desk", 20, "0.60000000002"), line("quays", 40, "0.20"), line("(without team)", 2, "0.00")]);
    }

    #[test]
    fn steps_are_listed_by_what_they_saved() {
        let row = |sentence: &str, measure: &str, bytes: i64, money: &str| LedgerEntry {
            place: "route".into(),
            name: "gates".into(),
            via: "quays".into(),
            position: 1,
            sentence: sentence.into(),
            measure: measure.into(),
            events: 3,
            bytes,
            current: true,
            last_revision: None,
            money: None,
            currency: None,
            saved: vec![rockrose_api::ExactMoney { money: money.into(), currency: "EUR".into() }],
        };
        let rows = [
            row("tag a = 1", "changed", -30, "-0.3"),
            row("drop b = 1", "removed", 50, "0.5"),
            row("drop b = 1", "removed", 60, "0.6"),
            row("remove c", "changed", 40, "0.4"),
        ];
        let told: Vec<_> = saved(&rows).into_iter().map(|s| (s.sentence, s.events, s.bytes, s.money.to_string())).collect();
        let line = |sentence: &str, events, bytes, money: &str| (sentence.to_owned(), events, bytes, money.to_owned());
        assert_eq!(told, [line("drop b = 1", 6, 110, "1.10"), line("remove c", 0, 40, "0.40"), line("tag a = 1", 0, -30, "-0.30")]);
    }

    #[test]
    fn costs_are_summed_exactly_by_name_and_currency() {
        let row = |name: &str, via: &str, money: Option<&str>, currency: &str| LedgerEntry {
            place: "destination".into(),
            name: name.into(),
            via: via.into(),
            position: 0,
            sentence: String::new(),
            measure: "enqueued".into(),
            events: 1,
            bytes: 10,
            current: true,
            last_revision: None,
            money: money.map(str::to_owned),
            currency: Some(currency.into()),
            saved: Vec::new(),
        };
        let rows = [
            row("desk", "a", Some("0.1000000001"), "EUR"),
            row("vault", "a", Some("0.2"), "EUR"),
            row("far", "a", Some("5"), "USD"),
            row("far", "b", None, "USD"),
        ];
        let spent = sums(&rows, |r| r.via.clone());
        let told: Vec<_> = spent.iter().map(|((name, currency), s)| (name.as_str(), currency.as_str(), s.events, s.money.to_string())).collect();
        assert_eq!(told, [("a", "EUR", 2, "0.3000000001".to_owned()), ("a", "USD", 1, "5.00".to_owned())]);
        assert_eq!(
            ["0", "0.004", "12.345", "-0.0000000000001"].map(|money| hundredths(Money::read_exact(money).unwrap())),
            ["0.00", "0.004000", "12.35", "0.00"]
        );
    }
}
