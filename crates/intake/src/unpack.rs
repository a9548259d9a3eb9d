//! Decompresses bodies, never beyond a bound.

use std::io::Read;

/// Why a body could not be unpacked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Unpack {
    /// The content encoding is not known.
    UnknownEncoding,
    /// Several encodings stand on one another.
    SeveralEncodings,
    /// The bytes are not what the encoding says.
    Damaged(&'static str),
    /// More than the bound would come out.
    TooLarge,
}

/// Unpacks `body` by its `Content-Encoding`; at most `bound` bytes come out. Blocks the thread for the work.
pub(crate) fn unpack(body: Vec<u8>, encoding: &str, bound: usize) -> Result<Vec<u8>, Unpack> {
    let encoding = encoding.to_ascii_lowercase();
    let mut encodings = encoding.split(',').map(str::trim).filter(|e| !matches!(*e, "" | "identity"));
    let (first, second) = (encodings.next(), encodings.next());
    if second.is_some() {
        return Err(Unpack::SeveralEncodings);
    }
    match first.unwrap_or_default() {
        "" => Ok(body),
        "deflate" => deflated(&body, bound),
        "gzip" | "x-gzip" => bounded(flate2::bufread::MultiGzDecoder::new(&body[..]), bound, "the body is not a complete gzip stream"),
        "zstd" => zstandard(&body, bound),
        _ => Err(Unpack::UnknownEncoding),
    }
}

fn zstandard(body: &[u8], bound: usize) -> Result<Vec<u8>, Unpack> {
    const DAMAGED: &str = "the body is not a complete zstd stream";
    // Frames that say how much is in them are unpacked at one go.
    if let Some(size) = said_size(body) {
        if size > bound as u64 {
            return Err(Unpack::TooLarge);
        }
        return zstd::bulk::decompress(body, size as usize).map_err(|_| Unpack::Damaged(DAMAGED));
    }
    let decoder = zstd::stream::read::Decoder::with_buffer(body).and_then(|mut d| {
        // A frame may ask for a window of up to 8 MiB and no more.
        d.window_log_max(23)?;
        Ok(d)
    });
    bounded(decoder.map_err(|_| Unpack::Damaged(DAMAGED))?, bound, DAMAGED)
}

/// How many bytes come out of all frames, if each says so. One that says much must hold much: a byte of a frame makes at most [`MOST_OF_A_BYTE`].
fn said_size(mut frames: &[u8]) -> Option<u64> {
    /// A block of three bytes of header and one of content makes 128 KiB.
    const MOST_OF_A_BYTE: u64 = 32 << 10;
    let (mut size, whole) = (0_u64, frames.len() as u64);
    while !frames.is_empty() {
        size = size.checked_add(zstd::zstd_safe::get_frame_content_size(frames).ok()??)?;
        frames = frames.get(zstd::zstd_safe::find_frame_compressed_size(frames).ok()?..)?;
    }
    (size <= whole.saturating_mul(MOST_OF_A_BYTE)).then_some(size)
}

/// `deflate` is zlib's format (RFC 9110, section 8.4.1.2), but many senders leave its header and checksum out.
fn deflated(body: &[u8], bound: usize) -> Result<Vec<u8>, Unpack> {
    const DAMAGED: &str = "the body is not a complete deflate stream";
    let zlib = bounded(flate2::bufread::ZlibDecoder::new(body), bound, DAMAGED);
    match zlib {
        Err(Unpack::Damaged(_)) => bounded(flate2::bufread::DeflateDecoder::new(body), bound, DAMAGED),
        unpacked => unpacked,
    }
}

