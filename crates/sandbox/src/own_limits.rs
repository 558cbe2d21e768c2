//! Limits that this program itself was started under.

use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};

/// Lets a write beyond the limit for file sizes fail, in place of ending the program without a word.
pub fn let_long_files_fail() {
    // SAFETY: no handler is set, only that the signal is passed over.
    unsafe { libc::signal(libc::SIGXFSZ, libc::SIG_IGN) };
}

/// Undoes [`let_long_files_fail`] in a child, which would inherit it.
pub(crate) fn let_long_files_end() {
    // SAFETY: as above; a system call that is safe between fork and exec.
    unsafe { libc::signal(libc::SIGXFSZ, libc::SIG_DFL) };
}

/// Raises the number of files that this program may have open as far as it may; gives that number.
pub fn open_as_many_files_as_allowed() -> u64 {
    let limit = getrlimit(Resource::Nofile);
    // Where it is refused, what there was stays.
    let _ = setrlimit(Resource::Nofile, Rlimit { current: limit.maximum, maximum: limit.maximum });
    getrlimit(Resource::Nofile).current.unwrap_or(u64::MAX)
}
