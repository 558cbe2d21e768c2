//! Memory: what processes use, and how this one gives it back.

use std::fs;

/// From this size in bytes, a piece of memory is the system's own, and goes back when it is freed.
const OWN_PIECE: i32 = 128 << 10;

/// Has memory in large pieces go back to the system as soon as it is freed.
///
/// The C library raises this limit by itself when large pieces come and go, and keeps them in pools of each
/// thread from then on: blocks that wait to be compressed on several threads took more than twice the
/// memory (measured: 124 against 60 MB for a base of 92 packages, in the same time).
pub fn give_memory_back_early() {
    #[cfg(target_env = "gnu")]
    // SAFETY: sets a parameter of the allocator, which takes its own lock; a refusal changes nothing.
    unsafe {
        libc::mallopt(libc::M_MMAP_THRESHOLD, OWN_PIECE);
    }
}

/// Bytes of memory that a process and all that it started use, pages that several of them have counted for each.
pub fn memory_of_tree(number: u32) -> Option<u64> {
    let statm = fs::read_to_string(format!("/proc/{number}/statm")).ok()?;
    let pages: u64 = statm.split(' ').nth(1)?.parse().ok()?;
    let page = rustix::param::page_size() as u64;
    let children = fs::read_to_string(format!("/proc/{number}/task/{number}/children")).unwrap_or_default();
    let children = children.split_whitespace().filter_map(|child| memory_of_tree(child.parse().ok()?));
    Some(pages * page + children.sum::<u64>())
}
