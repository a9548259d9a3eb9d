//! Who makes a request, and what they may see and do.

use std::net::IpAddr;
use std::sync::Arc;

use rockrose_grants::{Eye, Grants, Need};
use rockrose_intake::Problem;
use rockrose_language::Place;
use rockrose_records::{Bearer, TokenKind};

use crate::App;

/// Who makes a request.
#[derive(Clone, Debug)]
pub(crate) struct Caller {
    /// The number of the token or session.
    pub(crate) id: i64,
    /// The name of the person, or of the token.
    pub(crate) name: String,
    pub(crate) is_person: bool,
    pub(crate) kind: TokenKind,
    pub(crate) grants: Grants,
    pub(crate) from: Option<IpAddr>,
    pub(crate) expires_ms: Option<i64>,
}

impl Caller {
    pub(crate) fn new(bearer: Bearer, kind: TokenKind, from: Option<IpAddr>) -> Caller {
        let Bearer { id, name, is_person, grants, expires_ms } = bearer;
        Caller { id, name, is_person, kind, grants: read(&grants), from, expires_ms }
    }

    /// What they see at a place.
    pub(crate) fn eye(&self, app: &App, place: &Place) -> Eye {
        self.grants.eye(place, &app.engine.key())
    }

    /// What they see at a place where they must see something.
    ///
    /// # Errors
    /// If they see nothing there.
    pub(crate) fn open_eye(&self, app: &App, place: &Place) -> Result<Eye, Problem> {
        let eye = self.eye(app, place);
        if eye.is_blind() { Err(Problem::not_granted(format!("{} may see no events at `{place}`", self.name))) } else { Ok(eye) }
    }

    /// # Errors
    /// If they may not pause, resume, test and purge there.
    pub(crate) fn must_operate(&self, place: &Place) -> Result<(), Problem> {
        if self.grants.operates(place) { Ok(()) } else { Err(Problem::not_granted(format!("{} may not operate `{place}`", self.name))) }
    }

    /// # Errors
    /// If they were not granted what is needed.
    pub(crate) fn must(&self, needs: &[Need]) -> Result<(), Problem> {
        match needs.iter().find(|need| !self.grants.allow(**need)) {
            None => Ok(()),
            Some(Need::Known) => Err(Problem::not_granted(format!("{} may do nothing here", self.name))),
            Some(need @ (Need::SeeAll | Need::ChangeAll)) => {
                Err(Problem::not_granted(format!("this needs the grant `{}` without any bounds, which {} does not have", need.grant(), self.name)))
            }
            Some(need) => Err(Problem::not_granted(format!("this needs the grant `{}`, which {} does not have", need.grant(), self.name))),
        }
    }
}

/// Grants as they are kept: a sentence on each line. One that this version cannot read grants nothing.
pub(crate) fn read(kept: &str) -> Grants {
    let lines: Vec<&str> = kept.lines().collect();
    Grants::read(&lines).unwrap_or_else(|_| {
        let readable: Vec<&str> = lines.into_iter().filter(|line| rockrose_language::parse_grant(line).is_ok()).collect();
        Grants::read(&readable).unwrap_or_default()
    })
}

/// A caller whose stream goes on while what they may see can change.
pub(crate) struct Watched {
    app: Arc<App>,
    pub(crate) caller: Arc<Caller>,
    changes: tokio::sync::watch::Receiver<()>,
}

impl Watched {
    pub(crate) fn new(app: &Arc<App>, caller: Arc<Caller>) -> Watched {
        Watched { app: Arc::clone(app), caller, changes: app.access.subscribe() }
    }

    /// Waits until it must be asked again what they may see. Nothing is lost if this is not waited for to the end.
    pub(crate) async fn stale(&mut self) {
        let left = self.caller.expires_ms.map(|at| std::time::Duration::from_millis((at - crate::now_ms()).max(0) as u64));
        let over = async {
            match left {
                Some(left) => tokio::time::sleep(left).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            _ = self.changes.changed() => {}
            () = over => {}
        }
    }

    /// Who they are now; `None` once their token or session has ended.
    pub(crate) async fn again(&mut self) -> Option<Arc<Caller>> {
        let (id, kind, from) = (self.caller.id, self.caller.kind, self.caller.from);
        let bearer = self.app.records(move |r| r.bearer_again(id, crate::now_ms())).await.ok()??;
        self.caller = Arc::new(Caller::new(bearer, kind, from));
        Some(Arc::clone(&self.caller))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_grant_that_cannot_be_read_grants_nothing_and_the_others_stand() {
        assert_eq!(read("see when team = \"gates\"\nfly\noperate").sentences(), ["see when team = \"gates\"", "operate"]);
        assert_eq!(read("").sentences(), Vec::<String>::new());
    }
}
