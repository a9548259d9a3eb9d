//! The commands, a file each.

pub(crate) mod destination;
pub(crate) mod kit;
pub(crate) mod language;
pub(crate) mod ledger;
pub(crate) mod link;
pub(crate) mod plan;
pub(crate) mod quarantine;
pub(crate) mod secret;
pub(crate) mod send;
pub(crate) mod serve;
pub(crate) mod source;
pub(crate) mod standin;
pub(crate) mod status;
pub(crate) mod tail;
pub(crate) mod why;
