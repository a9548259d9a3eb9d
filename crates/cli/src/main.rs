//! `rockrose`: the service and its client in one binary.
#![allow(clippy::print_stdout, reason = "a command's output is its purpose")]

mod agent;
mod demo;
mod generator;
mod hosts;
mod kit;
mod serve;
mod standin;

use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::ExitCode;

use anyhow::Context;
use clap::{Parser, Subcommand};
use rockrose_client::{ClientCommand, Common, Exit, Outcome, format};
use rockrose_service::Settings;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Threads for what blocks: each keeps memory of its own, and more than these would only wait for a processor or the disk.
const BLOCKING: usize = 16;

/// Routes, redacts, samples and delivers log streams, and accounts for every event.
#[derive(Parser)]
#[command(
    name = "rockrose",
    version,
    max_term_width = 100,
    after_help = "Exit codes: 0 done, 1 failed, 2 wrong usage, 3 the plan has mistakes, 4 the service cannot be reached, 5 not signed in, 6 the ledger does not balance or the journal is not whole, 7 declined."
)]
struct Cli {
    #[command(flatten)]
    common: Common,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Run the service
    ///
    /// Stops on SIGTERM and SIGINT. On SIGHUP, reloads the plan's file, if one was given, and the tables and certificates that the plan names.
    Serve {
        /// Data folder, for everything that the service stores
        #[arg(long, env = "ROCKROSE_DATA", default_value = "rockrose-data", value_name = "FOLDER")]
        data: PathBuf,
        /// Address for the API and the console
        #[arg(long, env = "ROCKROSE_LISTEN", default_value = "127.0.0.1:8600", value_name = "ADDRESS")]
        listen: SocketAddr,
        /// A plan to apply at start and on reload, if it differs from the active one
        #[arg(long, env = "ROCKROSE_PLAN", value_name = "FILE")]
        plan: Option<PathBuf>,
        /// Serve /metrics to anyone who can reach the service, without a token
        #[arg(long, env = "ROCKROSE_OPEN_METRICS")]
        open_metrics: bool,
        /// URL by which browsers reach the console, if it differs from the address, as in https://logs.ferries.example
        #[arg(long, env = "ROCKROSE_PUBLIC_URL", value_name = "URL")]
        public_url: Option<String>,
        /// Certificate (PEM) to serve the API and the console with, over TLS
        #[arg(long, env = "ROCKROSE_CERTIFICATE", value_name = "FILE", requires = "key")]
        certificate: Option<PathBuf>,
        /// The certificate's private key (PEM)
        #[arg(long, env = "ROCKROSE_KEY", value_name = "FILE", requires = "certificate")]
        key: Option<PathBuf>,
        /// Settings (TOML) of the company's OpenID Connect provider, through which people sign in to the console
        #[arg(long, env = "ROCKROSE_OPENID", value_name = "FILE")]
        openid: Option<PathBuf>,
        /// Memory for samples of events, in MB, shared by all sources; 0 keeps none
        #[arg(long, env = "ROCKROSE_SAMPLE_MEMORY", value_name = "MB", default_value_t = 32, value_parser = clap::value_parser!(u32).range(..=4096))]
        sample_memory: u32,
        /// Allow other hosts to connect without TLS, since a proxy in front of the service provides it
        #[arg(long, env = "ROCKROSE_BEHIND_PROXY")]
        behind_proxy: bool,
        /// Folder that plans may read from and write to; may be repeated. All but system folders, dot-files and the data folder if omitted
        #[arg(long, env = "ROCKROSE_FILES_UNDER", value_name = "FOLDER", value_delimiter = ':')]
        files_under: Vec<PathBuf>,
        /// The program that agents are given, instead of this one, as one that was built for their hosts
        #[arg(long, env = "ROCKROSE_AGENT_PROGRAM", value_name = "FILE")]
        agent_program: Option<PathBuf>,
        /// Days for which entries of the journal are kept; for ever if omitted
        #[arg(long, env = "ROCKROSE_JOURNAL_DAYS", value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
        journal_days: Option<u32>,
    },
    /// Run the service with the made-up ferry line's plan, events and destinations
    Demo {
        /// Data folder, for everything that the service stores
        #[arg(long, default_value = "demo-data", value_name = "FOLDER")]
        data: PathBuf,
        /// Address for the API and the console
        #[arg(long, default_value = "127.0.0.1:8600", value_name = "ADDRESS")]
        listen: SocketAddr,
        /// Use free ports for the sources and stand-ins instead of 8610-8612, 9410-9411 and 8640
        #[arg(long, conflicts_with = "ports")]
        free_ports: bool,
        /// Ports for the sources of the kiosks, gates and payments, for the two stand-ins, and for the agents
        #[arg(long, value_delimiter = ',', value_name = "PORT")]
        ports: Vec<u16>,
        /// Approximate number of events per second
        #[arg(long, default_value_t = 60, value_parser = clap::value_parser!(u32).range(1..=5000))]
        rate: u32,
        /// Seed for the made-up events
        #[arg(long, default_value_t = 7)]
        seed: u64,
    },
    /// Collect on hosts: the agent of this host, and what the service knows of all agents
    Agent {
        #[command(subcommand)]
        command: agent::AgentCommand,
    },
    #[command(flatten)]
    Client(ClientCommand),
    /// Print the API's OpenAPI document
    Openapi,
    /// Ready-made recipes for known kinds of logs, with examples
    Kit {
        #[command(subcommand)]
        command: kit::KitCommand,
    },
    /// Run a stand-in for an outside destination or an OpenID Connect provider
    Standin(standin::StandinArgs),
    /// Write manual pages, one per command
    Manual {
        /// Folder to write them to
        folder: PathBuf,
    },
    /// Print completions for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

/// Makes the allocator give memory back as soon as it is free. It would wait for the next use of the same stretch otherwise, which never comes where a large plan stood.
#[expect(unsafe_code, reason = "the allocator's own function, called before there is a second thread")]
fn give_memory_back() {
    /// `mi_option_purge_delay` of mimalloc.h, in milliseconds.
    const PURGE_DELAY: std::ffi::c_int = 15;
    unsafe extern "C" {
        fn mi_option_set(option: std::ffi::c_int, value: std::ffi::c_long);
    }
    // SAFETY: it is linked with the allocator above, takes two numbers and touches nothing of ours.
    unsafe { mi_option_set(PURGE_DELAY, 0) }
}

/// Lets this process have as many files and connections open as the system allows it: what programs get by themselves is often a thousandth of that.
fn more_files() {
    use nix::sys::resource::{Resource, getrlimit, setrlimit};
    if let Ok((soft, hard)) = getrlimit(Resource::RLIMIT_NOFILE)
        && soft < hard
    {
        let _ = setrlimit(Resource::RLIMIT_NOFILE, hard.min(MOST_FILES), hard);
    }
}

/// More than this is never needed, and some systems say that there is no limit.
const MOST_FILES: u64 = 1 << 20;

fn main() -> ExitCode {
    give_memory_back();
    // With pages of two megabytes, a service that is mostly idle holds half as much again, and gives less of it back.
    #[cfg(target_os = "linux")]
    let _ = nix::sys::prctl::set_thp_disable(true);
    // Only this process installs one, so it cannot be there already.
    let _ = rustls::crypto::ring::default_provider().install_default();
    more_files();
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
            eprintln!("rockrose: {}", format::printable(failure.message.trim_end(), |_| false));
            ExitCode::from(failure.exit as u8)
        }
    }
}

