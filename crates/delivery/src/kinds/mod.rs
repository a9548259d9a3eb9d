//! The kinds of destinations, each in a file: its settings, how it is opened, and how it sends. See [`crate::Kind`].

#[cfg(feature = "archive")]
mod archive;
mod discard;
mod endpoint;
mod file;
mod http;
#[cfg(not(all(feature = "archive", feature = "mail")))]
mod left_out;
#[cfg(feature = "mail")]
mod letter;
#[cfg(feature = "mail")]
mod mail;
mod otlp;
mod otlp_answer;
#[cfg(feature = "archive")]
mod parquet;
pub(crate) mod rotation;
mod signature;
mod syslog;

use rockrose_plan::DestinationKind;

#[cfg(feature = "archive")]
pub use archive::ArchiveSettings;
pub use discard::Discard;
pub use endpoint::HttpSettings;
pub use file::real_path;
#[cfg(feature = "mail")]
pub use mail::MailSettings;
pub use otlp::GrpcSettings;

#[cfg(all(test, feature = "archive"))]
pub(crate) use archive::ArchiveOutlet;
#[cfg(test)]
pub(crate) use file::FileOutlet;

use crate::kind::{Resolver, Target};

/// A destination of a plan, with its secrets: the list of all kinds.
#[must_use]
pub fn planned(kind: &DestinationKind, resolver: &Resolver<'_>) -> Target {
    match kind {
        DestinationKind::File(file) => file.clone().into(),
        DestinationKind::Http(http) => HttpSettings::planned(http, resolver).into(),
        DestinationKind::Otlp(otlp) if otlp.grpc => GrpcSettings(HttpSettings::planned(&otlp.http, resolver)).into(),
        DestinationKind::Otlp(otlp) => HttpSettings::planned(&otlp.http, resolver).into(),
        DestinationKind::Syslog(syslog) => syslog.clone().into(),
        #[cfg(not(feature = "mail"))]
        DestinationKind::Mail(_) => left_out::LeftOut("mail servers").into(),
        #[cfg(feature = "mail")]
        DestinationKind::Mail(mail) => MailSettings::planned(mail, resolver).into(),
        #[cfg(not(feature = "archive"))]
        DestinationKind::Archive(_) => left_out::LeftOut("archives").into(),
        #[cfg(feature = "archive")]
        DestinationKind::Archive(archive) => ArchiveSettings::planned(archive, resolver).into(),
        DestinationKind::Discard(_) => Discard.into(),
    }
}
