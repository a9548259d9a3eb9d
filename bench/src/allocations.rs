//! Counts what is taken from the heap.

use std::alloc::{GlobalAlloc, Layout, System};
use std::sync::atomic::{AtomicU64, Ordering};

struct Counting;

static TAKEN: AtomicU64 = AtomicU64::new(0);

// SAFETY: every call goes to the system's allocator as it came; only a number is kept beside.
#[allow(unsafe_code)]
unsafe impl GlobalAlloc for Counting {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        TAKEN.fetch_add(1, Ordering::Relaxed);
        unsafe { System.alloc(layout) }
    }

    unsafe fn dealloc(&self, place: *mut u8, layout: Layout) {
        unsafe { System.dealloc(place, layout) }
    }

    unsafe fn realloc(&self, place: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        TAKEN.fetch_add(1, Ordering::Relaxed);
        unsafe { System.realloc(place, layout, size) }
    }
}

#[global_allocator]
static ALLOCATOR: Counting = Counting;

/// How often `work` takes something from the heap.
pub(crate) fn during(work: impl FnOnce()) -> u64 {
    let before = TAKEN.load(Ordering::Relaxed);
    work();
    TAKEN.load(Ordering::Relaxed) - before
}
