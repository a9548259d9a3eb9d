//! Batches that were packed or unpacked lately, so that several destinations, or one that reads what has just come, need not unpack them again.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, OnceLock};

use bytes::Bytes;
use rockrose_event::buffers::Buffer;

use crate::lock;

/// Most bytes of lines that are kept, with the room they take.
const KEEP: usize = 16 << 20;

/// The lines of a batch, as they were before it was packed.
#[derive(Debug)]
pub(crate) struct Unpacked {
    pub(crate) lines: Buffer,
    /// The same as a frame of Zstandard, where they are kept so.
    pub(crate) frame: Option<Bytes>,
    ends: OnceLock<Vec<usize>>,
}

impl Unpacked {
    pub(crate) fn new(lines: Vec<u8>, frame: Option<Bytes>) -> Unpacked {
        Unpacked { lines: lines.into(), frame, ends: OnceLock::new() }
    }

    /// How many bytes it takes.
    fn size(&self) -> usize {
        self.lines.capacity() + self.frame.as_ref().map_or(0, Bytes::len)
    }

    /// Where each line ends, its line end included.
    pub(crate) fn ends(&self) -> &[usize] {
        self.ends.get_or_init(|| memchr::memchr_iter(b'\n', &self.lines).map(|at| at + 1).collect())
    }
}

/// The newest of them, by the batch's number.
#[derive(Debug, Default)]
pub(crate) struct UnpackedCache(Mutex<(BTreeMap<i64, Arc<Unpacked>>, usize)>);

impl UnpackedCache {
    pub(crate) fn get(&self, batch: i64) -> Option<Arc<Unpacked>> {
        lock(&self.0).0.get(&batch).cloned()
    }

    /// Keeps one; the oldest batches go to make room.
    pub(crate) fn put(&self, batch: i64, unpacked: &Arc<Unpacked>) {
        let mut kept = lock(&self.0);
        let (batches, bytes) = &mut *kept;
        if batches.insert(batch, Arc::clone(unpacked)).is_none() {
            *bytes += unpacked.size();
        }
        while *bytes > KEEP
            && let Some((_, oldest)) = batches.pop_first()
        {
            *bytes -= oldest.size();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_oldest_go_and_the_bytes_are_counted_once() {
        let kept = UnpackedCache::default();
        let batch = Arc::new(Unpacked::new(vec![b'\n'; 5 << 20], None));
        for number in [1, 2, 2, 3] {
            kept.put(number, &batch);
        }
        assert!((1..=3).all(|n| kept.get(n).is_some()));
        kept.put(4, &batch);
        assert_eq!((1..=4).filter(|n| kept.get(*n).is_some()).collect::<Vec<_>>(), [2, 3, 4]);
        // One that is too large by itself is not kept, and leaves nothing behind.
        kept.put(5, &Arc::new(Unpacked::new(vec![0; 1 << 20], Some(vec![0; 16 << 20].into()))));
        assert!((1..=5).all(|n| kept.get(n).is_none()));
        assert_eq!(kept.0.lock().unwrap().1, 0);
        assert_eq!(Unpacked::new(b"a\nbc\n".to_vec(), None).ends(), [2, 5]);
    }
}
