//! Agents that have enrolled, the codes with which they do, and the authority that signs their certificates.

use diesel::prelude::*;

use crate::schema::{agent, authority, enrol_code, rollout};
use crate::tokens::hash;
use crate::{NewToken, Records, RecordsError, random_text};

/// What the authority's key is sealed for.
const PURPOSE: &str = "authority of agents";
/// What the key of the sources for agents is sealed for.
const DOOR: &str = "sources for agents";
/// How many characters of a code are random: 100 bits.
const CODE: usize = 25;

/// An authority: its certificate, and its private key. Both are PEM.
#[derive(Clone)]
pub struct Authority {
    /// The certificate.
    pub certificate: String,
    /// The private key.
    pub key: String,
}

impl std::fmt::Debug for Authority {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Authority(…)")
    }
}

/// A code with which agents enrol, without its text.
#[derive(Clone, Debug, PartialEq, Eq, Queryable)]
pub struct EnrolCode {
    /// Its number.
    pub id: i64,
    /// The group in which agents enrol with it.
    pub group: String,
    /// How many more may.
    pub uses_left: i32,
    /// When it was made, in milliseconds since 1970.
    pub made_ms: i64,
    /// Who made it.
    pub made_by: String,
    /// When it ends, in milliseconds since 1970.
    pub expires_ms: i64,
}

/// An agent that has enrolled.
#[derive(Clone, Debug, PartialEq, Eq, Queryable)]
pub struct AgentRecord {
    /// Its own 16 bytes, as hexadecimal digits.
    pub id: String,
    /// Its name.
    pub name: String,
    /// The group in which it enrolled.
    pub group: String,
    /// SHA-256 of its public key.
    pub key: Vec<u8>,
    /// SHA-256 of its certificate.
    pub certificate: Vec<u8>,
    /// That of the certificate before, until the new one was used.
    pub previous: Option<Vec<u8>>,
    /// When its certificate was signed, in milliseconds since 1970.
    pub signed_ms: i64,
    /// When it enrolled, in milliseconds since 1970.
    pub enrolled_ms: i64,
    /// With which code.
    pub code: i64,
    /// When it was heard last, in milliseconds since 1970, to the minute.
    pub seen_ms: i64,
    /// What it says of its host: a JSON object.
    pub facts: String,
    /// What else it said last, as JSON.
    pub said: String,
    /// The labels that the centre gives it: a JSON object.
    pub labels: String,
}

/// An agent that is about to enrol.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewAgent {
    /// Its own 16 bytes, as hexadecimal digits.
    pub id: String,
    /// Its name.
    pub name: String,
    /// SHA-256 of its public key.
    pub key: Vec<u8>,
    /// SHA-256 of its certificate.
    pub certificate: Vec<u8>,
}

/// What keeps an agent from enrolling.
#[derive(Debug, thiserror::Error)]
pub enum EnrolRefusal {
    /// The code is none, has ended, or was used up.
    #[error("the code is unknown, has ended or was used as often as it may be")]
    Code,
    /// Another agent has that name.
    #[error("an agent called `{0}` has enrolled already")]
    Name(String),
    /// Another agent has that id.
    #[error("another agent has enrolled with this id")]
    Id,
    /// The records cannot be read or written.
    #[error(transparent)]
    Records(#[from] RecordsError),
}

impl From<diesel::result::Error> for EnrolRefusal {
    fn from(e: diesel::result::Error) -> EnrolRefusal {
        EnrolRefusal::Records(e.into())
    }
}

impl Records {
    /// The authority that signs the certificates of agents, if there is one yet.
    pub fn authority(&self) -> Result<Option<Authority>, RecordsError> {
        let found: Option<(String, Vec<u8>)> =
            self.with(|c| Ok(authority::table.select((authority::certificate, authority::sealed)).first(c).optional()?))?;
        let Some((certificate, sealed)) = found else { return Ok(None) };
        let opened = self.unseal(PURPOSE, &sealed).and_then(|key| String::from_utf8(key).ok());
        let key = opened.ok_or_else(|| RecordsError::Key("is not the one that the authority of agents was sealed with".into()))?;
        Ok(Some(Authority { certificate, key }))
    }

