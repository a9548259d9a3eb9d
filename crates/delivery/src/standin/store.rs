//! An object store that speaks as much of the S3 protocol as writing, reading and listing needs. Objects are files below a folder; signatures are not checked, only the access key.

use std::collections::HashMap;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use axum::Router;
use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, Query, State};
use axum::http::{HeaderMap, Method, StatusCode, Uri, header};
use axum::middleware::from_fn_with_state;
use axum::response::{IntoResponse, Response};

use super::Shared;
use super::http::in_mood;

/// Largest body it takes, in bytes.
const MAX_BODY: usize = 128 << 20;

#[derive(Clone)]
struct Store {
    shared: Arc<Shared>,
    folder: PathBuf,
    /// Numbers for what is uploaded in parts.
    uploads: Arc<AtomicU64>,
}

pub(super) fn router(shared: Arc<Shared>) -> std::io::Result<Router> {
    let folder = shared.settings.into.clone().ok_or_else(|| std::io::Error::other("an object store needs a folder to keep its objects in"))?;
    std::fs::create_dir_all(&folder)?;
    let store = Store { shared: Arc::clone(&shared), folder, uploads: Arc::default() };
    let router = Router::new().fallback(serve).with_state(store);
    Ok(router.layer(from_fn_with_state(shared, in_mood)).layer(DefaultBodyLimit::max(MAX_BODY)))
}

type Answer = std::io::Result<Response>;

async fn serve(
    State(store): State<Store>,
    method: Method,
    uri: Uri,
    Query(query): Query<HashMap<String, String>>,
    headers: HeaderMap,
    body: Bytes,
) -> Response {
    let signed = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()).unwrap_or_default();
    if store.shared.settings.token.as_ref().is_some_and(|key| !signed.contains(&format!("Credential={key}/"))) {
        return fault(StatusCode::FORBIDDEN, "InvalidAccessKeyId", "no such access key");
    }
    let path = percent_encoding::percent_decode_str(uri.path()).decode_utf8_lossy().into_owned();
    let (bucket, key) = path.trim_start_matches('/').split_once('/').unwrap_or((path.trim_start_matches('/'), ""));
    let object = Path::new(bucket).join(key);
    if bucket.is_empty() || !object.components().all(|c| matches!(c, Component::Normal(_))) {
        return fault(StatusCode::BAD_REQUEST, "InvalidRequest", "no such place");
    }
    let asks = |name: &str| query.get(name).map(String::as_str);
    let file = store.folder.join(&object);
    let answer = match (method, asks("uploadId"), asks("partNumber")) {
        (Method::PUT, Some(upload), Some(part)) => store.put_part(upload, part, &body),
        (Method::PUT, None, None) => store.put(&file, &body),
        (Method::POST, None, None) if query.contains_key("delete") => store.delete(bucket, &body),
        (Method::POST, None, None) if query.contains_key("uploads") => store.begin(bucket, key),
        (Method::POST, Some(upload), None) => store.complete(upload, &file, bucket, key),
        (Method::DELETE, Some(upload), None) => std::fs::remove_dir_all(store.parts(upload)).map(|()| StatusCode::NO_CONTENT.into_response()),
        (Method::DELETE, None, None) => std::fs::remove_file(&file).map(|()| StatusCode::NO_CONTENT.into_response()),
        (Method::GET, None, None) if key.is_empty() => store.list(bucket, asks("prefix").unwrap_or_default()),
        (Method::GET | Method::HEAD, None, None) => read(&file, headers.get(header::RANGE).and_then(|v| v.to_str().ok())),
        _ => return fault(StatusCode::NOT_IMPLEMENTED, "NotImplemented", "this stand-in does not support that"),
    };
    answer.unwrap_or_else(|e| match e.kind() {
        std::io::ErrorKind::NotFound => fault(StatusCode::NOT_FOUND, "NoSuchKey", "there is no such object"),
        _ => fault(StatusCode::INTERNAL_SERVER_ERROR, "InternalError", "it cannot be kept or read"),
    })
}

fn fault(status: StatusCode, code: &str, message: &str) -> Response {
    xml(status, &format!("<Error><Code>{code}</Code><Message>{message}</Message></Error>"))
}

