//! Large buffers that are used again.
//!
//! Bodies and batches come and go many times a second. An allocator that gives memory back soon asks the system for each of them anew, and one that keeps it holds far more than is
//! ever in use. So those who make large buffers take them from here and leave them here; what is kept is bounded.

use std::ops::{Deref, DerefMut};
use std::sync::{Mutex, PoisonError};

/// Most bytes of buffers that are kept.
const KEEP: usize = 24 << 20;
/// A buffer larger than this is not kept, so that one large body does not take the place of many.
const LARGEST: usize = 8 << 20;
/// One smaller than this is not worth keeping.
const SMALLEST: usize = 64 << 10;

/// Buffers that nobody uses, the smallest first.
static FREE: Mutex<Vec<Vec<u8>>> = Mutex::new(Vec::new());

/// An empty buffer with room for `bytes`.
#[must_use]
pub fn take(bytes: usize) -> Vec<u8> {
    if bytes >= SMALLEST {
        let mut free = FREE.lock().unwrap_or_else(PoisonError::into_inner);
        let at = free.partition_point(|buffer| buffer.capacity() < bytes);
        if at < free.len() {
            return free.remove(at);
        }
    }
    Vec::with_capacity(bytes)
}

/// Leaves a buffer for others.
pub fn leave(mut buffer: Vec<u8>) {
    let size = buffer.capacity();
    if !(SMALLEST..=LARGEST).contains(&size) {
        return;
    }
    buffer.clear();
    let mut free = FREE.lock().unwrap_or_else(PoisonError::into_inner);
    if free.iter().map(Vec::capacity).sum::<usize>() + size <= KEEP {
        let at = free.partition_point(|other| other.capacity() < size);
        free.insert(at, buffer);
    }
}

/// Bytes whose buffer is left for others when they are dropped.
#[derive(Debug, Default)]
pub struct Buffer(Vec<u8>);

impl From<Vec<u8>> for Buffer {
    fn from(bytes: Vec<u8>) -> Buffer {
        Buffer(bytes)
    }
}

impl Drop for Buffer {
    fn drop(&mut self) {
        leave(std::mem::take(&mut self.0));
    }
}

impl Deref for Buffer {
    type Target = Vec<u8>;
    fn deref(&self) -> &Vec<u8> {
        &self.0
    }
}

impl DerefMut for Buffer {
    fn deref_mut(&mut self) -> &mut Vec<u8> {
        &mut self.0
    }
}

impl AsRef<[u8]> for Buffer {
    fn as_ref(&self) -> &[u8] {
        &self.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_left_is_taken_again_and_bounded() {
        // Sizes that no other test asks for.
        let size = (3 << 20) + 12_345;
        let mut buffer = Buffer::from(take(size));
        buffer.extend_from_slice(b"boarding");
        let (at, capacity) = (buffer.as_ptr(), buffer.capacity());
        drop(buffer);
        let again = take(size);
        assert_eq!((again.as_ptr(), again.capacity(), again.len()), (at, capacity, 0));
        // The smallest that is large enough, not the largest.
        leave(again);
        leave(Vec::with_capacity(2 * size));
        assert_eq!(take(size).capacity(), capacity);
        leave(Vec::with_capacity(LARGEST + 1));
        (0..20).for_each(|_| leave(Vec::with_capacity(4 << 20)));
        let free = FREE.lock().unwrap();
        assert!(free.iter().all(|b| b.capacity() <= LARGEST));
        assert!(free.iter().map(Vec::capacity).sum::<usize>() <= KEEP);
    }
}
