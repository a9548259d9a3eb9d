//! The client: what `rockrose` asks a service, and says of plans and sentences by itself.
//!
//! It knows the service by its API alone, and so it is built apart from it. A command is one file here and a variant of [`ClientCommand`].
#![allow(clippy::print_stdout, reason = "a command's output is its purpose")]

mod agent;
mod alert;
mod budget;
mod client;
mod cost;
mod destination;
mod end;
mod example;
pub mod format;
mod journal;
mod language;
mod language_server;
mod ledger;
mod link;
mod outcome;
mod people;
mod plan;
mod quarantine;
mod report;
mod resend;
mod sample;
mod secret;
mod send;
mod source;
mod status;
mod suggest;
mod survey;
mod tail;
mod trial;
mod why;

use std::path::PathBuf;

use clap::{Args, Subcommand};

pub use agent::{AgentsCommand, agents};
pub use alert::AlertCommand;
pub use budget::BudgetCommand;
pub use client::{Answer, Client, http};
pub use destination::DestinationCommand;
pub use end::End;
pub use example::ExampleCommand;
pub use journal::JournalArgs;
pub use outcome::{Exit, Failure, Outcome};
pub use people::{GrantArgs, PersonCommand, SessionCommand, TokenCommand};
pub use plan::{RevisionCommand, ask};
pub use resend::ResendArgs;
pub use secret::SecretCommand;
pub use source::SourceCommand;
pub use tail::Side;
pub use why::WhyArgs;

/// Options of every client command.
#[derive(Args)]
pub struct Common {
    /// The service's address
    #[arg(long, global = true, env = "ROCKROSE_ADDRESS", value_name = "URL")]
    pub address: Option<String>,
    /// API token
    #[arg(long, global = true, env = "ROCKROSE_TOKEN", hide_env_values = true)]
    pub token: Option<String>,
    /// Settings file with `address` and `token`; ~/.config/rockrose/client.toml if omitted
    #[arg(long, global = true, env = "ROCKROSE_CONFIG", value_name = "FILE")]
    pub config: Option<PathBuf>,
    /// Certificates (PEM) to trust besides the system's, for a service with a certificate of its own
    #[arg(long, global = true, env = "ROCKROSE_CA", value_name = "FILE")]
    pub ca: Option<PathBuf>,
    /// Print JSON
    #[arg(long, global = true)]
    pub json: bool,
}

