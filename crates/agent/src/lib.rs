#![doc = include_str!("crate.md")]

mod centre;
mod enrol;
mod facts;
mod folder;
mod install;
mod pin;
mod program;
mod run;
mod status;

pub use enrol::{EnrolOptions, Enrolled, enrol};
pub use folder::{AgentSettings, Elsewhere, Folder};
pub use install::Install;
pub use program::supervise;
pub use run::run;
pub use status::Status;

/// Milliseconds since 1970.
fn now_ms() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}
