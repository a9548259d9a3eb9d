//! `person`, `token`, `session`, `me`: who may come in, and what they may see and do.

use std::io::{IsTerminal, Read};

use clap::{Args, Subcommand};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::Method;
use rockrose_api::{MadeToken, Me, NewGrants, NewPassword, NewPerson, NewToken, Person, Role, Session, Token, WhoSees, WhoSeesRequest};
use serde_json::json;

use crate::client::Client;
use crate::{Common, Exit, Failure, Outcome, format};

/// What somebody may do, as it is asked for.
#[derive(Args)]
pub struct GrantArgs {
    /// A grant, in quotes, as in 'see at route:boarding when team = "gates"'; may be repeated
    #[arg(long = "grant", value_name = "GRANT")]
    grants: Vec<String>,
    /// A ready-made set of grants: viewer, team, operator, auditor or owner
    #[arg(long, value_name = "ROLE")]
    role: Option<String>,
    /// The team's name, for the role `team`
    #[arg(long, value_name = "NAME", requires = "role")]
    team: Option<String>,
}

/// What is done with people.
#[derive(Subcommand)]
pub enum PersonCommand {
    /// List the people who sign in, and what each may do
    List,
    /// Add a person
    Add {
        /// Their name
        name: String,
        /// What they may do.
        #[command(flatten)]
        grants: GrantArgs,
    },
    /// Replace what a person may do; takes effect at once
    Grant {
        /// Their name
        name: String,
        /// What they may do.
        #[command(flatten)]
        grants: GrantArgs,
    },
    /// Set a person's password, read from standard input, and sign them out
    Password {
        /// Their name
        name: String,
        /// Take the password away instead
        #[arg(long)]
        remove: bool,
    },
    /// Remove a person and sign them out
    Remove {
        /// Their name
        name: String,
    },
    /// List the ready-made sets of grants
    Roles,
    /// Show who may see an event at a point, and how it looks to each of them
    WhoSees {
        /// source:NAME, route:NAME, destination:NAME or remainder
        point: String,
        /// The event as it stands there, a JSON object; standard input if omitted
        event: Option<String>,
    },
}

/// What is done with tokens.
#[derive(Subcommand)]
pub enum TokenCommand {
    /// List the tokens of programs, what each may do, and when and from where it was last used
    List,
    /// Make a token for a program; it is printed once
    Make {
        /// Its name
        name: String,
        /// What they may do.
        #[command(flatten)]
        grants: GrantArgs,
        /// How many days it is good for; until it is revoked if omitted
        #[arg(long, value_name = "N", value_parser = clap::value_parser!(i64).range(1..=3650))]
        days: Option<i64>,
    },
    /// Revoke a token at once
    Revoke {
        /// Its name
        name: String,
    },
}

/// What is done with sessions.
#[derive(Subcommand)]
pub enum SessionCommand {
    /// List the browsers that are signed in
    List,
    /// Sign a browser out
    End {
        /// The session's number
        number: i64,
    },
}

fn in_path(name: &str) -> String {
    utf8_percent_encode(name, NON_ALPHANUMERIC).to_string()
}

impl GrantArgs {
    /// The grants as sentences.
    async fn sentences(self, client: &Client) -> Result<Vec<String>, Failure> {
        let mut sentences = Vec::new();
        if let Some(role) = self.role {
            let query = self.team.as_ref().map_or_else(String::new, |team| format!("?team={}", in_path(team)));
            let roles: Vec<Role> = client.get(&format!("/api/v1/roles{query}")).await?.read()?;
            let known = || roles.iter().map(|r| r.name.as_str()).collect::<Vec<_>>().join(", ");
            let Some(found) = roles.iter().find(|r| r.name == role) else {
                return Err(Failure::new(Exit::Failed, format!("there is no role `{role}`; roles are {}", known())));
            };
            if found.of_team && self.team.is_none() {
                return Err(Failure::new(Exit::Failed, format!("the role `{role}` is for one team: add --team NAME")));
            }
            sentences.extend(found.grants.iter().cloned());
        }
        sentences.extend(self.grants);
        if sentences.is_empty() {
            return Err(Failure::new(Exit::Failed, "say what they may do: --role ROLE, or --grant GRANT"));
        }
        Ok(sentences)
    }
}

