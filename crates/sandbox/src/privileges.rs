//! What a command gives up before it starts: the caller's ids, capabilities, and the limits that it cannot raise again.

use crate::filter::Filter;
use crate::limits::Limits;
use crate::own_limits::let_long_files_end;
use crate::plan::{FIRST_ID, ID_COUNT, Isolation, Plan};
use rustix::fd::OwnedFd;
use rustix::pipe::{PipeFlags, pipe_with};
use rustix::process::{Gid, Resource, Rlimit, Uid, getpid, getrlimit, setrlimit};
use rustix::thread::{
    CapabilitySet, CapabilitySets, UnshareFlags, capabilities, clear_ambient_capability_set,
    remove_capability_from_bounding_set, set_capabilities, set_keep_capabilities, set_no_new_privs,
    set_thread_groups, set_thread_res_gid, set_thread_res_uid, unshare_unsafe,
};
use std::fs::{self, File};
use std::io::{self, Read, Write};

/// The first id behind those that files and processes have. Each of the superuser's sandboxes is counted as one of these, so
/// that one does not use up the processes of another.
const FIRST_COUNTING_ID: u32 = FIRST_ID + ID_COUNT;

/// No file is longer than this, in bytes, whatever else may be written.
const LONGEST_FILE: u64 = 1 << 40;

/// Capabilities that the user 0 of an image has over its own files and processes; no other user has any.
const KEPT: [CapabilitySet; 10] = [
    CapabilitySet::CHOWN,
    CapabilitySet::DAC_OVERRIDE,
    CapabilitySet::FOWNER,
    CapabilitySet::FSETID,
    CapabilitySet::KILL,
    CapabilitySet::SETGID,
    CapabilitySet::SETUID,
    CapabilitySet::SETFCAP,
    CapabilitySet::NET_BIND_SERVICE,
    CapabilitySet::SYS_CHROOT,
];

/// All that a command is to give up, made ready while memory may still be allocated.
pub(crate) struct Privileges {
    mapper: Option<IdMapper>,
    uid: u32,
    gid: u32,
    limits: Limits,
    filter: Filter,
}

impl Privileges {
    /// `number` tells the sandboxes of a machine apart.
    pub(crate) fn of(plan: &Plan, number: u32) -> io::Result<Self> {
        let mapper = match plan.mode.isolation {
            Isolation::Superuser => Some(IdMapper::start(number)?),
            Isolation::SingleUser => None,
        };
        let Plan { uid, gid, limits, .. } = *plan;
        Ok(Self { mapper, uid, gid, limits, filter: Filter::new() })
    }

    /// Called in the child, between `fork` and `exec`.
    pub(crate) fn give_up(&self) -> io::Result<()> {
        set_no_new_privs(true)?;
        keep_no_open_files();
        let_long_files_end();
        limit(Resource::Core, 0)?;
        limit(Resource::Nofile, self.limits.open_files)?;
        limit(Resource::Fsize, self.limits.written.unwrap_or(LONGEST_FILE))?;
        if let Some(mapper) = &self.mapper {
            mapper.enter(self.limits.processes)?;
        } else {
            limit(Resource::Nproc, self.limits.processes)?;
        }
        clear_ambient_capability_set()?;
        let kept: CapabilitySet =
            KEPT.into_iter().filter(|_| self.uid == 0).fold(CapabilitySet::empty(), |all, one| all | one);
        for (_, capability) in CapabilitySet::all().difference(kept).iter_names() {
            match remove_capability_from_bounding_set(capability) {
                // An older kernel does not have it.
                Err(rustix::io::Errno::INVAL) => {}
                other => other?,
            }
        }
        if self.mapper.is_some() {
            let (uid, gid) = (Uid::from_raw(self.uid), Gid::from_raw(self.gid));
            set_thread_groups(&[])?;
            set_thread_res_gid(gid, gid, gid)?;
            set_thread_res_uid(uid, uid, uid)?;
        }
        let kept = capabilities(None)?.permitted.intersection(kept);
        let inheritable = CapabilitySet::empty();
        set_capabilities(None, CapabilitySets { effective: kept, permitted: kept, inheritable })?;
        self.filter.set()
    }
}

