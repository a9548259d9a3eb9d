//! What a source for agents and whoever manages them say to each other.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};

use rockrose_event::output::{QueuePlace, Stretch};
use rockrose_opamp::AgentToServer;

use crate::{Position, Refusal, Sink};

/// The SHA-256 of a certificate (DER).
pub type Fingerprint = [u8; 32];

/// An agent that may send.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KnownAgent {
    /// Its id: 32 hexadecimal digits.
    pub id: String,
    /// Its name.
    pub name: String,
    /// The group in which it is.
    pub group: String,
}

/// A message of an agent, or of one that is to become one.
#[derive(Clone, Debug)]
pub struct AgentMessage {
    /// The source it came to.
    pub source: String,
    /// Whence it came.
    pub from: Option<IpAddr>,
    /// The certificate that was shown, if one was.
    pub certificate: Option<Fingerprint>,
    /// The code that was shown, if one was.
    pub code: Option<String>,
    /// What it says.
    pub says: AgentToServer,
}

/// Why an agent is not answered.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum AgentRefusal {
    /// Nobody knows who it is, in a sentence.
    #[error("{0}")]
    Stranger(String),
    /// What it says was kept nowhere; it may be said again.
    #[error("the service cannot keep what agents say: {0}")]
    NotKept(String),
}

/// The certificate that a source for agents shows, with its key, and the authority that signed it and the agents' own. All are PEM.
#[derive(Clone, PartialEq, Eq)]
pub struct DoorCertificates {
    /// Its certificate.
    pub certificate: String,
    /// Its private key.
    pub key: String,
    /// The authority's certificate.
    pub authority: String,
}

impl std::fmt::Debug for DoorCertificates {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("DoorCertificates(…)")
    }
}

/// How far the queues of one agent are taken; not known yet, or not for sure.
type Reached = Option<HashMap<String, QueuePlace>>;

/// Whose turn it is to hand on what an agent sends. Each agent's bodies are taken one after the other, so that one whose answer was lost cannot overtake itself.
#[derive(Debug, Default)]
pub(crate) struct AgentTurns(Mutex<HashMap<String, Arc<tokio::sync::Mutex<Reached>>>>);

/// Most agents whose turns are remembered.
const TURNS: usize = 100_000;

/// The turn of one agent at one source.
pub(crate) struct AgentTurn(tokio::sync::OwnedMutexGuard<Reached>);

/// What is to be done with a stretch of a queue.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum StretchTurn {
    /// None of it was taken yet.
    New,
    /// All of it was taken before.
    Repeated,
    /// It was taken up to this place.
    Partly(QueuePlace),
    /// The agent has sent stretches of too many queues.
    TooMany,
}

/// Most queues of one agent that are told apart.
pub(crate) const QUEUES: usize = 64;

impl AgentTurns {
    /// The turn of an agent at the source called `source`.
    pub(crate) async fn turn(&self, source: &str, agent: &str) -> AgentTurn {
        let turn = {
            let mut turns = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            if turns.len() >= TURNS {
                turns.retain(|_, turn| Arc::strong_count(turn) > 1);
            }
            Arc::clone(turns.entry(format!("{source} {agent}")).or_default())
        };
        AgentTurn(turn.lock_owned().await)
    }
}

/// The source's own name for how far a queue of an agent is taken.
fn position_id(agent: &str, queue: &str) -> String {
    format!("agent {agent} {queue}")
}

impl AgentTurn {
    /// What is to be done with a stretch, by what is kept of the queue.
    ///
    /// # Errors
    /// If that cannot be read.
    pub(crate) async fn look<S: Sink>(&mut self, sink: &S, source: &str, agent: &str, stretch: &Stretch) -> Result<StretchTurn, Refusal> {
        if self.0.is_none() {
            let prefix = position_id(agent, "");
            let kept = sink.positions(source).await?;
            let read = |position: &Position| Some((position.id.strip_prefix(&prefix)?.to_owned(), position.content.as_ref()?.parse().ok()?));
            *self.0 = Some(kept.iter().filter_map(read).collect());
        }
        let reached = self.0.as_ref().and_then(|reached| reached.get(&stretch.queue)).copied();
        Ok(match reached {
            Some(reached) if stretch.last <= reached => StretchTurn::Repeated,
            Some(reached) if stretch.first <= reached => StretchTurn::Partly(reached),
            None if self.0.as_ref().is_some_and(|reached| reached.len() >= QUEUES) => StretchTurn::TooMany,
            _ => StretchTurn::New,
        })
    }