/// Grants in a cell of a table.
fn cell(grants: &[String]) -> String {
    if grants.is_empty() { "nothing".to_owned() } else { grants.join("; ") }
}

fn ends(expires_ms: Option<i64>) -> String {
    expires_ms.map_or_else(|| "never".to_owned(), format::moment)
}

fn used(at: Option<i64>, from: Option<&str>) -> (String, String) {
    (at.map_or_else(|| "never".to_owned(), format::moment), from.unwrap_or_default().to_owned())
}

fn done(common: &Common, as_json: &serde_json::Value, says: &str) -> Outcome {
    if common.json { format::print_json(as_json) } else { format::line(says) }
}

pub(crate) async fn me(common: &Common) -> Outcome {
    let answer = Client::new(common)?.get("/api/v1/me").await?;
    if common.json {
        return answer.print();
    }
    let me: Me = answer.read()?;
    let kind = if me.person { "person" } else { "token" };
    let mut lines = vec![format!("{} ({kind}), ends {}", me.name, me.expires_ms.map_or_else(|| "never".to_owned(), format::moment))];
    lines.extend(me.grants.iter().map(|grant| format!("  {grant}")));
    if me.grants.is_empty() {
        lines.push("  may do nothing".to_owned());
    }
    format::line(&lines.join("\n"))
}

pub(crate) async fn person(common: &Common, command: PersonCommand) -> Outcome {
    let client = Client::new(common)?;
    match command {
        PersonCommand::List => {
            let answer = client.get("/api/v1/people").await?;
            if common.json {
                return answer.print();
            }
            let people: Vec<Person> = answer.read()?;
            if people.is_empty() {
                return format::line("No people yet. Add one: rockrose person add NAME --role viewer");
            }
            let row = |p: Person| vec![p.name, signs_in_by(p.password, p.account), format::moment(p.made_ms), p.made_by, cell(&p.grants)];
            format::line(&format::table(&["name", "signs in by", "added", "by", "may"], &[], people.into_iter().map(row).collect()))
        }
        PersonCommand::Add { name, grants } => {
            let grants = grants.sentences(&client).await?;
            client.call(Method::POST, "/api/v1/people", &NewPerson { name: name.clone(), grants }).await?;
            done(
                common,
                &json!({ "added": name }),
                &format!("{name} was added. Sign them in: rockrose link --person {name:?}, or set a password: rockrose person password {name:?}"),
            )
        }
        PersonCommand::Grant { name, grants } => {
            let grants = grants.sentences(&client).await?;
            client.call(Method::PUT, &format!("/api/v1/people/{}/grants", in_path(&name)), &NewGrants { grants: grants.clone() }).await?;
            done(common, &json!({ "name": name, "grants": grants }), &format!("From now on {name} may: {}", cell(&grants)))
        }
        PersonCommand::Password { name, remove } => {
            let password = if remove { None } else { Some(password(&name)?) };
            client.call(Method::PUT, &format!("/api/v1/people/{}/password", in_path(&name)), &NewPassword { password }).await?;
            done(common, &json!({ "name": name, "password": !remove }), if remove { "Password removed." } else { "Password set." })
        }
        PersonCommand::Remove { name } => {
            client.call_bare(Method::DELETE, &format!("/api/v1/people/{}", in_path(&name))).await?;
            done(common, &json!({ "removed": name }), &format!("{name} was removed and signed out."))
        }
        PersonCommand::Roles => {
            let answer = client.get("/api/v1/roles").await?;
            if common.json {
                return answer.print();
            }
            let roles: Vec<Role> = answer.read()?;
            format::line(&format::table(&["role", "for", "may"], &[], roles.into_iter().map(|r| vec![r.name, r.says, cell(&r.grants)]).collect()))
        }
        PersonCommand::WhoSees { point, event } => {
            let event = match event {
                Some(event) => event,
                None => input()?,
            };
            let answer = client.call(Method::POST, "/api/v1/people/who-sees", &WhoSeesRequest { place: point, event }).await?;
            if common.json {
                return answer.print();
            }
            let seen: Vec<WhoSees> = answer.read()?;
            if seen.is_empty() {
                return format::line("Nobody may see it.");
            }
            let row = |w: WhoSees| vec![w.name, if w.person { "person" } else { "token" }.to_owned(), w.event];
            format::line(&format::table(&["name", "kind", "sees"], &[], seen.into_iter().map(row).collect()))
        }
    }
}

