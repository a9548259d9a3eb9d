#![doc = include_str!("crate.md")]

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
    ArchiveDestination, BodyForm, Compression, Destination, DestinationKind, FileDestination, Forward, HeaderText, HttpDestination, Layout, Objects,
    OtlpDestination, Period, Place, Price, SignIn, SyslogDestination, SyslogTransport, TlsFiles, WhenFull,
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