    /// How far the queue is taken once the stretch is.
    pub(crate) fn position(agent: &str, stretch: &Stretch) -> Position {
        Position { id: position_id(agent, &stretch.queue), content: Some(stretch.last.to_string()) }
    }

    /// The stretch was taken; or it is not known, and is to be looked up again.
    pub(crate) fn ended(mut self, stretch: &Stretch, taken: bool) {
        match (self.0.as_mut(), taken) {
            (Some(reached), true) => drop(reached.insert(stretch.queue.clone(), stretch.last)),
            _ => *self.0 = None,
        }
    }
}

#[cfg(test)]
mod tests {
    use rockrose_event::buffers::Buffer;
    use rockrose_event::record::DeclaredFormat;

    use super::*;
    use crate::{BodyMetadata, Receipt};

    /// Keeps positions, and nothing else.
    struct Positions(Mutex<Vec<Position>>);

    impl Sink for Positions {
        async fn accept(&self, _: &str, _: Arc<Buffer>, _: DeclaredFormat, with: BodyMetadata) -> Result<Receipt, Refusal> {
            self.0.lock().unwrap().extend(with.positions);
            Ok(Receipt::default())
        }

        async fn lost(&self, _: &str, _: u64, _: u64) {}

        async fn positions(&self, _: &str) -> Result<Vec<Position>, Refusal> {
            Ok(self.0.lock().unwrap().clone())
        }
    }

    fn stretch(queue: &str, first: (i64, i64), last: (i64, i64)) -> Stretch {
        let at = |(entry, place): (i64, i64)| QueuePlace { entry, place };
        Stretch { queue: queue.to_owned(), first: at(first), last: at(last) }
    }

    #[tokio::test]
    async fn a_stretch_is_taken_once_however_it_is_cut_and_each_agent_has_its_own() {
        let kept = Positions(Mutex::new(vec![AgentTurn::position("a", &stretch("q", (1, 0), (4, 7)))]));
        let turns = AgentTurns::default();
        let look = async |agent: &str, of: &Stretch| turns.turn("hosts", agent).await.look(&kept, "hosts", agent, of).await.unwrap();
        assert_eq!(look("a", &stretch("q", (2, 0), (4, 7))).await, StretchTurn::Repeated);
        assert_eq!(look("a", &stretch("q", (4, 7), (4, 9))).await, StretchTurn::Partly(QueuePlace { entry: 4, place: 7 }));
        assert_eq!(look("a", &stretch("q", (4, 8), (9, 0))).await, StretchTurn::New);
        assert_eq!((look("a", &stretch("other", (1, 0), (1, 0))).await, look("b", &stretch("q", (1, 0), (1, 0))).await), (StretchTurn::New, StretchTurn::New));
        // What was taken is known at once; what may or may not have been is looked up.
        let next = stretch("q", (4, 8), (9, 0));
        let mut turn = turns.turn("hosts", "a").await;
        turn.look(&kept, "hosts", "a", &next).await.unwrap();
        turn.ended(&next, true);
        assert_eq!(look("a", &next).await, StretchTurn::Repeated);
        turns.turn("hosts", "a").await.ended(&next, false);
        assert_eq!(look("a", &next).await, StretchTurn::New, "what is kept says that it was not");
    }

    #[tokio::test]
    async fn an_agent_cannot_have_queues_without_end() {
        let kept = Positions(Mutex::new((0..QUEUES).map(|n| AgentTurn::position("a", &stretch(&format!("q{n}"), (1, 0), (1, 0)))).collect()));
        let turns = AgentTurns::default();
        let mut turn = turns.turn("hosts", "a").await;
        assert_eq!(turn.look(&kept, "hosts", "a", &stretch("more", (1, 0), (1, 0))).await.unwrap(), StretchTurn::TooMany);
        assert_eq!(turn.look(&kept, "hosts", "a", &stretch("q3", (1, 1), (1, 1))).await.unwrap(), StretchTurn::New);
    }
}