pub(crate) async fn token(common: &Common, command: TokenCommand) -> Outcome {
    let client = Client::new(common)?;
    match command {
        TokenCommand::List => {
            let answer = client.get("/api/v1/tokens").await?;
            if common.json {
                return answer.print();
            }
            let row = |t: Token| {
                let (used, from) = used(t.used_ms, t.used_from.as_deref());
                vec![t.name, format::moment(t.made_ms), t.made_by, ends(t.expires_ms), used, from, cell(&t.grants)]
            };
            let tokens: Vec<Token> = answer.read()?;
            format::line(&format::table(&["name", "made", "by", "ends", "last used", "from", "may"], &[], tokens.into_iter().map(row).collect()))
        }
        TokenCommand::Make { name, grants, days } => {
            let grants = grants.sentences(&client).await?;
            let answer = client.call(Method::POST, "/api/v1/tokens", &NewToken { name, grants, days }).await?;
            if common.json {
                return answer.print();
            }
            format::line(&answer.read::<MadeToken>()?.token)
        }
        TokenCommand::Revoke { name } => {
            let tokens: Vec<Token> = client.get("/api/v1/tokens").await?.read()?;
            let Some(found) = tokens.iter().find(|t| t.name == name) else {
                return Err(Failure::new(Exit::Failed, format!("there is no token `{name}`")));
            };
            client.call_bare(Method::DELETE, &format!("/api/v1/tokens/{}", found.id)).await?;
            done(common, &json!({ "revoked": name }), &format!("The token `{name}` was revoked."))
        }
    }
}

pub(crate) async fn session(common: &Common, command: SessionCommand) -> Outcome {
    let client = Client::new(common)?;
    match command {
        SessionCommand::List => {
            let answer = client.get("/api/v1/sessions").await?;
            if common.json {
                return answer.print();
            }
            let sessions: Vec<Session> = answer.read()?;
            if sessions.is_empty() {
                return format::line("No browser is signed in.");
            }
            let row = |s: Session| {
                let (used, from) = used(s.used_ms, s.used_from.as_deref());
                vec![s.id.to_string(), s.name, format::moment(s.made_ms), ends(s.expires_ms), used, from]
            };
            format::line(&format::table(&["number", "name", "since", "ends", "last used", "from"], &[0], sessions.into_iter().map(row).collect()))
        }
        SessionCommand::End { number } => {
            client.call_bare(Method::DELETE, &format!("/api/v1/sessions/{number}")).await?;
            done(common, &json!({ "ended": number }), &format!("Session {number} was ended."))
        }
    }
}

fn input() -> Result<String, Failure> {
    let mut text = String::new();
    std::io::stdin().read_to_string(&mut text).map_err(|e| Failure::new(Exit::Failed, format!("cannot read standard input: {e}")))?;
    Ok(text)
}

/// How somebody can sign in, or has.
fn signs_in_by(password: bool, account: bool) -> String {
    let ways = [("link", true), ("password", password), ("provider", account)];
    ways.into_iter().filter_map(|(way, is_so)| is_so.then_some(way)).collect::<Vec<_>>().join(", ")
}

fn password(name: &str) -> Result<String, Failure> {
    if std::io::stdin().is_terminal() {
        eprintln!("The password of {name}, then Ctrl-D (it shows as you type; pipe it in to avoid that):");
    }
    Ok(input()?.trim_end_matches(['\n', '\r']).to_owned())
}
