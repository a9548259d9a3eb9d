//! The commands of the service and its client: all but those of the agent of this host.

use std::net::SocketAddr;
use std::path::PathBuf;

use anyhow::Context;
use clap::Subcommand;
use rockrose_client::{ClientCommand, Common, Exit, Outcome, format};
use rockrose_service::Settings;

use crate::{Cli, demo, kit, serve, standin};

/// What the service and its client can be told to do.
#[derive(Subcommand)]
pub(crate) enum ServiceCommand {
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
        /// The program that agents are given; if omitted, the small one that is installed with the service, or this one
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

/// Does what was asked for.
pub(crate) async fn run(common: &Common, command: ServiceCommand) -> Outcome {
    match command {
        ServiceCommand::Serve {
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
        ServiceCommand::Demo { data, listen, free_ports, ports, rate, seed } => {
            demo::demo(demo::DemoSettings { data, listen, free_ports, ports, rate, seed, json: common.json }).await
        }
        ServiceCommand::Client(command) => rockrose_client::run(common, command).await,
        ServiceCommand::Openapi => {
            let document = rockrose_service::openapi().to_pretty_json().map_err(anyhow::Error::from)?;
            format::line(&document)
        }
        ServiceCommand::Kit { command } => kit::kit(common, command).await,
        ServiceCommand::Standin(args) => standin::standin(args, common.json).await,
        ServiceCommand::Manual { folder } => {
            let pages = clap_mangen::generate_to(<Cli as clap::CommandFactory>::command(), &folder);
            pages.with_context(|| format!("cannot write to {}", folder.display()))?;
            Ok(Exit::Done)
        }
        ServiceCommand::Completions { shell } => {
            clap_complete::generate(shell, &mut <Cli as clap::CommandFactory>::command(), "rockrose", &mut std::io::stdout());
            Ok(Exit::Done)
        }
    }
}
