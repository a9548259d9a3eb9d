//! `alert`: how alerts stand, what was told, and what an operator does about them.

use clap::Subcommand;
use reqwest::Method;
use rockrose_api::{AlertNotice, AlertPast, AlertPhase, AlertSilence, AlertState, AlertTrial, AlertsAnswer, NewSilence};
use serde_json::json;

use crate::client::Client;
use crate::format::{self, BAD, GOOD, paint};
use crate::{Common, Exit, Failure, Outcome};

/// So many notices are shown.
const NOTICES: usize = 20;

/// What is done with alerts.
#[derive(Subcommand)]
pub enum AlertCommand {
    /// List the alerts and how each stands
    List,
    /// List what was told lately, newest first
    History {
        /// Only of this alert
        name: Option<String>,
    },
    /// Say that you have seen that an alert is on: it is not told again while it lasts
    Acknowledge {
        /// The alert's name
        name: String,
    },
    /// Tell nobody of an alert for a while
    Silence {
        /// The alert's name
        name: String,
        /// For how many minutes, at most 30 days
        #[arg(long, default_value_t = 60)]
        minutes: i64,
        /// End the silence instead
        #[arg(long, conflicts_with = "minutes")]
        end: bool,
    },
    /// Try an alert on the ledger's past minutes: when it would have been on
    Try {
        /// The name of an alert of the plan, or what is to be watched, as in 'events at route:web over 5 minutes > 1000'
        alert: String,
        /// How many minutes back, at most 7 days
        #[arg(long, default_value_t = 1440)]
        minutes: i64,
    },
}

fn phase(alert: &AlertState, now: i64) -> String {
    let since = alert.since_ms.map(|since| format::age(now - since)).unwrap_or_default();
    let state = match alert.phase {
        AlertPhase::Quiet => paint("quiet", GOOD),
        AlertPhase::Rising => format!("rising for {since}"),
        AlertPhase::On => format!("{} for {since}", paint("on", BAD)),
    };
    let acknowledged = alert.acknowledged_by.as_ref().map(|who| format!(", acknowledged by {who}"));
    let silenced = alert.silence.as_ref().map(|s| format!(", silenced by {} for {}", s.who, format::age(s.until_ms - now)));
    [Some(state), acknowledged, silenced].into_iter().flatten().collect()
}

fn list(answer: &AlertsAnswer) -> Outcome {
    if answer.alerts.is_empty() {
        return format::line("The plan has no alerts. One is a section `[alert.NAME]` with what it watches: when = 'destination:NAME failing for 2 minutes'.");
    }
    let row = |a: &AlertState| vec![a.name.clone(), a.severity.clone(), phase(a, answer.now_ms), a.says.clone().unwrap_or_default(), a.when.clone()];
    let table = format::table(&["alert", "severity", "state", "measured", "watches"], &[], answer.alerts.iter().map(row).collect());
    let advice = |a: &AlertState| Some(format!("{}: {}", a.name, a.advice.clone()?));
    let advice: Vec<String> = answer.alerts.iter().filter(|a| a.phase == AlertPhase::On).filter_map(advice).collect();
    let unheard = answer.sources.is_empty().then(|| "Nobody is told: the plan has no source of kind `alerts`.".to_owned());
    let blocks: Vec<String> = [table].into_iter().chain((!advice.is_empty()).then(|| advice.join("\n"))).chain(unheard).collect();
    format::blocks(&blocks)
}

fn history(notices: &[AlertNotice]) -> Outcome {
    if notices.is_empty() {
        return format::line("Nothing was told yet.");
    }
    let row = |n: &AlertNotice| {
        let turn = match n.turn.as_str() {
            "began" => "began",
            "over" => "is over",
            _ => "goes on",
        };
        vec![format::moment(n.at_ms), n.alert.clone(), turn.to_owned(), n.severity.clone(), n.says.clone()]
    };
    format::line(&format::table(&["when", "alert", "", "severity", "measured"], &[], notices.iter().take(NOTICES).map(row).collect()))
}

fn tried(past: &AlertPast, when: &str) -> Outcome {
    let hours = format::age(past.to_ms - past.from_ms);
    let known = past.begins_ms.map(|begins| format!("The ledger begins at {}; before that, nothing can be said.", format::moment(begins)));
    let head = match past.stretches.len() {
        0 => format!("{when}: it would not have been on in the last {hours}."),
        n => format!("{when}: it would have been on {n} time{} in the last {hours}.", if n == 1 { "" } else { "s" }),
    };
    let rows = past.stretches.iter().map(|s| {
        let length = s.until_ms.map_or_else(|| "still".to_owned(), |until| format::age(until - s.from_ms));
        vec![format::moment(s.from_ms), length, s.says.clone()]
    });
    let rows: Vec<Vec<String>> = rows.collect();
    let table = (!rows.is_empty()).then(|| format::table(&["from", "for", "measured"], &[], rows));
    format::blocks(&[Some(head), known, table].into_iter().flatten().collect::<Vec<_>>())
}

pub(crate) async fn alert(common: &Common, command: AlertCommand) -> Outcome {
    let client = Client::new(common)?;
    let answer = async || -> Result<AlertsAnswer, Failure> { client.get("/api/v1/alerts").await?.read() };
    let done =
        |name: &str, done: &str, says: String| if common.json { format::print_json(&json!({ "alert": name, "done": done })) } else { format::line(&says) };
    match command {
        AlertCommand::List => {
            let answer = answer().await?;
            if common.json { format::print_json(&answer.alerts) } else { list(&answer) }
        }
        AlertCommand::History { name } => {
            let answer = answer().await?;
            let notices: Vec<AlertNotice> = answer.notices.iter().filter(|n| name.as_ref().is_none_or(|name| n.alert == *name)).cloned().collect();
            if common.json { format::print_json(&notices) } else { history(&notices) }
        }
        AlertCommand::Acknowledge { name } => {
            client.call_bare(Method::POST, &format!("/api/v1/alerts/{name}/acknowledge")).await?;
            done(&name, "acknowledged", format!("`{name}` is acknowledged: it is not told again while it lasts."))
        }
        AlertCommand::Silence { name, end: true, .. } => {
            client.call_bare(Method::DELETE, &format!("/api/v1/alerts/{name}/silence")).await?;
            done(&name, "told", format!("The silence of `{name}` is over: if it is on, it is told now."))
        }
        AlertCommand::Silence { name, minutes, .. } => {
            let silence: AlertSilence = client.call(Method::PUT, &format!("/api/v1/alerts/{name}/silence"), &NewSilence { minutes }).await?.read()?;
            if common.json {
                return format::print_json(&silence);
            }
            format::line(&format!("`{name}` is silenced for {}. If it is on by then, it is told.", format::age(minutes * 60_000)))
        }
        AlertCommand::Try { alert, minutes } => {
            let known = answer().await?.alerts.into_iter().find(|a| a.name == alert);
            if known.is_none() && !alert.contains(' ') {
                return Err(Failure::new(Exit::Failed, format!("there is no alert `{alert}`")));
            }
            let trial = match known {
                Some(known) => AlertTrial { when: known.when, until: known.until, lasting_ms: known.lasting_ms, minutes },
                None => AlertTrial { when: alert, until: None, lasting_ms: 0, minutes },
            };
            let past: AlertPast = client.call(Method::POST, "/api/v1/alerts/try", &trial).await?.read()?;
            if common.json { format::print_json(&past) } else { tried(&past, &trial.when) }
        }
    }
}
