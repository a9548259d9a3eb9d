//! `rockrose`: the service and its client in one binary.
#![allow(clippy::print_stdout, reason = "a command's output is its purpose")]

mod client;
mod commands;
mod demo;
mod format;
mod generator;

use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, Parser, Subcommand};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Threads for what blocks: each keeps memory of its own, and more than these would only wait for a processor or the disk.
const BLOCKING: usize = 16;

/// What a command's exit code says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    /// It was done.
    Done = 0,
    /// It failed, for the reason that was printed.
    Failed = 1,
    /// The plan has mistakes.
    BadPlan = 3,
    /// The service cannot be reached.
    Unreachable = 4,
    /// The service knows no such token.
    NotSignedIn = 5,
    /// The ledger does not balance.
    NotBalanced = 6,
    /// The question was answered with no.
    Declined = 7,
}

/// A failure with the exit code that tells its kind.
#[derive(Debug)]
pub(crate) struct Failure {
    pub(crate) exit: Exit,
    pub(crate) message: String,
}

impl Failure {
    pub(crate) fn new(exit: Exit, message: impl Into<String>) -> Failure {
        Failure { exit, message: message.into() }
    }
}

impl From<anyhow::Error> for Failure {
    fn from(e: anyhow::Error) -> Failure {
        Failure::new(Exit::Failed, format!("{e:#}"))
    }
}

pub(crate) type Outcome = Result<Exit, Failure>;

/// Routes, redacts, samples and delivers log streams, and accounts for every event.
#[derive(Parser)]
#[command(
    name = "rockrose",
    version,
    max_term_width = 100,
    after_help = "Exit codes: 0 done, 1 failed, 2 wrong usage, 3 the plan has mistakes, 4 the service cannot be reached, 5 not signed in, 6 the ledger does not balance, 7 declined."
)]
struct Cli {
    #[command(flatten)]
    common: Common,
    #[command(subcommand)]
    command: Command,
}

/// Options of every client command.
#[derive(Args)]
pub(crate) struct Common {
    /// The service's address
    #[arg(long, global = true, env = "ROCKROSE_ADDRESS", value_name = "URL")]
    pub(crate) address: Option<String>,
    /// The token to show
    #[arg(long, global = true, env = "ROCKROSE_TOKEN", hide_env_values = true)]
    pub(crate) token: Option<String>,
    /// A file with `address` and `token`; ~/.config/rockrose/client.toml if left out
    #[arg(long, global = true, env = "ROCKROSE_CONFIG", value_name = "FILE")]
    pub(crate) config: Option<PathBuf>,
    /// Print JSON
    #[arg(long, global = true)]
    pub(crate) json: bool,
}

#[derive(Subcommand)]
enum Command {
    /// Run the service
    Serve {
        /// The folder for everything that is kept
        #[arg(long, default_value = "rockrose-data", value_name = "FOLDER")]
        data: PathBuf,
        /// Where the API and the console listen
        #[arg(long, default_value = "127.0.0.1:8600", value_name = "ADDRESS")]
        listen: SocketAddr,
        /// A plan to apply at the start, if it is another than the one that runs
        #[arg(long, value_name = "FILE")]
        plan: Option<PathBuf>,
    },
    /// Run the service with the made-up ferry line's plan, events and destinations
    Demo {
        /// The folder for everything that is kept
        #[arg(long, default_value = "demo-data", value_name = "FOLDER")]
        data: PathBuf,
        /// Where the API and the console listen
        #[arg(long, default_value = "127.0.0.1:8600", value_name = "ADDRESS")]
        listen: SocketAddr,
        /// Take free ports for the sources and stand-ins instead of 8610-8612 and 9410-9411
        #[arg(long)]
        free_ports: bool,
        /// Events a second, about
        #[arg(long, default_value_t = 60, value_parser = clap::value_parser!(u32).range(1..=5000))]
        rate: u32,
        /// Seed of the made-up events
        #[arg(long, default_value_t = 7)]
        seed: u64,
    },
    /// Say what is wrong with a plan, without a service
    Check {
        /// The plan; `-` for standard input
        plan: PathBuf,
    },
    /// Print a plan in canonical form: sentences as they are shown everywhere, spacing even, comments kept
    Fmt {
        /// The plan's file; `-` for standard input
        plan: PathBuf,
        /// Write it back to the file instead
        #[arg(long, conflicts_with = "check")]
        write: bool,
        /// Only say whether it is canonical (exit 3 if not)
        #[arg(long)]
        check: bool,
    },
    /// Say in plain words what a sentence does, and to which fields
    Explain {
        /// A step or a condition, in quotes
        sentence: String,
    },
    /// Print the plan's JSON Schema, for editors
    Schema,
    /// Print the API's OpenAPI document
    Openapi,
    /// Show what a plan would change, ask, and apply it
    Apply {
        /// The plan; `-` for standard input (with --yes)
        plan: PathBuf,
        /// Why, for the history
        #[arg(long, default_value = "")]
        why: String,
        /// Do not ask
        #[arg(long, short)]
        yes: bool,
    },
    /// List the plans that were applied, or show one
    Revisions {
        /// Show this one whole
        number: Option<i64>,
    },
    /// Apply an earlier revision again
    Revert {
        /// Which
        number: i64,
        /// Why, for the history
        #[arg(long, default_value = "")]
        why: String,
        /// Do not ask
        #[arg(long, short)]
        yes: bool,
    },
    /// Show what arrives, what is done to it, and how the destinations are doing
    Status,
    /// Show the account of every event and byte, and whether it balances
    Ledger {
        /// Only the last so many minutes
        #[arg(long, value_name = "N")]
        minutes: Option<i64>,
    },
    /// Show events as they pass a point
    Tail {
        /// source:NAME, route:NAME, destination:NAME or remainder
        point: String,
        /// Only events that meet this condition
        #[arg(long, value_name = "CONDITION")]
        when: Option<String>,
        /// Show events as they came, as they went on, or both
        #[arg(long, value_enum, default_value_t = commands::tail::Side::After)]
        side: commands::tail::Side,
        /// Stop after so many events
        #[arg(long, value_name = "N")]
        most: Option<u64>,
    },
    /// Send a file or standard input to a source
    Send {
        /// The file; left out, standard input
        file: Option<PathBuf>,
        /// The source, by name
        #[arg(long, required_unless_present = "url", conflicts_with = "url")]
        source: Option<String>,
        /// The source's URL, without asking the service for it
        #[arg(long)]
        url: Option<String>,
        /// The source's key
        #[arg(long, env = "ROCKROSE_SOURCE_KEY", hide_env_values = true)]
        key: Option<String>,
        /// Send as gzip
        #[arg(long)]
        gzip: bool,
    },
    /// Show what could not be read or was refused for good
    Quarantine {
        /// Show at most so many
        #[arg(long, default_value_t = 20, value_name = "N")]
        most: i64,
    },
    /// Queue again what destinations refused for good
    Resend {
        /// Their numbers, as `quarantine` shows them
        ids: Vec<i64>,
        /// All that this destination refused
        #[arg(long, value_name = "NAME", conflicts_with = "ids")]
        destination: Option<String>,
        /// All that any destination refused
        #[arg(long, conflicts_with_all = ["ids", "destination"])]
        all: bool,
    },
    /// What is known of kinds of logs: ready-made recipes, with examples
    Kit {
        #[command(subcommand)]
        command: commands::kit::KitCommand,
    },
    /// Sources: what they have heard, what is wrong with their senders, how to send to them
    Source {
        #[command(subcommand)]
        command: commands::source::SourceCommand,
    },
    /// Show, test, pause, resume and empty destinations
    Destination {
        #[command(subcommand)]
        command: commands::destination::DestinationCommand,
    },
    /// Keep, list and forget secrets
    Secret {
        #[command(subcommand)]
        command: commands::secret::SecretCommand,
    },
    /// Make a link that signs a browser in to the console, once
    Link,
    /// Why an event goes where it goes: which parts of each route's condition decide, what each step does, where it is sent
    Why(commands::why::WhyArgs),
    /// Run a stand-in for an outside destination
    Standin(commands::standin::StandinArgs),
    /// Print completions for a shell
    Completions {
        /// Which shell
        shell: clap_complete::Shell,
    },
}

