//! `agent`: the agent of this host, and what the centre knows of all agents.

use std::collections::BTreeMap;
use std::path::PathBuf;

use clap::Subcommand;
use rockrose_agent::{EnrolOptions, Folder, Status};
use rockrose_client::{AgentsCommand, Common, End, Exit, Outcome, agents, format};

use crate::serve::log;

/// The agent of this host, or what the centre knows of agents.
#[derive(Subcommand)]
pub(crate) enum AgentCommand {
    /// Enrol this host with a code, and run its agent
    Enrol {
        /// The centre, as the line that was made there has it
        url: String,
        /// The code, as it was made there
        code: String,
        /// The agent's folder
        #[arg(long, env = "ROCKROSE_AGENT_DATA", default_value = "/var/lib/rockrose-agent", value_name = "FOLDER")]
        data: PathBuf,
        /// The name by which the agent is to be known; the host's name if omitted
        #[arg(long)]
        name: Option<String>,
        /// A label, as in port=Lowmere; may be repeated
        #[arg(long, value_name = "NAME=VALUE", value_parser = label)]
        label: Vec<(String, String)>,
        /// Folder whose files may be collected; may be repeated. All but system folders and dot-files if omitted
        #[arg(long, value_name = "FOLDER")]
        allow: Vec<PathBuf>,
        /// Only enrol; run the agent later with `rockrose agent run`
        #[arg(long)]
        only: bool,
    },
    /// Run the agent of this host
    ///
    /// Stops on SIGTERM and SIGINT. What waits then is sent once it runs again.
    Run {
        /// The agent's folder
        #[arg(long, env = "ROCKROSE_AGENT_DATA", default_value = "/var/lib/rockrose-agent", value_name = "FOLDER")]
        data: PathBuf,
    },
    /// Say how the agent of this host is doing (exit 1 if somebody has to do something)
    Status {
        /// The agent's folder
        #[arg(long, env = "ROCKROSE_AGENT_DATA", default_value = "/var/lib/rockrose-agent", value_name = "FOLDER")]
        data: PathBuf,
    },
    #[command(flatten)]
    Centre(AgentsCommand),
}

fn label(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or("a label is NAME=VALUE, as in port=Lowmere")?;
    let plain = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-'));
    if plain { Ok((name.to_owned(), value.to_owned())) } else { Err(format!("`{name}` cannot name a label: letters, digits, `-` and `_`")) }
}

pub(crate) async fn agent(common: &Common, command: AgentCommand) -> Outcome {
    match command {
        AgentCommand::Enrol { url, code, data, name, label, allow, only } => {
            let allow = allow.iter().map(std::path::absolute).collect::<Result<_, _>>().map_err(anyhow::Error::from)?;
            let options = EnrolOptions { url, code, name, labels: label.into_iter().collect::<BTreeMap<_, _>>(), allow };
            let enrolled = rockrose_agent::enrol(&data, options).await?;
            if common.json {
                format::print_json(&serde_json::json!({ "name": enrolled.name, "folder": enrolled.folder, "settings": enrolled.settings }))?;
            } else {
                let says = format!(
                    "{} has enrolled. What may be collected here, and whether the centre may change it, stands in {}.",
                    enrolled.name,
                    enrolled.settings.display()
                );
                format::line(&says)?;
            }
            if only { Ok(Exit::Done) } else { run(&data).await }
        }
        AgentCommand::Run { data } => run(&data).await,
        AgentCommand::Status { data } => status(common, &Status::read(&Folder::open(&data)?)?),
        AgentCommand::Centre(command) => agents(common, command).await,
    }
}

async fn run(data: &std::path::Path) -> Outcome {
    log();
    let mut end = End::listen()?;
    rockrose_agent::run(data, async move { end.asked().await }).await?;
    Ok(Exit::Done)
}

fn status(common: &Common, status: &Status) -> Outcome {
    let exit = if status.is_well() { Exit::Done } else { Exit::Failed };
    if common.json {
        format::print_json(status)?;
        return Ok(exit);
    }
    let now = jiff::Timestamp::now().as_millisecond();
    let ago = |ms: i64| format!("{} ago", format::age(now - ms));
    let mut lines = Vec::new();
    if !status.is_running() {
        lines.push(format!("It does not run: it was last heard {}. Start it with: rockrose agent run", ago(status.written_ms)));
    }
    match (&status.error, status.heard_ms) {
        (Some(error), Some(heard)) => lines.push(format!("{error} (it answered {})", ago(heard))),
        (Some(error), None) => lines.push(error.clone()),
        (None, Some(heard)) => lines.push(format!("The centre answered {}.", ago(heard))),
        (None, None) => lines.push("The centre has not answered yet.".to_owned()),
    }
    if let Some(error) = &status.plan_error {
        lines.push(format!("The plan that the centre gave cannot be run; the one before goes on:\n{error}"));
    }
    if !status.has_plan {
        lines.push("It was given no plan yet.".to_owned());
    }
    let waits = if status.waiting_events == 0 {
        "Nothing waits to be sent.".to_owned()
    } else {
        format!("{} {} to be sent.", format::events(status.waiting_events), if status.waiting_events == 1 { "waits" } else { "wait" })
    };
    lines.push(waits);
    if let Some(balanced) = status.balanced {
        let ledger = if balanced { "its ledger balances" } else { "its ledger does NOT balance" };
        lines.push(format!("Since it enrolled it collected {} and sent {}; {ledger}.", format::events(status.collected), format::events(status.sent)));
    }
    let rows: Vec<Vec<String>> = status
        .parts
        .iter()
        .map(|part| vec![part.part.clone(), if part.fine { "fine" } else { "trouble" }.to_owned(), part.says.clone(), part.remedy.clone()])
        .collect();
    let table = (!rows.is_empty()).then(|| format::table(&["part", "state", "", "what helps"], &[], rows));
    let head = format!("{}, managed by {}, version {}", status.name, status.centre, status.version);
    format::blocks(&[Some(head), Some(lines.join("\n")), table].into_iter().flatten().collect::<Vec<_>>())?;
    Ok(exit)
}
