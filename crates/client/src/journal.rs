//! `journal`: who did what.

use clap::Args;
use rockrose_api::{JournalCheck, JournalEntry};

use crate::client::Client;
use crate::{Common, Exit, Outcome, format};

/// Which entries are shown.
#[derive(Args)]
pub struct JournalArgs {
    /// Show at most N entries
    #[arg(long, default_value_t = 50, value_name = "N", value_parser = clap::value_parser!(i64).range(1..=1000))]
    most: i64,
    /// Only entries older than number N
    #[arg(long, value_name = "N")]
    before: Option<i64>,
    /// Only what this person or token did
    #[arg(long, value_name = "NAME")]
    who: Option<String>,
    /// Only this action, as in 'apply plan'
    #[arg(long, value_name = "ACTION")]
    action: Option<String>,
    /// Check instead whether the journal is as it was written (exit 6 if not)
    #[arg(long)]
    check: bool,
}

pub(crate) async fn journal(common: &Common, args: JournalArgs) -> Outcome {
    let client = Client::new(common)?;
    if args.check {
        return check(common, &client).await;
    }
    let mut query = form_urlencoded::Serializer::new(String::new());
    query.append_pair("most", &args.most.to_string());
    let optional = [("before", args.before.map(|n| n.to_string())), ("who", args.who), ("action", args.action)];
    for (name, value) in optional.iter().filter_map(|(name, value)| Some((name, value.as_ref()?))) {
        query.append_pair(name, value);
    }
    let answer = client.get(&format!("/api/v1/journal?{}", query.finish())).await?;
    if common.json {
        return answer.print();
    }
    let entries: Vec<JournalEntry> = answer.read()?;
    if entries.is_empty() {
        return format::line("The journal has no such entries.");
    }
    let row = |e: JournalEntry| vec![e.number.to_string(), format::moment(e.at_ms), e.who, e.address, e.action, e.subject, e.result];
    format::line(&format::table(&["number", "when", "who", "from", "action", "subject", "result"], &[0], entries.into_iter().map(row).collect()))
}

async fn check(common: &Common, client: &Client) -> Outcome {
    let answer = client.get("/api/v1/journal/check").await?;
    let checked: JournalCheck = answer.read()?;
    let exit = if checked.whole { Exit::Done } else { Exit::NotBalanced };
    if common.json {
        answer.print()?;
        return Ok(exit);
    }
    let span = match (checked.first, checked.last) {
        (Some(first), Some(last)) => format!("{} entries, number {first} to {last}", checked.entries),
        _ => "no entries".to_owned(),
    };
    format::line(&match checked.broken_at {
        None => format!(
            "The journal is as it was written: {span}.\nIts newest hash is {}. Keep a note of it elsewhere: it shows later whether entries were cut off at the end.",
            checked.head
        ),
        Some(number) => format!("The journal is NOT as it was written: entry {number} was changed, or entries before it are missing ({span})."),
    })?;
    Ok(exit)
}
