//! `secret`: values that plans refer to by name.

use std::io::{IsTerminal, Read};

use clap::Subcommand;
use reqwest::Method;
use rockrose_api::{SecretName, SecretValue};
use serde_json::json;

use crate::client::Client;
use crate::{Common, Exit, Failure, Outcome, format};

/// What is done with secrets.
#[derive(Subcommand)]
pub enum SecretCommand {
    /// Store a secret; its value is read from standard input, or generated
    Set {
        /// The secret's name
        name: String,
        /// Generate a random value and print it once
        #[arg(long)]
        make: bool,
        /// To whom it may be shown: a host, with or without a port; source:NAME for the key of a source; or anywhere. May be repeated; asked for on a terminal
        #[arg(long = "for", value_name = "HOST")]
        shown_to: Vec<String>,
    },
    /// List the secrets' names
    List,
    /// Delete a secret that no plan uses
    Remove {
        /// The secret's name
        name: String,
    },
}

pub(crate) async fn secret(common: &Common, command: SecretCommand) -> Outcome {
    let client = Client::new(common)?;
    match command {
        SecretCommand::Set { name, make, mut shown_to } => {
            if shown_to.is_empty() && std::io::stdin().is_terminal() {
                shown_to = ask_for_whom(&name)?;
            }
            let value = if make { random()? } else { read(&name)? };
            client.call(Method::PUT, &format!("/api/v1/secrets/{name}"), &SecretValue { value: value.clone(), shown_to }).await?;
            match (common.json, make) {
                (true, true) => format::print_json(&json!({ "name": name, "value": value })),
                (true, false) => format::print_json(&json!({ "name": name })),
                (false, true) => format::line(&value),
                (false, false) => format::line(&format!("Secret `{name}` saved.")),
            }
        }
        SecretCommand::List => {
            let answer = client.get("/api/v1/secrets").await?;
            if common.json {
                return answer.print();
            }
            let entries: Vec<SecretName> = answer.read()?;
            if entries.is_empty() {
                return format::line("No secrets are stored.");
            }
            let row = |e: SecretName| {
                let used = if e.used { "yes" } else { "no" };
                vec![e.name, format::moment(e.set_ms), used.to_owned(), e.shown_to.join(", ")]
            };
            format::line(&format::table(&["name", "set", "in use", "for"], &[], entries.into_iter().map(row).collect()))
        }
        SecretCommand::Remove { name } => {
            client.call_bare(Method::DELETE, &format!("/api/v1/secrets/{name}")).await?;
            if common.json { format::print_json(&json!({ "removed": name })) } else { format::line(&format!("Secret `{name}` deleted.")) }
        }
    }
}

/// To whom a secret may be shown, as somebody at a terminal says it. An empty answer leaves that as it is.
fn ask_for_whom(name: &str) -> Result<Vec<String>, Failure> {
    eprint!("Hosts that may be shown `{name}` (separated by blanks; source:NAME for a source's key, anywhere for all): ");
    let mut line = String::new();
    std::io::stdin().read_line(&mut line).map_err(|e| Failure::new(Exit::Failed, format!("cannot read the hosts: {e}")))?;
    Ok(line.split_whitespace().map(str::to_owned).collect())
}

/// 32 characters of 64: 192 bits.
fn random() -> Result<String, Failure> {
    let mut bytes = [0u8; 32];
    getrandom::fill(&mut bytes).map_err(|e| Failure::new(Exit::Failed, format!("no random numbers: {e}")))?;
    const LETTERS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";
    Ok(bytes.iter().map(|b| LETTERS[usize::from(b & 63)] as char).collect())
}

fn read(name: &str) -> Result<String, Failure> {
    if std::io::stdin().is_terminal() {
        eprintln!("The value of `{name}`, then Ctrl-D (it shows as you type; pipe it in to avoid that):");
    }
    let mut value = String::new();
    std::io::stdin().read_to_string(&mut value).map_err(|e| Failure::new(Exit::Failed, format!("cannot read the value: {e}")))?;
    let value = value.trim_end_matches(['\n', '\r']).to_owned();
    if value.is_empty() { Err(Failure::new(Exit::Failed, "the value is empty")) } else { Ok(value) }
}
