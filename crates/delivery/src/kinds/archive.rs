//! Writes objects to a store: a folder, or one that speaks the S3 protocol.
//!
//! A parcel becomes one object for each folder its events belong in, and an index beside each. An object is named by the first event in it, so one whose answer was lost, or that
//! a crash left behind, is replaced when its events are sent again: nothing stands twice.

use std::collections::BTreeMap;
use std::path::{Path as FilePath, PathBuf};
use std::sync::Arc;

use bytes::Bytes;
use futures_util::future::BoxFuture;
use object_store::aws::AmazonS3Builder;
use object_store::local::LocalFileSystem;
use object_store::path::Path;
use object_store::{ClientOptions, ObjectStore, ObjectStoreExt, PutPayload, RetryConfig, WriteMultipart};
use rockrose_archive::{Divider, Indexer, object_name};
use rockrose_event::output::{Origin, each};
use rockrose_plan::{ArchiveDestination, Objects, StoreLocation};

use super::endpoint::{CONNECT_TIME, parts};
use super::parquet;
use crate::kind::{Failure, Gathering, Kind, Limits, OpenError, Outgoing, Outlet, Resolver, Taken, all_written, deepest, one_line};
use crate::now_ms;
use crate::probe::Probe;

/// Events are compressed in blocks of this size, each of which can be read alone.
const BLOCK: usize = 1 << 20;
/// A larger object is uploaded in pieces of this size.
const PIECE: usize = 8 << 20;
/// Pieces on their way at once.
const PIECES_AT_ONCE: usize = 4;
/// Longest cause of a failure that is kept, in characters.
const MAX_WORDS: usize = 300;

/// An archive, with what is needed to sign in.
#[derive(Clone, PartialEq, Eq)]
pub struct ArchiveSettings {
    /// As the plan has it.
    pub archive: ArchiveDestination,
    /// The secret of its access key.
    pub access_secret: Option<String>,
    /// Tells objects of this node from those of others.
    pub node: String,
}

impl ArchiveSettings {
    /// As a plan has it, with its secret.
    pub(crate) fn planned(archive: &ArchiveDestination, resolver: &Resolver<'_>) -> ArchiveSettings {
        let access_secret = archive.access_secret.as_ref().and_then(|name| resolver.secret(name));
        ArchiveSettings { archive: archive.clone(), access_secret, node: resolver.node.to_owned() }
    }
}

impl Kind for ArchiveSettings {
    fn limits(&self) -> Limits<'_> {
        let bytes = self.archive.object_at;
        Limits { max_batch: bytes as usize, parallel: false, gathers: Some(Gathering { bytes, every: self.archive.object_every }), file: None }
    }

    fn open(&self, _reached: Option<u64>) -> Result<Box<dyn Outlet>, OpenError> {
        Ok(Box::new(ArchiveOutlet::new(self.clone())?))
    }

    fn probe<'a>(&'a self, probe: &'a mut Probe) -> BoxFuture<'a, ()> {
        Box::pin(async move {
            if let StoreLocation::Bucket { endpoint: Some(endpoint), .. } = &self.archive.store {
                let Some((secure, host, port)) = parts(endpoint) else { return };
                if !probe.way_there(&host, port, secure.then_some(&self.archive.tls)).await {
                    return;
                }
            }
            let outlet = ArchiveOutlet::new(self.clone());
            let test = async {
                let mut outlet = outlet.map_err(|e| e.to_string())?;
                outlet.test().await.map(|()| ((), "it accepted a test object and its removal".to_owned())).map_err(Failure::why)
            };
            probe.step("accept", test).await;
        })
    }
}

impl Outlet for ArchiveOutlet {
    fn send<'a>(&'a mut self, events: Outgoing<'a>) -> BoxFuture<'a, Result<Taken, Failure>> {
        Box::pin(self.write(events.lines, (events.origins)()))
    }
}

/// One object that is ready to be written.
struct Object {
    folder: String,
    name: String,
    bytes: Vec<u8>,
    index: Vec<u8>,
}

pub(crate) struct ArchiveOutlet {
    settings: ArchiveSettings,
    store: Arc<dyn ObjectStore>,
    /// What stands before the keys of its objects.
    prefix: String,
    /// Of a store in a folder, that folder.
    root: Option<PathBuf>,
}

