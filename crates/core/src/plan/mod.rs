//! The plan: one TOML document, in three stages.
//!
//! [`ParsedPlan::parse`] reads the document and knows its keys; [`ParsedPlan::check`] gives it meaning (names that refer to something,
//! sentences, addresses, sizes); [`crate::engine::CompiledPlan::new`] makes it run. Each stage is a type of its own, so that an unchecked plan cannot be run.
//! Every mistake points at its place in the document, and all mistakes are reported, not only the first.

mod canonical;
mod check;
mod destination;
mod keys;
mod parse;
mod recipe;
mod report;
mod schema;
mod source;

pub use canonical::canonical;
pub use check::{CheckedPlan, Gate, Route, SecretName, TableFile, TableKind, is_name};
pub use destination::{
    ArchiveDestination, BodyForm, Destination, DestinationKind, FileDestination, Forward, HeaderText, HttpDestination, Layout, Objects, OtlpDestination,
    Packing, Period, Place, Price, SignIn, SyslogDestination, SyslogTransport, TlsFiles, WhenFull,
};
pub use parse::ParsedPlan;
pub use report::Report;
pub use schema::schema;
pub use source::{Files, Source, SourceCertificates, SourceKind};

/// Largest plan that is read, in bytes.
pub const MAX_PLAN: usize = 4 << 20;

#[cfg(test)]
mod report_tests;
#[cfg(test)]
mod tests;
