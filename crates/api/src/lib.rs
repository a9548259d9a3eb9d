#![doc = include_str!("crate.md")]

mod alerts;
mod complete;
mod destinations;
mod draft;
mod flow;
mod ledger;
mod people;
mod plan;
mod problem;
mod secrets;
mod sign_in;
mod sources;
mod status;
mod suggest;
mod survey;
mod tail;
mod trial;
mod why;

pub use alerts::*;
pub use complete::*;
pub use destinations::*;
pub use draft::*;
pub use flow::*;
pub use ledger::*;
pub use people::*;
pub use plan::*;
pub use problem::*;
pub use secrets::*;
pub use sign_in::*;
pub use sources::*;
pub use status::*;
pub use suggest::*;
pub use survey::*;
pub use tail::*;
pub use trial::*;
pub use why::*;