impl ArchiveOutlet {
    pub(crate) fn new(settings: ArchiveSettings) -> Result<ArchiveOutlet, OpenError> {
        match &settings.archive.store {
            StoreLocation::Folder(folder) => {
                let failed = |source| OpenError::Folder { path: folder.clone(), source };
                std::fs::create_dir_all(folder).map_err(failed)?;
                let root = std::fs::canonicalize(folder).map_err(failed)?;
                let store = LocalFileSystem::new_with_prefix(&root)?;
                Ok(ArchiveOutlet { store: Arc::new(store), prefix: String::new(), root: Some(root), settings })
            }
            StoreLocation::Bucket { bucket, prefix, endpoint, region, access_key } => {
                let mut client = ClientOptions::new().with_timeout(settings.archive.timeout).with_connect_timeout(CONNECT_TIME);
                if let Some(ca) = &settings.archive.tls.ca {
                    let pem = std::fs::read(ca).map_err(|source| OpenError::Folder { path: ca.clone(), source })?;
                    let certificates = object_store::Certificate::from_pem_bundle(&pem)?;
                    client = certificates.into_iter().fold(client, ClientOptions::with_root_certificate);
                }
                // Only the worker tries again: it knows when, and says so.
                let retry = RetryConfig { max_retries: 0, ..RetryConfig::default() };
                let mut builder =
                    AmazonS3Builder::new().with_bucket_name(bucket).with_region(region).with_client_options(client.with_allow_http(true)).with_retry(retry);
                if let Some(endpoint) = endpoint {
                    builder = builder.with_endpoint(endpoint.trim_end_matches('/')).with_virtual_hosted_style_request(false);
                }
                builder = match (access_key, &settings.access_secret) {
                    (Some(key), Some(secret)) => builder.with_access_key_id(key).with_secret_access_key(secret),
                    _ => builder.with_skip_signature(true),
                };
                let store = builder.build()?;
                let prefix = if prefix.is_empty() { String::new() } else { format!("{prefix}/") };
                Ok(ArchiveOutlet { store: Arc::new(store), prefix, root: None, settings })
            }
        }
    }

    pub(crate) async fn write(&mut self, lines: Bytes, origins: Vec<Origin>) -> Result<Taken, Failure> {
        all_written(origins.len(), each(&lines).count())?;
        let settings = self.settings.clone();
        let written = tokio::task::spawn_blocking(move || objects(&settings, &lines, &origins)).await;
        let objects = written.map_err(|_| Failure::later("writing was interrupted"))?.map_err(|e| Failure::later(e.to_string()))?;
        for object in objects {
            let key = format!("{}{}", object.folder, object.name);
            // The object first: an index speaks of something that is there.
            self.put(&key, object.bytes).await?;
            self.put(&format!("{key}.index.json"), object.index).await?;
        }
        Ok(Taken::all())
    }

    /// Writes a marked object and removes it again.
    async fn test(&mut self) -> Result<(), Failure> {
        let key = format!("rockrose-test-{}", now_ms());
        self.put(&key, b"a connection test of Rockrose\n".to_vec()).await?;
        let path = self.path(&key)?;
        self.store.delete(&path).await.map_err(|e| self.failed(&e))
    }

    fn path(&self, key: &str) -> Result<Path, Failure> {
        Path::parse(format!("{}{key}", self.prefix)).map_err(|e| Failure::Refused(format!("`{key}` cannot name an object: {e}")))
    }

    async fn put(&self, key: &str, bytes: Vec<u8>) -> Result<(), Failure> {
        let path = self.path(key)?;
        if bytes.len() <= PIECE {
            self.store.put(&path, PutPayload::from(bytes)).await.map_err(|e| self.failed(&e))?;
        } else {
            let upload = self.store.put_multipart(&path).await.map_err(|e| self.failed(&e))?;
            let mut pieces = WriteMultipart::new_with_chunk_size(upload, PIECE);
            for piece in bytes.chunks(PIECE) {
                pieces.wait_for_capacity(PIECES_AT_ONCE).await.map_err(|e| self.failed(&e))?;
                pieces.write(piece);
            }
            pieces.finish().await.map_err(|e| self.failed(&e))?;
        }
        let Some(root) = &self.root else { return Ok(()) };
        let file = root.join(path.as_ref());
        let mode = self.settings.archive.mode;
        let synced = tokio::task::spawn_blocking(move || sync(&file, mode)).await;
        synced.map_err(|_| Failure::later("writing was interrupted"))?.map_err(|e| Failure::later(format!("{key}: {e}")))
    }