fn xml(status: StatusCode, text: &str) -> Response {
    (status, [(header::CONTENT_TYPE, "application/xml")], format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>{text}")).into_response()
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}

/// A tag that is the same for the same bytes.
fn tag(bytes: &[u8]) -> String {
    use std::hash::{DefaultHasher, Hash, Hasher};
    let mut hasher = DefaultHasher::new();
    bytes.hash(&mut hasher);
    format!("\"{:016x}\"", hasher.finish())
}

impl Store {
    /// Where the parts of an upload wait for its end; no bucket can have this name.
    fn parts(&self, upload: &str) -> PathBuf {
        self.folder.join(".uploads").join(upload.replace(|c: char| !c.is_ascii_alphanumeric(), "_"))
    }

    fn put(&self, file: &Path, body: &[u8]) -> Answer {
        let part = self.parts(&format!("put{}", self.uploads.fetch_add(1, Ordering::Relaxed)));
        std::fs::create_dir_all(part.parent().unwrap_or(&self.folder))?;
        std::fs::write(&part, body)?;
        self.finish(&part, file)?;
        Ok((StatusCode::OK, [(header::ETAG, tag(body))]).into_response())
    }

    /// An object is there whole or not at all.
    fn finish(&self, whole: &Path, file: &Path) -> std::io::Result<()> {
        std::fs::create_dir_all(file.parent().unwrap_or(&self.folder))?;
        self.shared.bytes.fetch_add(std::fs::metadata(whole)?.len(), Ordering::Relaxed);
        self.shared.events.fetch_add(1, Ordering::Relaxed);
        std::fs::rename(whole, file)
    }

    fn begin(&self, bucket: &str, key: &str) -> Answer {
        let upload = format!("u{}", self.uploads.fetch_add(1, Ordering::Relaxed));
        std::fs::create_dir_all(self.parts(&upload))?;
        let (bucket, key) = (escaped(bucket), escaped(key));
        let text =
            format!("<InitiateMultipartUploadResult><Bucket>{bucket}</Bucket><Key>{key}</Key><UploadId>{upload}</UploadId></InitiateMultipartUploadResult>");
        Ok(xml(StatusCode::OK, &text))
    }

    fn put_part(&self, upload: &str, part: &str, body: &[u8]) -> Answer {
        let number: u32 = part.parse().map_err(std::io::Error::other)?;
        std::fs::write(self.parts(upload).join(format!("{number:05}")), body)?;
        Ok((StatusCode::OK, [(header::ETAG, tag(body))]).into_response())
    }

    fn complete(&self, upload: &str, file: &Path, bucket: &str, key: &str) -> Answer {
        let folder = self.parts(upload);
        let mut parts: Vec<PathBuf> = std::fs::read_dir(&folder)?.map(|e| e.map(|e| e.path())).collect::<Result<_, _>>()?;
        parts.sort();
        let whole = folder.with_extension("whole");
        let mut out = std::fs::File::create(&whole)?;
        for part in &parts {
            std::io::copy(&mut std::fs::File::open(part)?, &mut out)?;
        }
        self.finish(&whole, file)?;
        std::fs::remove_dir_all(&folder)?;
        let (bucket, key, tag) = (escaped(bucket), escaped(key), tag(upload.as_bytes()));
        let text = format!("<CompleteMultipartUploadResult><Bucket>{bucket}</Bucket><Key>{key}</Key><ETag>{tag}</ETag></CompleteMultipartUploadResult>");
        Ok(xml(StatusCode::OK, &text))
    }

    /// Removes the objects that a list names.
    fn delete(&self, bucket: &str, body: &[u8]) -> Answer {
        let mut text = String::from("<DeleteResult>");
        for part in String::from_utf8_lossy(body).split("<Key>").skip(1) {
            let key = part.split("</Key>").next().unwrap_or_default().replace("&lt;", "<").replace("&gt;", ">").replace("&amp;", "&");
            let object = Path::new(bucket).join(&key);
            if object.components().all(|c| matches!(c, Component::Normal(_))) {
                let _ = std::fs::remove_file(self.folder.join(object));
                text += &format!("<Deleted><Key>{}</Key></Deleted>", escaped(&key));
            }
        }
        Ok(xml(StatusCode::OK, &(text + "</DeleteResult>")))
    }

    fn list(&self, bucket: &str, prefix: &str) -> Answer {
        let mut found = Vec::new();
        below(&self.folder.join(bucket), "", &mut found)?;
        found.sort();
        let mut text = format!("<ListBucketResult><Name>{}</Name><Prefix>{}</Prefix><IsTruncated>false</IsTruncated>", escaped(bucket), escaped(prefix));
        for (key, size) in found.into_iter().filter(|(key, _)| key.starts_with(prefix)) {
            let key = escaped(&key);
            text += &format!("<Contents><Key>{key}</Key><LastModified>2026-01-01T00:00:00.000Z</LastModified><ETag>\"\"</ETag><Size>{size}</Size></Contents>");
        }
        Ok(xml(StatusCode::OK, &(text + "</ListBucketResult>")))
    }
}

/// The files below a folder, by their keys, with their sizes.
fn below(folder: &Path, prefix: &str, found: &mut Vec<(String, u64)>) -> std::io::Result<()> {
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let key = format!("{prefix}{}", entry.file_name().to_string_lossy());
        if entry.file_type()?.is_dir() {
            below(&entry.path(), &format!("{key}/"), found)?;
        } else {
            found.push((key, entry.metadata()?.len()));
        }
    }
    Ok(())
}

/// An object, or the bytes of it that a `Range` names.
fn read(file: &Path, range: Option<&str>) -> Answer {
    let bytes = std::fs::read(file)?;
    let headers = [(header::ETAG, tag(&bytes)), (header::LAST_MODIFIED, "Thu, 01 Jan 2026 00:00:00 GMT".to_owned())];
    let asked = range.and_then(|r| r.strip_prefix("bytes=")?.split_once('-'));
    let Some((from, to)) = asked else { return Ok((headers, bytes).into_response()) };
    let from: usize = from.parse().unwrap_or(0).min(bytes.len());
    let to = to.parse::<usize>().map_or(bytes.len(), |to| to.saturating_add(1).clamp(from, bytes.len()));
    let span = format!("bytes {from}-{}/{}", to.saturating_sub(1), bytes.len());
    Ok((StatusCode::PARTIAL_CONTENT, headers, [(header::CONTENT_RANGE, span)], bytes[from..to].to_vec()).into_response())
}
