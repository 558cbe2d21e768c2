//! How this process gives memory back.

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
