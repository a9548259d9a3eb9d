//! `kind = "archive"`: events are kept in objects of a store.

use std::time::Duration;

use rockrose_archive::Part;
use rockrose_language::Mistake;

use super::tls::{self, CA, TIMEOUT, TlsFiles};
use super::{DestinationSection, MODE, PlannedDestination, mode, url};
use crate::checker::{Checker, MB, SecretName};
use crate::keys::{Key, Shape, key, needed};
use crate::scope::host_and_port;
use crate::section::{At, Raw};

const OBJECTS: &[&str] = &["json lines", "parquet"];
const KEPT: &[&str] = &["as shaped", "as received"];

/// A destination that keeps events in objects.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ArchiveDestination {
    /// Where its objects are kept.
    pub store: StoreLocation,
    /// The secret of its access key.
    pub access_secret: Option<SecretName>,
    /// What objects are.
    pub objects: Objects,
    /// Events are kept as they were received, not as steps have shaped them.
    pub as_received: bool,
    /// What objects are laid out by, outermost first.
    pub divide_by: Vec<Part>,
    /// An object is written once so many bytes wait.
    pub object_at: u64,
    /// One is written at least so often, if anything waits.
    pub object_every: Duration,
    /// Certificates, for https.
    pub tls: TlsFiles,
    /// How long an answer may take.
    pub timeout: Duration,
    /// The permissions of its files, in a folder; none: what the umask leaves.
    pub mode: Option<u32>,
}

/// Where objects are kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum StoreLocation {
    /// A folder.
    Folder(String),
    /// A bucket of a store that speaks the S3 protocol.
    Bucket {
        /// Its name.
        bucket: String,
        /// What stands before all keys.
        prefix: String,
        /// The store's URL; without, the usual one of the region.
        endpoint: Option<String>,
        /// The region.
        region: String,
        /// The access key.
        access_key: Option<String>,
    },
}

/// What objects are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Objects {
    /// JSON lines, compressed with Zstandard.
    JsonLines,
    /// Parquet.
    Parquet,
}