async fn run(cli: Cli) -> Outcome {
    let common = cli.common;
    match cli.command {
        Command::Serve {
            data,
            listen,
            plan,
            open_metrics,
            public_url,
            certificate,
            key,
            openid,
            sample_memory,
            behind_proxy,
            files_under,
            agent_program,
            journal_days,
        } => {
            let certificate = certificate.zip(key);
            let sample_memory = Some((sample_memory as usize) << 20);
            let settings = Settings {
                data,
                listen: Some(listen),
                open_metrics,
                journal_days,
                public_url,
                certificate,
                openid,
                sample_memory,
                behind_proxy,
                files_under,
                agent_program,
                identity: None,
            };
            serve::serve(settings, plan, common.json).await
        }
        Command::Demo { data, listen, free_ports, ports, rate, seed } => {
            demo::demo(demo::DemoSettings { data, listen, free_ports, ports, rate, seed, json: common.json }).await
        }
        Command::Agent { command } => agent::agent(&common, command).await,
        Command::Client(command) => rockrose_client::run(&common, command).await,
        Command::Openapi => {
            let document = rockrose_service::openapi().to_pretty_json().map_err(anyhow::Error::from)?;
            format::line(&document)
        }
        Command::Kit { command } => kit::kit(&common, command).await,
        Command::Standin(args) => standin::standin(args, common.json).await,
        Command::Manual { folder } => {
            let pages = clap_mangen::generate_to(<Cli as clap::CommandFactory>::command(), &folder);
            pages.with_context(|| format!("cannot write to {}", folder.display()))?;
            Ok(Exit::Done)
        }
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut <Cli as clap::CommandFactory>::command(), "rockrose", &mut std::io::stdout());
            Ok(Exit::Done)
        }
    }
}
