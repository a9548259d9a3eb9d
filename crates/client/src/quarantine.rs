//! `quarantine`: what was kept aside, and why.

use rockrose_api::QuarantineEntry;

use crate::client::Client;
use crate::{Common, Outcome, format};

pub(crate) async fn quarantine(common: &Common, most: i64, before: Option<i64>) -> Outcome {
    let before = before.map_or_else(String::new, |number| format!("&before={number}"));
    let answer = Client::new(common)?.get(&format!("/api/v1/quarantine?most={most}{before}")).await?;
    if common.json {
        return answer.print();
    }
    let entries: Vec<QuarantineEntry> = answer.read()?;
    if entries.is_empty() {
        return format::line("Nothing is in quarantine.");
    }
    let row = |e: QuarantineEntry| {
        let data: String = e.data.chars().map(|c| if c.is_control() { '·' } else { c }).take(40).collect();
        let place = format!("{} {}", e.place, e.name);
        vec![e.id.to_string(), format::moment(e.at_ms), place, e.reason, format::bytes(e.size as f64), data]
    };
    format::line(&format::table(&["number", "when", "where", "why", "size", "begins"], &[0, 4], entries.into_iter().map(row).collect()))
}
