//! Ready-made sets of grants.

use rockrose_language::Literal;

/// A ready-made set of grants.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Role {
    /// What it is called.
    pub name: &'static str,
    /// For whom it is, in a sentence.
    pub says: &'static str,
    /// Its grants. `$team` in them stands for the name of a team, in quotes.
    grants: &'static [&'static str],
}

/// All of them.
pub const ROLES: &[Role] = &[
    Role {
        name: "viewer",
        says: "Sees all events with personal data masked; changes nothing.",
        grants: &["see after redact email, card, iban, phone, name, ip, secret"],
    },
    Role {
        name: "team",
        says: "Sees the events of one team, and changes the team's routes and recipes.",
        grants: &["see when team = $team", "change team $team"],
    },
    Role { name: "operator", says: "Sees all events, operates sources and destinations, and applies plans.", grants: &["see", "operate", "change"] },
    Role { name: "auditor", says: "Reads the journal; sees no events.", grants: &["audit"] },
    Role { name: "owner", says: "May do everything.", grants: &["see", "operate", "change", "secrets", "people", "audit"] },
];

impl Role {
    /// The role called `name`.
    #[must_use]
    pub fn called(name: &str) -> Option<Role> {
        ROLES.iter().find(|role| role.name == name).copied()
    }

    /// Whether it needs to be told a team.
    #[must_use]
    pub fn is_of_a_team(&self) -> bool {
        self.grants.iter().any(|grant| grant.contains("$team"))
    }

    /// Its grants as sentences, for the team called `team` where it is one's.
    #[must_use]
    pub fn grants(&self, team: &str) -> Vec<String> {
        let team = Literal::Text(team.to_owned()).to_string();
        self.grants.iter().map(|grant| grant.replace("$team", &team)).collect()
    }
}
