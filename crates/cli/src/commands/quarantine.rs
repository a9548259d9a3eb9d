//! `quarantine`: what was kept aside, and why.

use crate::client::Client;
use crate::{Common, Outcome, format};

pub(crate) async fn quarantine(common: &Common, most: i64) -> Outcome {
    let answer = Client::new(common)?.get(&format!("/api/v1/quarantine?most={most}")).await?;
    if common.json {
        return format::print_json(&answer);
    }
    let entries = answer.as_array().map_or(&[][..], Vec::as_slice);
    if entries.is_empty() {
        return format::line("Nothing is in quarantine.");
    }
    let text = |v: &serde_json::Value| v.as_str().unwrap_or_default().to_owned();
    let row = |e: &serde_json::Value| {
        let data: String = text(&e["data"]).chars().map(|c| if c.is_control() { '·' } else { c }).take(40).collect();
        let place = format!("{} {}", text(&e["place"]), text(&e["name"]));
        vec![
            e["id"].to_string(),
            format::moment(e["at_ms"].as_i64().unwrap_or(0)),
            place,
            text(&e["reason"]),
            format::bytes(e["size"].as_f64().unwrap_or(0.0)),
            data,
        ]
    };
    format::line(&format::table(&["number", "when", "where", "why", "size", "begins"], &[0, 4], entries.iter().map(row).collect()))
}
