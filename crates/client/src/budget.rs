//! `budget`: how much may pass, how much did, and what is done by it.

use clap::Subcommand;
use reqwest::Method;
use rockrose_api::{BudgetAct, BudgetLift, BudgetState, BudgetsAnswer};
use serde_json::json;

use crate::client::Client;
use crate::{Common, Outcome, format};

/// What is done with budgets.
#[derive(Subcommand)]
pub enum BudgetCommand {
    /// Show how much of each budget is used, what is to be expected, and what is done by it
    List,
    /// Let nothing be done by a budget until its period is over; it is still counted
    Lift {
        /// The budget's name
        name: String,
        /// Let steps act by it again
        #[arg(long)]
        end: bool,
    },
}

/// An amount in a budget's unit.
fn amount(of: f64, unit: &str) -> String {
    match unit {
        "bytes" => format::bytes(of),
        "events" => format::count(of.round() as i64),
        currency => format!("{of:.2} {currency}"),
    }
}

fn number(text: &str) -> f64 {
    text.parse().unwrap_or_default()
}

/// A budget's share as words, and how bad it is.
fn state(b: &BudgetState) -> String {
    let expected = b.forecast.map_or(0.0, |f| f.expected) >= number(&b.most);
    let (word, code) = match (b.lift.is_some(), b.percent >= 100, expected) {
        (true, ..) => ("lifted", format::FAINT),
        (_, true, _) => ("used up", format::BAD),
        (_, _, true) => ("will not suffice", format::BAD),
        _ => ("fine", format::GOOD),
    };
    format::paint(word, code)
}

fn act(b: &BudgetState, act: &BudgetAct) -> String {
    let did = match (act.acts, act.events) {
        (true, n) => format!("acts now; {} events, {} in this period", format::count(n), format::bytes(act.bytes as f64)),
        (false, 0) => "has not acted in this period".to_owned(),
        (false, n) => format!("does not act now; {} events, {} in this period", format::count(n), format::bytes(act.bytes as f64)),
    };
    format!("{}: `{}` at {}, {did}.", b.name, act.sentence, act.at)
}

fn list(answer: &BudgetsAnswer) -> Outcome {
    if answer.budgets.is_empty() {
        return format::line("The plan has no budgets. One is a section `[budget.NAME]` with what it allows: allows = '40 GB a day at destination:NAME'.");
    }
    let row = |b: &BudgetState| {
        let expected =
            b.forecast.map_or_else(String::new, |f| format!("{} ({} to {})", amount(f.expected, &b.unit), amount(f.low, &b.unit), amount(f.high, &b.unit)));
        let left = format::age(b.ends_ms - answer.now_ms);
        vec![b.name.clone(), b.allows.clone(), amount(number(&b.used), &b.unit), format!("{} %", b.percent), state(b), expected, left]
    };
    let table = format::table(&["budget", "allows", "used", "", "state", "expected at the end", "ends in"], &[2, 3], answer.budgets.iter().map(row).collect());
    let acts: Vec<String> = answer.budgets.iter().flat_map(|b| b.acts.iter().map(move |a| act(b, a))).collect();
    let lifted: Vec<String> = answer
        .budgets
        .iter()
        .filter_map(|b| Some(format!("{} is lifted by {}: nothing is done by it until {}.", b.name, b.lift.as_ref()?.who, format::moment(b.ends_ms))))
        .collect();
    let blocks: Vec<String> =
        [Some(table), (!acts.is_empty()).then(|| acts.join("\n")), (!lifted.is_empty()).then(|| lifted.join("\n"))].into_iter().flatten().collect();
    format::blocks(&blocks)
}

pub(crate) async fn budget(common: &Common, command: BudgetCommand) -> Outcome {
    let client = Client::new(common)?;
    match command {
        BudgetCommand::List => {
            let answer: BudgetsAnswer = client.get("/api/v1/budgets").await?.read()?;
            if common.json { format::print_json(&answer.budgets) } else { list(&answer) }
        }
        BudgetCommand::Lift { name, end: true } => {
            client.call_bare(Method::DELETE, &format!("/api/v1/budgets/{name}/lift")).await?;
            if common.json {
                return format::print_json(&json!({ "budget": name, "done": "acts" }));
            }
            format::line(&format!("Steps act by `{name}` again."))
        }
        BudgetCommand::Lift { name, .. } => {
            let lift: BudgetLift = client.call_bare(Method::PUT, &format!("/api/v1/budgets/{name}/lift")).await?.read()?;
            if common.json {
                return format::print_json(&lift);
            }
            format::line(&format!("Nothing is done by `{name}` until {}, when its period is over. It is still counted.", format::moment(lift.until_ms)))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn amounts_are_told_in_their_unit() {
        assert_eq!(
            [amount(41_200_000_000.0, "bytes"), amount(1_200_000.4, "events"), amount(12.345, "EUR")],
            [format::bytes(41_200_000_000.0), format::count(1_200_000), "12.35 EUR".to_owned()]
        );
    }
}
