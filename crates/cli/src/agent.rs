//! `agent`: the agent of this host, and what the centre knows of all agents.

use std::collections::BTreeMap;
use std::path::PathBuf;

use anyhow::Context;
use clap::{Args, Subcommand};
use rockrose_agent::{EnrolOptions, Folder, Install, Status};
#[cfg(feature = "service")]
use rockrose_client::{AgentsCommand, agents};
use rockrose_client::{Common, End, Exit, Failure, Outcome, ask, format};

use crate::log::log;

/// What an agent enrols with.
#[derive(Args)]
pub(crate) struct EnrolArgs {
    /// The centre, as the line that was made there has it
    url: String,
    /// The code, as it was made there
    code: String,
    /// The name by which the agent is to be known; the host's name if omitted
    #[arg(long)]
    name: Option<String>,
    /// A label, as in port=Lowmere; may be repeated
    #[arg(long, value_name = "NAME=VALUE", value_parser = label)]
    label: Vec<(String, String)>,
    /// Folder whose files may be collected; may be repeated. All but system folders and dot-files if omitted
    #[arg(long, value_name = "FOLDER")]
    allow: Vec<PathBuf>,
    /// Do not tell the centre which programs run on this host, and at which ports something listens
    #[arg(long)]
    hide_programs: bool,
    /// The URL is the OpAMP endpoint of a server of another make, which gives whole plans; CODE is shown there as a bearer token (`-` for none). It is known by --ca, or as the system knows servers
    #[arg(long)]
    elsewhere: bool,
}

impl EnrolArgs {
    fn options(self, common: &Common) -> anyhow::Result<EnrolOptions> {
        let EnrolArgs { url, code, name, label, allow, hide_programs, elsewhere } = self;
        let code = if elsewhere && code == "-" { String::new() } else { code };
        let ca = common.ca.as_ref().map(std::path::absolute).transpose()?;
        let allow = allow.iter().map(std::path::absolute).collect::<Result<_, _>>()?;
        Ok(EnrolOptions {
            url,
            code,
            name,
            labels: label.into_iter().collect::<BTreeMap<_, _>>(),
            allow,
            show_programs: !hide_programs,
            elsewhere: elsewhere.then_some(ca),
        })
    }
}

/// The agent of this host, or what the centre knows of agents.
#[derive(Subcommand)]
pub(crate) enum AgentCommand {
    /// Enrol this host with a code, and run its agent
    Enrol {
        #[command(flatten)]
        enrol: EnrolArgs,
        /// The agent's folder
        #[arg(long, env = "ROCKROSE_AGENT_DATA", default_value = "/var/lib/rockrose-agent", value_name = "FOLDER")]
        data: PathBuf,
        /// Only enrol; run the agent later with `rockrose agent run`
        #[arg(long)]
        only: bool,
    },
    /// Enrol this host, and install its agent so that it starts with the host
    ///
    /// Says what it would do, and asks first. Run as root: it makes a user for the agent, and a unit of systemd, or a script where there is none.
    Install {
        #[command(flatten)]
        enrol: EnrolArgs,
        /// Only say what would be done
        #[arg(long)]
        dry: bool,
        /// Do not ask for confirmation
        #[arg(long)]
        yes: bool,
        /// Folder that stands for / while an image is made: nothing is started in it
        #[arg(long, default_value = "/", value_name = "FOLDER")]
        root: PathBuf,
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
    #[cfg(feature = "service")]
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
        AgentCommand::Install { enrol, dry, yes, root } => {
            let program = std::env::current_exe().and_then(std::fs::canonicalize).context("this program cannot be found")?;
            let root = std::fs::canonicalize(&root).with_context(|| format!("there is no folder {}", root.display()))?;
            install(common, &Install { root, program, enrol: enrol.options(common)? }, dry, yes).await
        }
        AgentCommand::Enrol { enrol, data, only } => {
            let enrolled = rockrose_agent::enrol(&data, enrol.options(common)?).await?;
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
        #[cfg(feature = "service")]
        AgentCommand::Centre(command) => agents(common, command).await,
    }
}

async fn install(common: &Common, install: &Install, dry: bool, yes: bool) -> Outcome {
    let acts = install.plan();
    if common.json && dry {
        format::print_json(&serde_json::json!({ "would": acts }))?;
        return Ok(Exit::Done);
    }
    if !common.json {
        format::line(&format!("This would:\n{}", acts.iter().map(|act| format!("  - {act}")).collect::<Vec<_>>().join("\n")))?;
    }
    if dry {
        return Ok(Exit::Done);
    }
    let user = std::os::unix::fs::MetadataExt::uid(&std::fs::metadata("/proc/self").context("/proc cannot be read")?);
    if user != 0 && install.root == std::path::Path::new("/") {
        return Err(Failure::new(
            Exit::Failed,
            "an agent is installed by root; without, run one in a folder of yours: rockrose agent enrol URL CODE --data FOLDER",
        ));
    }
    if !yes && !ask("Do it?")? {
        return Ok(Exit::Declined);
    }
    install.run().await?;
    let left = install.is_left();
    if common.json {
        format::print_json(&serde_json::json!({ "did": acts, "left": left }))?;
    } else {
        format::line(&left.unwrap_or_else(|| "The agent runs. How it is doing, here: rockrose agent status".to_owned()))?;
    }
    Ok(Exit::Done)
}

async fn run(data: &std::path::Path) -> Outcome {
    log();
    let mut end = End::listen()?;
    rockrose_agent::supervise(data, async move { end.asked().await }).await?;
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