    /// What went wrong, in the store's own words or the system's, on one line and without secrets.
    fn failed(&self, e: &object_store::Error) -> Failure {
        let cause = deepest(e).to_string();
        let why = said(&cause).or_else(|| said(&e.to_string())).unwrap_or(cause);
        let secret = self.settings.access_secret.as_deref().filter(|s| s.len() > 3);
        Failure::later(one_line(&why, secret.into_iter(), MAX_WORDS))
    }
}

/// What a store answered, out of what its client says of that: the status, and of a fault its code and message.
fn said(text: &str) -> Option<String> {
    let (_, answer) = text.split_once("status code: ")?;
    let (status, body) = answer.split_once(": ").unwrap_or((answer, ""));
    let element = |name: &str| Some(body.split_once(&format!("<{name}>"))?.1.split_once(&format!("</{name}>"))?.0);
    let words = match (element("Code"), element("Message")) {
        (Some(code), Some(message)) if !message.is_empty() => format!(": {code}: {message}"),
        (Some(code), _) => format!(": {code}"),
        _ if body.is_empty() => String::new(),
        _ => format!(": {body}"),
    };
    Some(format!("answered {status}{words}"))
}

/// Makes sure that a file, and its name, are on the disk, with its permissions.
fn sync(file: &FilePath, mode: Option<u32>) -> std::io::Result<()> {
    if let Some(mode) = mode {
        std::fs::set_permissions(file, std::os::unix::fs::PermissionsExt::from_mode(mode))?;
    }
    std::fs::File::open(file)?.sync_all()?;
    file.parent().map_or(Ok(()), |folder| std::fs::File::open(folder)?.sync_all())
}

/// Why events cannot be written as an object.
#[derive(Debug, thiserror::Error)]
enum ObjectError {
    #[error(transparent)]
    Packing(#[from] std::io::Error),
    #[error(transparent)]
    Parquet(#[from] ::parquet::errors::ParquetError),
    #[error(transparent)]
    Index(#[from] serde_json::Error),
}

fn objects(settings: &ArchiveSettings, lines: &[u8], origins: &[Origin]) -> Result<Vec<Object>, ObjectError> {
    let archive = &settings.archive;
    let mut divider = Divider::new(&archive.divide_by);
    let mut folders: BTreeMap<String, (usize, Vec<&[u8]>)> = BTreeMap::new();
    for (i, (event, origin)) in each(lines).zip(origins).enumerate() {
        folders.entry(divider.folder(event, origin)).or_insert_with(|| (i, Vec::new())).1.push(event);
    }
    let write = |(folder, (first, events)): (String, (usize, Vec<&[u8]>))| {
        let mut indexer = Indexer::default();
        let (ending, format, bytes) = match archive.objects {
            Objects::JsonLines => (".jsonl.zst", "json lines", json_lines(&events, &mut indexer)?),
            Objects::Parquet => (".parquet", "parquet", parquet::write(&events, &mut indexer)?),
        };
        let name = object_name(&origins[first], &settings.node) + ending;
        let index = serde_json::to_vec(&indexer.finish(&name, format, bytes.len() as u64))?;
        Ok(Object { folder, name, bytes, index })
    };
    folders.into_iter().map(write).collect()
}

/// Events as lines, in Zstandard frames one behind the other.
fn json_lines(events: &[&[u8]], indexer: &mut Indexer) -> std::io::Result<Vec<u8>> {
    let (mut out, mut block) = (Vec::new(), Vec::new());
    let now = now_ms();
    for (i, event) in events.iter().enumerate() {
        indexer.add(event, now);
        block.extend_from_slice(event);
        block.push(b'\n');
        if block.len() >= BLOCK || i + 1 == events.len() {
            let offset = out.len();
            out.extend(zstd::bulk::compress(&block, 3)?);
            indexer.end_block(offset as u64, (out.len() - offset) as u64);
            block.clear();
        }
    }
    Ok(out)
}