fn bounded(reader: impl Read, bound: usize, damaged: &'static str) -> Result<Vec<u8>, Unpack> {
    let mut out = Vec::new();
    reader.take(bound as u64 + 1).read_to_end(&mut out).map_err(|_| Unpack::Damaged(damaged))?;
    if out.len() > bound { Err(Unpack::TooLarge) } else { Ok(out) }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    fn gzip(bytes: &[u8]) -> Vec<u8> {
        let mut e = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        e.write_all(bytes).unwrap();
        e.finish().unwrap()
    }

    /// With zlib's header and checksum, and without.
    fn deflate(bytes: &[u8]) -> [Vec<u8>; 2] {
        let mut zlib = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::fast());
        zlib.write_all(bytes).unwrap();
        let mut raw = flate2::write::DeflateEncoder::new(Vec::new(), flate2::Compression::fast());
        raw.write_all(bytes).unwrap();
        [zlib.finish().unwrap(), raw.finish().unwrap()]
    }

    #[test]
    fn unpacks_what_is_whole_and_bounded() {
        let text = b"kiosk ".repeat(1000);
        assert_eq!(unpack(text.clone(), "", 1).unwrap(), text);
        assert_eq!(unpack(gzip(&text), "GZIP", 6000).unwrap(), text);
        assert_eq!(unpack([gzip(b"a"), gzip(b"b")].concat(), "gzip", 10).unwrap(), b"ab");
        assert_eq!(unpack(zstd::bulk::compress(&text, 1).unwrap(), "zstd", 6000).unwrap(), text);
        let frame = |bytes: &[u8]| zstd::bulk::compress(bytes, 1).unwrap();
        // A frame that does not say how much is in it.
        let streamed = zstd::stream::encode_all(&b"c"[..], 1).unwrap();
        assert_eq!(unpack([frame(b"a"), frame(b"b")].concat(), "zstd", 2).unwrap(), b"ab");
        assert_eq!(unpack([frame(b"a"), streamed, frame(b"b")].concat(), "zstd", 3).unwrap(), b"acb");
        let [zlib, raw] = deflate(&text);
        assert_eq!(unpack(zlib, "Deflate", 6000).unwrap(), text);
        assert_eq!(unpack(raw, "deflate, identity", 6000).unwrap(), text);
    }

    #[test]
    fn refuses_bombs_lies_and_stumps() {
        let text = vec![0; 1 << 20];
        assert_eq!(unpack(gzip(&text), "gzip", 1 << 19), Err(Unpack::TooLarge));
        assert_eq!(unpack(zstd::bulk::compress(&text, 1).unwrap(), "zstd", 1 << 19), Err(Unpack::TooLarge));
        let frame = zstd::bulk::compress(&text, 1).unwrap();
        assert_eq!(unpack(frame.repeat(3), "zstd", 2 << 20), Err(Unpack::TooLarge), "together");
        assert!(matches!(unpack(frame[..frame.len() - 1].to_vec(), "zstd", 1 << 21), Err(Unpack::Damaged(_))));
        // The size of a frame of one segment stands behind its magic number and a byte of flags.
        let mut lie = frame.clone();
        lie[6] ^= 0x08;
        let said = |frame: &[u8]| zstd::zstd_safe::get_frame_content_size(frame).unwrap();
        assert_ne!(said(&lie), said(&frame));
        assert!(matches!(unpack(lie, "zstd", 1 << 22), Err(Unpack::Damaged(_) | Unpack::TooLarge)));
        let whole = gzip(&text);
        assert!(matches!(unpack(whole[..whole.len() / 2].to_vec(), "gzip", 1 << 21), Err(Unpack::Damaged(_))));
        assert!(matches!(unpack(b"plain".to_vec(), "gzip", 100), Err(Unpack::Damaged(_))));
        assert!(matches!(unpack(b"plain".to_vec(), "zstd", 100), Err(Unpack::Damaged(_))));
        for packed in deflate(&text) {
            assert_eq!(unpack(packed.clone(), "deflate", 1 << 19), Err(Unpack::TooLarge));
            assert!(matches!(unpack(packed[..packed.len() / 2].to_vec(), "deflate", 1 << 21), Err(Unpack::Damaged(_))));
        }
        assert_eq!(unpack(Vec::new(), "br", 100), Err(Unpack::UnknownEncoding));
        assert_eq!(unpack(gzip(&gzip(b"a")), "gzip, gzip", 100), Err(Unpack::SeveralEncodings));
    }
}