fn main() -> ExitCode {
    // Only this process installs one, so it cannot be there already.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let cli = Cli::parse();
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().max_blocking_threads(BLOCKING).build() {
        Ok(runtime) => runtime,
        Err(e) => {
            eprintln!("rockrose: cannot start: {e}");
            return ExitCode::FAILURE;
        }
    };
    let outcome = runtime.block_on(run(cli));
    runtime.shutdown_timeout(std::time::Duration::from_secs(2));
    match outcome {
        Ok(exit) => ExitCode::from(exit as u8),
        Err(failure) => {
            eprintln!("rockrose: {}", failure.message.trim_end());
            ExitCode::from(failure.exit as u8)
        }
    }
}

async fn run(cli: Cli) -> Outcome {
    let common = cli.common;
    match cli.command {
        Command::Serve { data, listen, plan } => commands::serve::serve(data, listen, plan, common.json).await,
        Command::Demo { data, listen, free_ports, rate, seed } => {
            demo::demo(demo::DemoSettings { data, listen, free_ports, rate, seed, json: common.json }).await
        }
        Command::Check { plan } => commands::plan::check(&plan, common.json),
        Command::Fmt { plan, write, check } => commands::language::fmt(&plan, write, check),
        Command::Explain { sentence } => commands::language::explain(&sentence, common.json),
        Command::Schema => format::print_json(&rockrose_plan::schema()),
        Command::Openapi => {
            let document = rockrose_service::openapi().to_pretty_json().map_err(anyhow::Error::from)?;
            format::line(&document)
        }
        Command::Apply { plan, why, yes } => commands::plan::apply(&common, &plan, &why, yes).await,
        Command::Revisions { number } => commands::plan::revisions(&common, number).await,
        Command::Revert { number, why, yes } => commands::plan::revert(&common, number, &why, yes).await,
        Command::Status => commands::status::status(&common).await,
        Command::Ledger { minutes } => commands::ledger::ledger(&common, minutes).await,
        Command::Tail { point, when, side, most } => commands::tail::tail(&common, &point, when.as_deref(), side, most).await,
        Command::Send { file, source, url, key, gzip } => commands::send::send(&common, commands::send::SendArgs { file, source, url, key, gzip }).await,
        Command::Quarantine { most } => commands::quarantine::quarantine(&common, most).await,
        Command::Resend { ids, destination, all } => commands::destination::resend(&common, ids, destination, all).await,
        Command::Kit { command } => commands::kit::kit(&common, command).await,
        Command::Source { command } => commands::source::source(&common, command).await,
        Command::Destination { command } => commands::destination::destination(&common, command).await,
        Command::Secret { command } => commands::secret::secret(&common, command).await,
        Command::Link => commands::link::link(&common).await,
        Command::Why(args) => commands::why::why(&common, args).await,
        Command::Standin(args) => commands::standin::standin(args, common.json).await,
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut <Cli as clap::CommandFactory>::command(), "rockrose", &mut std::io::stdout());
            Ok(Exit::Done)
        }
    }
}
