//! `why`: why an event goes where it goes.

use std::io::Read;

use anyhow::Context;
use clap::Args;
use reqwest::Method;
use rockrose_api::{CaughtRecord, Passage, QuarantineWhy, RouteDecision, SentTo, Source, Why, WhyRequest};

use crate::client::Client;
use crate::format::{self, BAD, GOOD, paint};
use crate::{Common, Exit, Failure, Outcome};

/// Why an event goes where it goes: which parts of each route's condition decide, what each step does, where it is sent
#[derive(Args)]
pub struct WhyArgs {
    /// The event as a sender would send it; read from standard input if omitted
    #[arg(value_name = "EVENT")]
    event: Option<String>,
    /// The source that it arrives at; the plan's only one if omitted
    #[arg(long, value_name = "NAME")]
    source: Option<String>,
    /// One that is in quarantine, by its number
    #[arg(long, value_name = "NUMBER", conflicts_with = "event")]
    quarantined: Option<i64>,
    /// The next one that comes at this source, within a minute
    #[arg(long, value_name = "SOURCE", conflicts_with_all = ["event", "quarantined", "source"])]
    next: Option<String>,
}

async fn event(client: &Client, args: &WhyArgs) -> Result<(String, Option<String>), Failure> {
    if let Some(source) = &args.next {
        let records: Vec<CaughtRecord> = client.get(&format!("/api/v1/sources/{source}/next?events=1&wait=60")).await?.read()?;
        let record = records.into_iter().next().ok_or_else(|| Failure::new(Exit::Failed, format!("no events reached `{source}` within a minute")))?;
        // As it was read, where it was: what came may be of a protocol of its own.
        let event = record.read.map(|read| read.get().to_owned()).or(record.raw).unwrap_or_default();
        return Ok((event, Some(source.clone())));
    }
    if let Some(event) = &args.event {
        return Ok((event.clone(), None));
    }
    let mut read = String::new();
    std::io::stdin().read_to_string(&mut read).context("cannot read standard input")?;
    Ok((read, None))
}

async fn only_source(client: &Client) -> Result<String, Failure> {
    let sources: Vec<Source> = client.get("/api/v1/sources").await?.read()?;
    let names: Vec<&str> = sources.iter().map(|s| s.name.as_str()).collect();
    match names[..] {
        [only] => Ok(only.to_owned()),
        [] => Err(Failure::new(Exit::Failed, "the plan has no sources")),
        _ => Err(Failure::new(Exit::Failed, format!("pass the source that it arrives at: --source {}", names.join(" | ")))),
    }
}

fn steps(passage: &Passage, indent: &str, out: &mut Vec<String>) {
    for step in &passage.steps {
        let effect = step.effect.as_str();
        let shown = match effect {
            "removed" | "failed" => paint(&format!("{effect:<11}"), BAD),
            _ => format!("{effect:<11}"),
        };
        out.push(format!("{indent}{shown}  {}", step.sentence));
    }
}

fn parts(route: &RouteDecision, out: &mut Vec<String>) {
    for part in &route.parts {
        let seen = part.seen.iter().map(|s| match &s.value {
            Some(value) => format!("{} is {value}", s.field),
            None => format!("there is no {}", s.field),
        });
        let seen: Vec<String> = seen.collect();
        let holds = if part.holds { "holds" } else { "fails" };
        out.push(format!("    {holds}: {}{}", part.sentence, if seen.is_empty() { String::new() } else { format!("  ({})", seen.join(", ")) }));
    }
}

fn sent_to(destination: &SentTo, out: &mut Vec<String>) {
    let name = &destination.name;
    out.push(match &destination.fate {
        Some(fate) => format!("  is sent to {name}, and {fate}"),
        None => format!("  does not leave for {name}"),
    });
    steps(&destination.passage, "    ", out);
    if let Some(after) = &destination.passage.after {
        out.push(format!("    as {after}"));
    }
}