/// What the client does.
#[derive(Subcommand)]
pub enum ClientCommand {
    /// Write a commented first plan for the given kinds of sources and destinations
    NewPlan {
        /// Kinds of sources: http, otlp, syslog, tcp, file or journal; several with commas. Asked for on a terminal
        #[arg(long, value_name = "KIND", value_delimiter = ',')]
        from: Vec<String>,
        /// Kinds of destinations: file, http, otlp, syslog, archive or discard; several with commas
        #[arg(long, value_name = "KIND", value_delimiter = ',')]
        to: Vec<String>,
        /// The file to create, which must not exist yet; standard output if omitted
        #[arg(long, short, value_name = "FILE")]
        output: Option<PathBuf>,
    },
    /// Check a plan for mistakes, without a service
    Check {
        /// The plan; `-` for standard input
        plan: PathBuf,
    },
    /// Print a plan in canonical form, comments kept
    Fmt {
        /// The plan's file; `-` for standard input
        plan: PathBuf,
        /// Write the result back to the file
        #[arg(long, conflicts_with = "check")]
        write: bool,
        /// Only check whether it is canonical (exit 3 if not)
        #[arg(long)]
        check: bool,
    },
    /// Explain in plain words what a sentence does, and to which fields
    Explain {
        /// A step or a condition, in quotes
        sentence: String,
    },
    /// Print the plan's JSON Schema, for editors
    Schema,
    /// Serve editors that write plans: mistakes at their place, completion with the fields and values of the running service, explanations, formatting (Language Server Protocol, standard input and output)
    LanguageServer,
    /// Show what a plan would change, ask for confirmation, and apply it
    Apply {
        /// The plan; `-` for standard input (with --yes)
        #[arg(required_unless_present = "step")]
        plan: Option<PathBuf>,
        /// Apply the active plan with this step more, added to those of --at
        #[arg(long, value_name = "SENTENCE", requires = "at", conflicts_with = "plan")]
        step: Option<String>,
        /// Where the step is added: source:NAME, route:NAME, destination:NAME or recipe:NAME
        #[arg(long, value_name = "POINT", requires = "step")]
        at: Option<String>,
        /// Reason for the change, kept with the revision
        #[arg(long, default_value = "")]
        why: String,
        /// What changes on agents' hosts goes to these first: a share, as in 5%, or a condition on their facts
        #[arg(long, value_name = "HOSTS", conflicts_with = "step")]
        first: Option<String>,
        /// How long they have to be well before it goes on to all; if one is not, it goes back
        #[arg(long, value_name = "TIME", default_value = "5 minutes", requires = "first")]
        well_for: String,
        /// Do not ask for confirmation
        #[arg(long, short)]
        yes: bool,
    },
    /// List the revisions of the plan, or show one
    #[command(args_conflicts_with_subcommands = true)]
    Revisions {
        /// Show this revision
        number: Option<i64>,
        /// What is done.
        #[command(subcommand)]
        command: Option<plan::RevisionCommand>,
    },
    /// Show what differs between two revisions
    Diff {
        /// A revision
        one: i64,
        /// Another; the active one if omitted
        other: Option<i64>,
    },
    /// Apply an earlier revision again
    Revert {
        /// The revision's number
        number: i64,
        /// Reason for the change, kept with the revision
        #[arg(long, default_value = "")]
        why: String,
        /// Do not ask for confirmation
        #[arg(long, short)]
        yes: bool,
    },
    /// Show what arrives, what is done to it, and the health of the destinations
    Status,
    /// Show the account of every event and byte, and whether it balances
    Ledger(ledger::Span),
    /// Show what sending costs: by destination, or by route or team
    Cost(cost::CostArgs),
    /// Write down what a month came to: who sent what where, what it cost, what was saved, what failed
    Report(report::ReportArgs),
    /// Show what each field holds: how often it is there, its values, what it weighs, and personal data in it
    Fields(survey::FieldsArgs),
    /// Show the patterns of the messages: how many there are of each, what they weigh, how they come
    Patterns(survey::PatternsArgs),
    /// Suggest steps that save something or keep personal data from leaving, each with what it would do
    Suggest(suggest::SuggestArgs),
    /// Count the events that meet a condition, and show some of them
    Match(survey::MatchArgs),
    /// Try a plan, or one step more, on real events: what goes, what changes, what it saves. Nothing is applied, sent or counted
    Try(trial::TryArgs),
    /// Make examples of real events: what becomes of them must hold in every plan that is applied later
    Example {
        /// What is done.
        #[command(subcommand)]
        command: ExampleCommand,
    },
    /// Show events as they pass a point
    Tail {
        /// source:NAME, route:NAME, destination:NAME or remainder
        point: String,
        /// Only events that meet this condition
        #[arg(long, value_name = "CONDITION")]
        when: Option<String>,
        /// Show events as they came, as they went on, or both
        #[arg(long, value_enum, default_value_t = tail::Side::After)]
        side: tail::Side,
        /// Stop after N events
        #[arg(long, value_name = "N")]
        most: Option<u64>,
    },
    /// Send a file or standard input to a source
    Send {
        /// The file; standard input if omitted
        file: Option<PathBuf>,
        /// The source, by name
        #[arg(long, required_unless_present = "url", conflicts_with = "url")]
        source: Option<String>,
        /// The source's URL, instead of asking the service for it
        #[arg(long)]
        url: Option<String>,
        /// The source's key
        #[arg(long, env = "ROCKROSE_SOURCE_KEY", hide_env_values = true)]
        key: Option<String>,
        /// Send as gzip
        #[arg(long)]
        gzip: bool,
    },
    /// Show records that could not be read or were refused permanently
    Quarantine {
        /// Show at most N records
        #[arg(long, default_value_t = 20, value_name = "N")]
        most: i64,
        /// Only records older than number N
        #[arg(long, value_name = "N")]
        before: Option<i64>,
    },
    /// Requeue what destinations refused, after running their current steps over it
    ///
    /// The destination's current `always` steps run over each event as it was before them. So correct the plan first, then resend.
    Resend(ResendArgs),
    /// Show, test, pause and resume sources, and manage their keys
    Source {
        /// What is done.
        #[command(subcommand)]
        command: SourceCommand,
    },
    /// Show, acknowledge, silence and try alerts
    Alert {
        /// What is done.
        #[command(subcommand)]
        command: AlertCommand,
    },
    /// Show how much of each budget is used, and lift one until its period is over
    Budget {
        /// What is done.
        #[command(subcommand)]
        command: BudgetCommand,
    },
    /// Show, test, pause, resume and empty destinations
    Destination {
        /// What is done.
        #[command(subcommand)]
        command: DestinationCommand,
    },
    /// Keep, list and forget secrets
    Secret {
        /// What is done.
        #[command(subcommand)]
        command: SecretCommand,
    },
    /// Make a link that signs a browser in to the console, once
    Link {
        /// Sign this person in, instead of whoever holds the token
        #[arg(long, value_name = "NAME")]
        person: Option<String>,
    },
    /// Show who you are to the service, and what you may do
    Me,
    /// Add, list and remove the people who sign in, and say what each may see and do
    Person {
        /// What is done.
        #[command(subcommand)]
        command: PersonCommand,
    },
    /// Make, list and revoke tokens for programs
    Token {
        /// What is done.
        #[command(subcommand)]
        command: TokenCommand,
    },
    /// List and end the sessions of browsers
    Session {
        /// What is done.
        #[command(subcommand)]
        command: SessionCommand,
    },
    /// Show who did what, newest first, or check that no entry was changed
    Journal(JournalArgs),
    /// Explain why an event goes where it goes: the deciding parts of each route's condition, each step's effect, the destinations
    Why(why::WhyArgs),
}