/// The first descriptor behind standard input, output and error.
const FIRST_OPEN: libc::c_uint = 3;
/// So many descriptors are looked at where the kernel cannot close a range of them.
const MOST_OPEN: libc::c_int = 4096;

/// Closes, when the command starts, whatever the caller of this program left open.
fn keep_no_open_files() {
    // SAFETY: system calls on numbers, safe between fork and exec. Descriptors are only marked: they stay open in this
    // process, which still reports with one of them.
    unsafe {
        let (last, mark) = (libc::c_uint::MAX, libc::CLOSE_RANGE_CLOEXEC);
        if libc::syscall(libc::SYS_close_range, FIRST_OPEN, last, mark) != 0 {
            for descriptor in 3..MOST_OPEN {
                libc::fcntl(descriptor, libc::F_SETFD, libc::FD_CLOEXEC);
            }
        }
    }
}

/// Sets a limit that cannot be raised again, or leaves the caller's, where that is lower.
fn limit(of: Resource, most: u64) -> rustix::io::Result<()> {
    let most = getrlimit(of).maximum.map_or(most, |there| there.min(most));
    setrlimit(of, Rlimit { current: Some(most), maximum: Some(most) })
}

/// Gives the command of the superuser a user namespace, whose ids no user on this machine has. Only a process
/// outside of the namespace can map them: a thread of this one waits for the child to ask.
struct IdMapper {
    counted_as: Uid,
    asking: OwnedFd,
    answer: OwnedFd,
}

impl IdMapper {
    fn start(number: u32) -> io::Result<Self> {
        let (asked, asking) = pipe_with(PipeFlags::CLOEXEC)?;
        let (answer, answering) = pipe_with(PipeFlags::CLOEXEC)?;
        std::thread::spawn(move || {
            let (mut asked, mut answering) = (File::from(asked), File::from(answering));
            let mut pid = [0; 4];
            if asked.read_exact(&mut pid).is_ok() && map_ids(i32::from_le_bytes(pid)).is_ok() {
                // Without an answer, the child ends.
                let _ = answering.write_all(&[1]);
            }
        });
        // The last number of all stands for "no id".
        let counted_as = Uid::from_raw(FIRST_COUNTING_ID + number % (u32::MAX - FIRST_COUNTING_ID));
        Ok(Self { counted_as, asking, answer })
    }

    /// Called in the child, between `fork` and `exec`. The kernel counts the processes of a namespace for whoever made it, and
    /// never limits the superuser: an id of its own makes it.
    fn enter(&self, processes: u64) -> rustix::io::Result<()> {
        set_keep_capabilities(true)?;
        set_thread_res_uid(self.counted_as, self.counted_as, self.counted_as)?;
        let mut sets = capabilities(None)?;
        sets.effective = sets.permitted;
        set_capabilities(None, sets)?;
        limit(Resource::Nproc, processes)?;
        // SAFETY: the forked child has one thread.
        unsafe { unshare_unsafe(UnshareFlags::NEWUSER) }?;
        rustix::io::write(&self.asking, &getpid().as_raw_nonzero().get().to_le_bytes())?;
        match rustix::io::read(&self.answer, &mut [0; 1])? {
            1 => Ok(()),
            _ => Err(rustix::io::Errno::PERM),
        }
    }
}

/// Maps the ids of the user namespace that the process `pid` is in.
fn map_ids(pid: i32) -> io::Result<()> {
    let map = format!("0 {FIRST_ID} {ID_COUNT}");
    fs::write(format!("/proc/{pid}/gid_map"), &map)?;
    fs::write(format!("/proc/{pid}/uid_map"), &map)
}
