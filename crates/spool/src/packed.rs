//! Event lines as the spool keeps them: compressed where that pays, with a checksum.

use std::sync::{Arc, Mutex};

use bytes::Bytes;
use rockrose_event::buffers::{self, Buffer};

use crate::lock;
use crate::unpacked::Unpacked;

/// Bodies below this many bytes are not worth packing.
const PACK_FROM: usize = 256;
/// Packed event lines.
#[derive(Debug, Default)]
pub struct Packed {
    pub(crate) packing: i32,
    pub(crate) size: i64,
    pub(crate) data: Bytes,
    /// As it was, where that is another.
    pub(crate) plain: Option<Arc<Unpacked>>,
}

/// Packs event lines for the spool. Takes processor time: call it where blocking is allowed.
#[must_use]
pub fn pack(lines: Vec<u8>) -> Packed {
    let size = lines.len() as i64;
    if lines.len() >= PACK_FROM
        && let Some(data) = compress(&lines)
    {
        let data = Bytes::from(data);
        return Packed { packing: 1, size, data: data.clone(), plain: Some(Arc::new(Unpacked::new(lines, Some(data)))) };
    }
    Packed::plain(lines)
}

/// Compressors that nobody uses: each is larger than most of what it makes.
static COMPRESSORS: Mutex<Vec<zstd::bulk::Compressor<'static>>> = Mutex::new(Vec::new());
/// Most of them that are kept.
const COMPRESSORS_KEPT: usize = 4;

fn compress(lines: &[u8]) -> Option<Vec<u8>> {
    let kept = lock(&COMPRESSORS).pop();
    let mut compressor = match kept {
        Some(compressor) => compressor,
        None => zstd::bulk::Compressor::new(1).ok()?,
    };
    let mut out = Buffer::from(buffers::take(zstd::zstd_safe::compress_bound(lines.len())));
    compressor.compress_to_buffer(lines, &mut *out).ok()?;
    let mut compressors = lock(&COMPRESSORS);
    if compressors.len() < COMPRESSORS_KEPT {
        compressors.push(compressor);
    }
    Some(out.to_vec())
}

impl Packed {
    /// As they are.
    #[must_use]
    pub fn plain(lines: Vec<u8>) -> Packed {
        Packed { packing: 0, size: lines.len() as i64, data: lines.into(), plain: None }
    }
}

/// By which it is seen whether bytes came back from the disk as they went there; never 0.
pub(crate) fn checksum(data: &[u8]) -> i64 {
    (xxhash_rust::xxh3::xxh3_64(data) | 1) as i64
}
