//! `rockrose`: the service, its client and the agent in one binary; or, built without the feature `service`, the agent alone, small enough for every host.
#![allow(clippy::print_stdout, reason = "a command's output is its purpose")]

mod agent;
#[cfg(feature = "service")]
mod commands;
#[cfg(feature = "service")]
mod demo;
#[cfg(feature = "service")]
mod generator;
#[cfg(feature = "service")]
mod hosts;
#[cfg(feature = "service")]
mod kit;
mod log;
#[cfg(feature = "service")]
mod serve;
#[cfg(feature = "service")]
mod standin;

use std::process::ExitCode;

use clap::{Parser, Subcommand};
use rockrose_client::{Common, Outcome, format};

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
    /// Collect on hosts: the agent of this host, and what the service knows of all agents
    Agent {
        #[command(subcommand)]
        command: agent::AgentCommand,
    },
    #[cfg(feature = "service")]
    #[command(flatten)]
    Service(commands::ServiceCommand),
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
    match cli.command {
        Command::Agent { command } => agent::agent(&cli.common, command).await,
        #[cfg(feature = "service")]
        Command::Service(command) => commands::run(&cli.common, command).await,
    }
}