fn told(why: &Why) -> Outcome {
    if let Some(reason) = &why.unreadable {
        return format::line(&format!("It cannot be read, and goes to quarantine: {reason}"));
    }
    let mut out = vec![format!("at source {}", why.source)];
    steps(&why.arrival, "  ", &mut out);
    if why.arrival.after.is_none() {
        out.push("  It goes no further.".to_owned());
        return format::line(&out.join("\n"));
    }
    for route in &why.routes {
        let says = if route.taken { paint("takes it", GOOD) } else { "does not take it".to_owned() };
        let because = route.because.as_ref().map_or_else(String::new, |b| format!(": {b}"));
        out.push(format!("\nroute {} {says}{because}", route.name));
        parts(route, &mut out);
        if !route.taken {
            continue;
        }
        steps(&route.passage, "  ", &mut out);
        if route.passage.after.is_none() {
            out.push("  It goes no further on this route.".to_owned());
        }
        route.destinations.iter().for_each(|destination| sent_to(destination, &mut out));
    }
    if why.remainder {
        out.push("\nNo route takes it but those of the remainder.".to_owned());
    }
    format::line(&out.join("\n"))
}

/// Of one in quarantine, why it is there, and what would become of it now.
async fn quarantined(common: &Common, client: &Client, number: i64) -> Outcome {
    let answer = client.get(&format!("/api/v1/quarantine/{number}/why")).await?;
    if common.json {
        return answer.print();
    }
    let QuarantineWhy { record, at_source, earlier, at_destination } = answer.read()?;
    format::line(&format!("event {}\n", earlier.as_deref().unwrap_or(&record.data).trim_end()))?;
    if record.place == "source" {
        return match at_source {
            Some(why) => told(&why),
            None => format::line(&format!("It could not be read: {}. The plan no longer has its source, {}.", record.reason, record.name)),
        };
    }
    let came = if record.via.is_empty() { String::new() } else { format!("came by the route {} and ", record.via) };
    let mut out = vec![format!("It {came}was {}: {}", paint(&format!("refused by {}", record.name), BAD), record.reason)];
    match &at_destination {
        Some(now) => {
            out.push("\nSent again now:".to_owned());
            sent_to(now, &mut out);
        }
        None if earlier.is_none() => out.push("The destination did not say which events of the batch it refused.".to_owned()),
        None => out.push(format!("The plan no longer has the destination {}.", record.name)),
    }
    format::line(&out.join("\n"))
}

pub(crate) async fn why(common: &Common, args: WhyArgs) -> Outcome {
    let client = Client::new(common)?;
    if let Some(number) = args.quarantined {
        return quarantined(common, &client, number).await;
    }
    let (event, from) = event(&client, &args).await?;
    // Whoever did not write the event here wants to see which it is.
    if !common.json && args.next.is_some() {
        format::line(&format!("event {}\n", event.trim_end()))?;
    }
    let source = match args.source.or(from) {
        Some(source) => source,
        None => only_source(&client).await?,
    };
    let answer = client.call(Method::POST, "/api/v1/why", &WhyRequest { source, event }).await?;
    if common.json { answer.print() } else { told(&answer.read()?) }
}

#[cfg(test)]
mod tests {
    use rockrose_api::{Decision, PassageStep, Seen};

    use super::*;

    #[test]
    fn parts_of_a_condition_are_told_with_what_was_seen() {
        let part = |holds, seen| Decision { sentence: "service = \"boarding\"".into(), holds, seen };
        let seen = |value: Option<&str>| Seen { field: "service".into(), value: value.map(str::to_owned) };
        let route = RouteDecision {
            name: "desk".into(),
            taken: false,
            because: None,
            parts: vec![part(true, vec![seen(Some("\"boarding\""))]), part(false, vec![seen(None)]), part(false, Vec::new())],
            passage: Passage { steps: Vec::new(), after: None },
            destinations: Vec::new(),
        };
        let mut out = Vec::new();
        parts(&route, &mut out);
        assert_eq!(
            out,
            [
                "    holds: service = \"boarding\"  (service is \"boarding\")",
                "    fails: service = \"boarding\"  (there is no service)",
                "    fails: service = \"boarding\"",
            ]
        );
    }

    #[test]
    fn effects_of_steps_stand_below_one_another() {
        let step = |effect: &str| PassageStep { sentence: "drop a = 1".into(), effect: effect.into() };
        let mut out = Vec::new();
        steps(&Passage { steps: ["removed", "not reached", "held"].map(step).into(), after: None }, "  ", &mut out);
        assert!(out.iter().all(|line| line.find("drop") == Some(15)), "{out:?}");
    }
}