impl PlannedDestination for ArchiveDestination {
    const WORD: &'static str = "archive";
    const EXAMPLE: &'static str = "store = \"/var/lib/rockrose/files/archive\"\n";
    const KEYS: &'static [&'static [Key]] = &[&[
        needed(
            "store",
            Shape::Text,
            "Where objects are kept: a folder's path, or `s3://BUCKET` or `s3://BUCKET/PREFIX` for a store that speaks the S3 protocol.",
        ),
        key("endpoint", Shape::Text, "The URL of the store. The usual one of its region if left out."),
        key("region", Shape::Text, "The store's region. `us-east-1` if left out."),
        key("access_key", Shape::Text, "The access key that is shown to the store, with `access_secret`."),
        key("access_secret", Shape::Secret, "Its secret."),
        key("objects", Shape::Word(OBJECTS), "What objects are: `json lines` (compressed with Zstandard) or `parquet`. `json lines` if left out."),
        key(
            "events",
            Shape::Word(KEPT),
            "Which events are kept: `as shaped` by the steps on their way, or `as received`, without what steps changed in those that come here. `as shaped` if left out.",
        ),
        key(
            "divide_by",
            Shape::Texts,
            "What objects are laid out by, outermost first: `date`, `hour`, and fields by their paths. `date` and `hour` if left out.",
        ),
        key("object_at", Shape::Size, "An object is written once so many bytes wait, before compression. 32 MB if left out."),
        key("object_every", Shape::Duration, "One is written at least so often, if anything waits. 5 minutes if left out."),
        CA,
        TIMEOUT,
        MODE,
    ]];

    fn read(c: &mut Checker<'_>, DestinationSection { section, always }: DestinationSection<'_>) -> Option<ArchiveDestination> {
        let written = section.text("store")?;
        let of = |key: &str| section.text(key).map(|t| t.value.to_owned());
        let access_secret = c.secret(section, "access_secret");
        if access_secret.is_some() != section.get("access_key").is_some() {
            let at = section.get("access_key").or_else(|| section.get("access_secret")).map_or(section.name.at.clone(), |t| t.at.clone());
            c.mistakes.push(Mistake::new(at, "this is half of a sign-in").expected("`access_key` and `access_secret = { secret = \"NAME\" }`"));
        }
        let store = match written.value.strip_prefix("s3://") {
            Some(rest) => {
                let (bucket, prefix) = rest.split_once('/').unwrap_or((rest, ""));
                let named = (3..=63).contains(&bucket.len()) && bucket.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b"-._".contains(&b));
                if !named || prefix.split('/').any(|p| p == "." || p == "..") {
                    c.mistakes.push(
                        Mistake::new(written.at.clone(), format!("`{}` is no place in a store", written.value))
                            .expected("`s3://BUCKET` or `s3://BUCKET/PREFIX`"),
                    );
                }
                if let Some(beside) = section.get("mode") {
                    c.mistakes.push(Mistake::new(beside.at.clone(), "a bucket has no use for `mode`").expected("a folder in `store`"));
                }
                if let Some(At { value: Raw::Text(text), at }) = section.get("endpoint") {
                    url(c, &At { value: text.clone(), at: at.clone() });
                }
                let prefix = prefix.trim_matches('/').to_owned();
                let region = of("region").unwrap_or_else(|| "us-east-1".to_owned());
                StoreLocation::Bucket { bucket: bucket.to_owned(), prefix, endpoint: of("endpoint"), region, access_key: of("access_key") }
            }
            None => {
                if written.value.is_empty() || written.value.contains("://") || written.value.contains('\0') {
                    let expected = "a folder's path, or `s3://BUCKET/PREFIX`";
                    c.mistakes.push(Mistake::new(written.at.clone(), format!("`{}` is no place for objects", written.value)).expected(expected));
                }
                for key in ["endpoint", "region", "access_key", "access_secret", "ca"] {
                    if let Some(beside) = section.get(key) {
                        c.mistakes
                            .push(Mistake::new(beside.at.clone(), format!("a folder has no use for `{key}`")).expected("`store = \"s3://BUCKET\"` beside it"));
                    }
                }
                StoreLocation::Folder(written.value.to_owned())
            }
        };
        let as_received = section.text("events").is_some_and(|e| e.value == "as received");
        if as_received && !always.is_empty() {
            let at = section.get("always").map_or(section.name.at.clone(), |a| a.at.clone());
            c.mistakes.push(Mistake::new(at, "events that are kept as received are changed by no step").expected("`events = \"as shaped\"`, or no `always`"));
        }
        let mut divide_by = Vec::new();
        for written in section.texts("divide_by") {
            match Part::read(&written.value) {
                Some(part) if !divide_by.contains(&part) => divide_by.push(part),
                Some(_) => c.mistakes.push(Mistake::new(written.at.clone(), "it is divided by this already")),
                None => {
                    c.mistakes
                        .push(Mistake::new(written.at.clone(), format!("`{}` divides nothing", written.value)).expected("`date`, `hour` or a field's path"));
                }
            }
        }
        if section.get("divide_by").is_none() {
            divide_by = vec![Part::Date, Part::Hour];
        }
        Some(ArchiveDestination {
            store,
            access_secret,
            objects: if section.text("objects").is_some_and(|o| o.value == "parquet") { Objects::Parquet } else { Objects::JsonLines },
            as_received,
            divide_by,
            object_at: c.size(section, "object_at", 32 * MB, 256 * MB),
            object_every: c.duration(section, "object_every", Duration::from_secs(300)),
            tls: TlsFiles { ca: of("ca"), ..TlsFiles::default() },
            timeout: tls::timeout(c, section),
            mode: mode(c, section),
        })
    }

    fn files(&self) -> Vec<&str> {
        let folder = if let StoreLocation::Folder(folder) = &self.store { Some(folder.as_str()) } else { None };
        folder.into_iter().chain(self.tls.files()).collect()
    }

    fn address(&self) -> String {
        match &self.store {
            StoreLocation::Folder(folder) => folder.clone(),
            StoreLocation::Bucket { bucket, prefix, .. } => format!("s3://{bucket}/{prefix}"),
        }
    }

    fn secrets(&self) -> Vec<&SecretName> {
        self.access_secret.iter().collect()
    }

    fn hosts(&self) -> Vec<String> {
        match &self.store {
            StoreLocation::Folder(_) => Vec::new(),
            StoreLocation::Bucket { endpoint: Some(endpoint), .. } => vec![host_and_port(endpoint)],
            StoreLocation::Bucket { region, .. } => vec![format!("s3.{region}.amazonaws.com:443")],
        }
    }

    fn as_received(&self) -> bool {
        self.as_received
    }
}