    /// Keeps the authority, unless there is one; returns the one that is kept.
    pub fn keep_authority(&self, new: &Authority) -> Result<Authority, RecordsError> {
        let sealed = self.seal(PURPOSE, new.key.as_bytes())?;
        let row = (authority::id.eq(1), authority::certificate.eq(&new.certificate), authority::sealed.eq(sealed));
        self.with(|c| Ok(diesel::insert_or_ignore_into(authority::table).values(row).execute(c)?))?;
        Ok(self.authority()?.unwrap_or_else(|| new.clone()))
    }

    /// The private key (PEM) of the sources that agents come to; `new` is kept, if there is none. There has to be an authority.
    pub fn door_key(&self, new: &str) -> Result<String, RecordsError> {
        let sealed = self.seal(DOOR, new.as_bytes())?;
        let kept: Option<Vec<u8>> = self.with(|c| {
            let none_yet = authority::table.filter(authority::door.is_null());
            diesel::update(none_yet).set(authority::door.eq(sealed)).execute(c)?;
            Ok(authority::table.select(authority::door).first::<Option<Vec<u8>>>(c).optional()?.flatten())
        })?;
        let opened = kept.and_then(|kept| self.unseal(DOOR, &kept)).and_then(|key| String::from_utf8(key).ok());
        opened.ok_or_else(|| RecordsError::Key("is not the one that the key of the sources for agents was sealed with".into()))
    }

    /// Whether an agent could enrol with a code.
    pub fn is_good_code(&self, text: &str, now_ms: i64) -> Result<bool, RecordsError> {
        use enrol_code::{expires_ms, table, uses_left};
        let good = table.filter(enrol_code::hash.eq(hash(text)).and(expires_ms.gt(now_ms)).and(uses_left.gt(0)));
        self.with(|c| Ok(good.count().get_result::<i64>(c)? > 0))
    }

    /// Makes a code with which so many agents can enrol in a group until it ends.
    pub fn make_code(&self, group: &str, uses: i32, made_by: &str, now_ms: i64, expires_ms: i64) -> Result<(i64, NewToken), RecordsError> {
        let text: String = random_text()?.chars().take(CODE).collect();
        let row = (
            (enrol_code::hash.eq(hash(&text)), enrol_code::group_name.eq(group), enrol_code::uses_left.eq(uses)),
            (enrol_code::made_ms.eq(now_ms), enrol_code::made_by.eq(made_by), enrol_code::expires_ms.eq(expires_ms)),
        );
        let id = self.with(|c| {
            c.immediate_transaction(|c| {
                diesel::delete(enrol_code::table.filter(enrol_code::expires_ms.le(now_ms))).execute(c)?;
                Ok(diesel::insert_into(enrol_code::table).values(row).returning(enrol_code::id).get_result(c)?)
            })
        })?;
        Ok((id, NewToken::of(text)))
    }

    /// The codes that have neither ended nor been used up, newest first.
    pub fn codes(&self, now_ms: i64) -> Result<Vec<EnrolCode>, RecordsError> {
        use enrol_code::{expires_ms, group_name, id, made_by, made_ms, table, uses_left};
        let shown = (id, group_name, uses_left, made_ms, made_by, expires_ms);
        self.with(|c| Ok(table.filter(expires_ms.gt(now_ms).and(uses_left.gt(0))).order(id.desc()).select(shown).load(c)?))
    }

    /// Ends a code. Says whether there was one.
    pub fn end_code(&self, number: i64) -> Result<bool, RecordsError> {
        self.with(|c| Ok(diesel::delete(enrol_code::table.find(number)).execute(c)? > 0))
    }

