//! `example`: makes an example of a real event, so that what becomes of it now is kept.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use reqwest::Method;
use rockrose_api::{ApplyRequest, EditRequest, EditedPlan, ExampleMade, ExampleRequest, PlanEdit, RunningPlan, SampleAnswer};
use rockrose_language::Place;
use serde_json::json;

use crate::client::Client;
use crate::format::{self, HEAD, paint};
use crate::{Common, Exit, Failure, Outcome, ask};

/// What is done with examples.
#[derive(Subcommand)]
pub enum ExampleCommand {
    /// Make an example of an event: what becomes of it now at each destination must hold from then on
    Add(AddArgs),
}

/// Which event, and where the example is added.
#[derive(Args)]
pub struct AddArgs {
    /// The source that the event comes by
    #[arg(long, value_name = "NAME")]
    source: String,
    /// The event: a JSON object, or a line of text. The newest of the source's sample if omitted
    #[arg(long, value_name = "EVENT")]
    event: Option<String>,
    /// Take the newest event of the sample that meets this condition
    #[arg(long, value_name = "CONDITION", conflicts_with = "event")]
    when: Option<String>,
    /// What the example shows, in your words
    #[arg(long, value_name = "TEXT")]
    says: Option<String>,
    /// Plan file to add it to, instead of the active plan
    #[arg(long, value_name = "FILE")]
    plan: Option<PathBuf>,
    /// Do not ask for confirmation
    #[arg(long, short)]
    yes: bool,
}

pub(crate) async fn example(common: &Common, command: ExampleCommand) -> Outcome {
    let ExampleCommand::Add(args) = command;
    let client = Client::new(common)?;
    let running: RunningPlan = client.get("/api/v1/plan").await?.read()?;
    let text = args.plan.as_deref().map(crate::plan::read).transpose()?.map_or_else(|| running.text.clone(), |(text, _)| text);
    let event = match &args.event {
        Some(event) => event.trim().to_owned(),
        None => newest(&client, &args).await?,
    };
    let asked = ExampleRequest { text: Some(text.clone()), source: args.source.clone(), event: event.clone(), says: args.says.clone() };
    let ExampleMade { example } = client.call(Method::POST, "/api/v1/plan/examples/make", &asked).await?.read()?;
    let edits = vec![PlanEdit::AddPart { text: example.clone() }];
    let edited: EditedPlan = client.call(Method::POST, "/api/v1/plan/edit", &EditRequest { text: Some(text), edits }).await?.read()?;
    if !args.yes && !ask(&format!("{}\n\n{example}\nAdd this to the plan?", paint(&format!("Of {event}:"), HEAD)))? {
        return Ok(Exit::Declined);
    }
    let revision = match &args.plan {
        Some(path) => {
            std::fs::write(path, &edited.text).map_err(|e| Failure::new(Exit::Failed, format!("cannot write {}: {e}", path.display())))?;
            None
        }
        None => {
            let why = format!("example: {}", args.says.as_deref().unwrap_or("of a real event"));
            let asked = ApplyRequest { text: edited.text, why, expected_revision: Some(running.revision), first: None };
            let applied: rockrose_api::Applied = client.call(Method::POST, "/api/v1/revisions", &asked).await?.read()?;
            Some(applied.revision)
        }
    };
    if common.json {
        return format::print_json(&json!({ "example": example, "revision": revision }));
    }
    match (revision, &args.plan) {
        (Some(revision), _) => format::line(&format!("{example}\nRevision {revision} is active, with this example.")),
        (None, Some(path)) => format::line(&format!("{example}\nIt stands in {}.", path.display())),
        (None, None) => Ok(Exit::Done),
    }
}

async fn newest(client: &Client, args: &AddArgs) -> Result<String, Failure> {
    let mut query = form_urlencoded::Serializer::new(String::new());
    query.append_pair("point", &Place::Source(args.source.clone()).to_string()).append_pair("most", "1");
    if let Some(when) = &args.when {
        query.append_pair("when", when);
    }
    let found: SampleAnswer = client.get(&format!("/api/v1/sample?{}", query.finish())).await?.read()?;
    let event = found.events.into_iter().next().map(|e| e.event.get().to_owned());
    event.ok_or_else(|| Failure::new(Exit::Failed, format!("the sample of the source {} has no such event", args.source)))
}