/// Does what a command says.
///
/// # Errors
/// Why it could not be done, with the exit code for that.
pub async fn run(common: &Common, command: ClientCommand) -> Outcome {
    match command {
        ClientCommand::NewPlan { from, to, output } => plan::new_plan(from, to, output.as_deref()),
        ClientCommand::Check { plan } => plan::check(&plan, common.json),
        ClientCommand::Fmt { plan, write, check } => language::fmt(&plan, write, check),
        ClientCommand::Explain { sentence } => language::explain(&sentence, common.json),
        ClientCommand::LanguageServer => language_server::serve(common).await,
        ClientCommand::Schema => format::print_json(&rockrose_plan::schema()),
        ClientCommand::Apply { plan, step, at, why, first, well_for, yes } => match (plan, step.zip(at)) {
            (Some(plan), _) => plan::apply(common, &plan, &why, yes, plan::first_hosts(first, &well_for)?).await,
            (None, Some((step, at))) => plan::apply_step(common, step, at, &why, yes).await,
            (None, None) => Err(Failure::new(Exit::Failed, "give a plan, or --step and --at")),
        },
        ClientCommand::Revisions { number, command } => {
            let shown = command.map(|plan::RevisionCommand::Show { number }| number);
            plan::revisions(common, number.or(shown)).await
        }
        ClientCommand::Diff { one, other } => plan::diff(common, one, other).await,
        ClientCommand::Revert { number, why, yes } => plan::revert(common, number, &why, yes).await,
        ClientCommand::Status => status::status(common).await,
        ClientCommand::Cost(args) => cost::cost(common, args).await,
        ClientCommand::Report(args) => report::report(common, args).await,
        ClientCommand::Ledger(span) => ledger::ledger(common, span).await,
        ClientCommand::Fields(args) => survey::fields(common, args).await,
        ClientCommand::Suggest(args) => suggest::suggest(common, args).await,
        ClientCommand::Match(args) => survey::matching(common, args).await,
        ClientCommand::Patterns(args) => survey::patterns(common, args).await,
        ClientCommand::Example { command } => example::example(common, command).await,
        ClientCommand::Try(args) => trial::run(common, args).await,
        ClientCommand::Tail { point, when, side, most } => tail::tail(common, &point, when.as_deref(), side, most).await,
        ClientCommand::Send { file, source, url, key, gzip } => send::send(common, send::SendArgs { file, source, url, key, gzip }).await,
        ClientCommand::Quarantine { most, before } => quarantine::quarantine(common, most, before).await,
        ClientCommand::Resend(args) => resend::resend(common, args).await,
        ClientCommand::Source { command } => source::source(common, command).await,
        ClientCommand::Alert { command } => alert::alert(common, command).await,
        ClientCommand::Budget { command } => budget::budget(common, command).await,
        ClientCommand::Destination { command } => destination::destination(common, command).await,
        ClientCommand::Secret { command } => secret::secret(common, command).await,
        ClientCommand::Link { person } => link::link(common, person).await,
        ClientCommand::Me => people::me(common).await,
        ClientCommand::Person { command } => people::person(common, command).await,
        ClientCommand::Token { command } => people::token(common, command).await,
        ClientCommand::Session { command } => people::session(common, command).await,
        ClientCommand::Journal(args) => journal::journal(common, args).await,
        ClientCommand::Why(args) => why::why(common, args).await,
    }
}