    /// Enrols an agent with a code. One whose answer was lost may ask again, with the same id, key and code; that is no further use of it.
    ///
    /// # Errors
    /// If the code is none, or the name or the id is another agent's. Nothing has changed then.
    pub fn enrol(&self, code: &str, new: &NewAgent, now_ms: i64) -> Result<AgentRecord, EnrolRefusal> {
        let mut connection = self.connection();
        connection.immediate_transaction(|c| {
            let found: Option<(i64, String, i32)> = enrol_code::table
                .filter(enrol_code::hash.eq(hash(code)).and(enrol_code::expires_ms.gt(now_ms)))
                .select((enrol_code::id, enrol_code::group_name, enrol_code::uses_left))
                .first(c)
                .optional()?;
            let (code, group, uses_left) = found.ok_or(EnrolRefusal::Code)?;
            let known: Option<AgentRecord> = agent::table.find(&new.id).first(c).optional()?;
            if let Some(known) = known {
                if known.key != new.key || known.code != code || known.name != new.name {
                    return Err(EnrolRefusal::Id);
                }
                diesel::update(agent::table.find(&new.id)).set((agent::certificate.eq(&new.certificate), agent::signed_ms.eq(now_ms))).execute(c)?;
            } else {
                if uses_left < 1 {
                    return Err(EnrolRefusal::Code);
                }
                if agent::table.filter(agent::name.eq(&new.name)).count().get_result::<i64>(c)? > 0 {
                    return Err(EnrolRefusal::Name(new.name.clone()));
                }
                let row = (
                    (agent::id.eq(&new.id), agent::name.eq(&new.name), agent::group_name.eq(group), agent::key.eq(&new.key)),
                    (agent::certificate.eq(&new.certificate), agent::signed_ms.eq(now_ms), agent::enrolled_ms.eq(now_ms), agent::code.eq(code)),
                    (agent::seen_ms.eq(now_ms), agent::facts.eq("{}"), agent::said.eq("{}")),
                );
                diesel::insert_into(agent::table).values(row).execute(c)?;
                diesel::update(enrol_code::table.find(code)).set(enrol_code::uses_left.eq(uses_left - 1)).execute(c)?;
            }
            Ok(agent::table.find(&new.id).first(c)?)
        })
    }

    /// All agents, by name.
    pub fn agents(&self) -> Result<Vec<AgentRecord>, RecordsError> {
        self.with(|c| Ok(agent::table.order(agent::name).load(c)?))
    }

    /// Gives an agent a new certificate. The one that it has `shown` is good until the new one was used: it may be that it never gets this one, nor got the one before.
    pub fn renew_agent(&self, id: &str, shown: &[u8], certificate: &[u8], now_ms: i64) -> Result<(), RecordsError> {
        self.with(|c| {
            let next = (agent::previous.eq(Some(shown)), agent::certificate.eq(certificate), agent::signed_ms.eq(now_ms));
            diesel::update(agent::table.find(id)).set(next).execute(c)?;
            Ok(())
        })
    }

    /// An agent has used its new certificate: the one before is good no longer.
    pub fn agent_renewed(&self, id: &str) -> Result<(), RecordsError> {
        self.with(|c| {
            diesel::update(agent::table.find(id)).set(agent::previous.eq(None::<Vec<u8>>)).execute(c)?;
            Ok(())
        })
    }

    /// Notes what agents said: of each its id, when it was heard, its facts and what else it said.
    pub fn note_agents(&self, said: &[(String, i64, String, String)]) -> Result<(), RecordsError> {
        self.with(|c| {
            c.transaction(|c| {
                for (id, seen_ms, facts, said) in said {
                    let row = (agent::seen_ms.eq(seen_ms), agent::facts.eq(facts), agent::said.eq(said));
                    diesel::update(agent::table.find(id)).set(row).execute(c)?;
                }
                Ok(())
            })
        })
    }

    /// Puts agents into groups, and gives them labels: of each its id, its group and its labels, a JSON object. All of them, or none.
    pub fn set_agents(&self, set: &[(String, String, String)]) -> Result<(), RecordsError> {
        self.with(|c| {
            c.immediate_transaction(|c| {
                for (id, group, labels) in set {
                    diesel::update(agent::table.find(id)).set((agent::group_name.eq(group), agent::labels.eq(labels))).execute(c)?;
                }
                Ok(())
            })
        })
    }

    /// Which program agents are given, as it was kept.
    pub fn rollout(&self) -> Result<Option<String>, RecordsError> {
        self.with(|c| Ok(rollout::table.select(rollout::state).first(c).optional()?))
    }

    /// Keeps which program agents are given.
    pub fn keep_rollout(&self, state: &str) -> Result<(), RecordsError> {
        self.with(|c| {
            diesel::replace_into(rollout::table).values((rollout::id.eq(1), rollout::state.eq(state))).execute(c)?;
            Ok(())
        })
    }

    /// Forgets an agent, whose certificate is good no longer. Says whether there was one.
    pub fn retire_agent(&self, id: &str) -> Result<bool, RecordsError> {
        self.with(|c| Ok(diesel::delete(agent::table.find(id)).execute(c)? > 0))
    }
}
