//! The system calls that programs inside may not make: what reaches beyond the namespaces, or into the kernel, and that no
//! build and no app needs. Everything else stays as it is (seccomp(2), a filter in classic BPF).

use libc::{
    BPF_ABS, BPF_JEQ, BPF_JGE, BPF_JMP, BPF_JSET, BPF_K, BPF_LD, BPF_RET, BPF_W, c_long, sock_filter,
};
use std::io;

/// `struct seccomp_data`: where the number, the architecture and the low halves of the arguments are.
const NUMBER: u32 = 0;
const ARCHITECTURE: u32 = 4;
const ARGUMENTS: u32 = 16;
/// The architecture that the numbers below are of (linux/audit.h).
#[cfg(target_arch = "x86_64")]
const OWN: u32 = 0xc000_003e;
#[cfg(target_arch = "aarch64")]
const OWN: u32 = 0xc000_00b7;
/// System call numbers from here on belong to another interface, or were added after this was written.
const UNKNOWN: u32 = 470;
/// Flags of `clone` and `unshare` that make namespaces: a new user namespace would bring capabilities back.
const NAMESPACES: u32 = 0x7e02_0000;
/// `CLONE_NEWTIME`, which shares its bit with the signal of `clone`.
const NEW_TIME: u32 = 0x80;
/// Kinds of sockets: local ones, and the Internet's.
const FAMILIES: [i32; 3] = [libc::AF_UNIX, libc::AF_INET, libc::AF_INET6];
/// Injects characters into a terminal's input.
const TIOCSTI: u32 = 0x5412;
const TIOCLINUX: u32 = 0x541c;
/// What `personality` may be asked and set to: Linux, without random addresses, and the question itself.
const PERSONALITIES: [u32; 5] = [0, 8, 0x2_0000, 0x4_0000, 0xffff_ffff];

/// Calls that are refused.
const REFUSED: &[c_long] = &[
    libc::SYS_mount,
    libc::SYS_umount2,
    libc::SYS_pivot_root,
    libc::SYS_move_mount,
    libc::SYS_open_tree,
    libc::SYS_fsopen,
    libc::SYS_fsconfig,
    libc::SYS_fsmount,
    libc::SYS_fspick,
    libc::SYS_mount_setattr,
    libc::SYS_setns,
    libc::SYS_swapon,
    libc::SYS_swapoff,
    libc::SYS_reboot,
    libc::SYS_kexec_load,
    libc::SYS_kexec_file_load,
    libc::SYS_init_module,
    libc::SYS_finit_module,
    libc::SYS_delete_module,
    libc::SYS_bpf,
    libc::SYS_perf_event_open,
    libc::SYS_userfaultfd,
    libc::SYS_add_key,
    libc::SYS_request_key,
    libc::SYS_keyctl,
    libc::SYS_ptrace,
    libc::SYS_process_vm_readv,
    libc::SYS_process_vm_writev,
    libc::SYS_kcmp,
    libc::SYS_pidfd_getfd,
    libc::SYS_process_madvise,
    libc::SYS_quotactl,
    libc::SYS_quotactl_fd,
    libc::SYS_acct,
    libc::SYS_settimeofday,
    libc::SYS_clock_settime,
    libc::SYS_clock_adjtime,
    libc::SYS_syslog,
    libc::SYS_vhangup,
    libc::SYS_open_by_handle_at,
    libc::SYS_fanotify_init,
];
/// The same, where only one processor has them.
#[cfg(target_arch = "x86_64")]
const REFUSED_HERE: &[c_long] = &[
    libc::SYS_iopl,
    libc::SYS_ioperm,
    libc::SYS_modify_ldt,
    libc::SYS_uselib,
    libc::SYS_ustat,
    libc::SYS_sysfs,
];
#[cfg(target_arch = "aarch64")]
const REFUSED_HERE: &[c_long] = &[];

/// Calls that look as if this kernel did not have them: programs then do without. The flags of `clone3` lie in memory, where
/// no filter can look.
const MISSING: &[c_long] = &[
    libc::SYS_clone3,
    libc::SYS_io_uring_setup,
    libc::SYS_io_uring_enter,
    libc::SYS_io_uring_register,
    457,
    458,
];

/// The program of a filter, ready to be set.
pub(crate) struct Filter(Vec<sock_filter>);

impl Filter {
    pub(crate) fn new() -> Self {
        let mut program = Program(Vec::new());
        program.load(ARCHITECTURE);
        program.unless_equal(OWN, libc::ENOSYS);
        program.load(NUMBER);
        program.if_at_least(UNKNOWN, libc::ENOSYS);
        for call in MISSING {
            program.if_equal(number(*call), libc::ENOSYS);
        }
        for call in REFUSED.iter().chain(REFUSED_HERE) {
            program.if_equal(number(*call), libc::EPERM);
        }
        program.of_call(libc::SYS_clone, |rules| {
            rules.load(argument(0));
            rules.if_any_bit(NAMESPACES, libc::EPERM);
        });
        program.of_call(libc::SYS_unshare, |rules| {
            rules.load(argument(0));
            rules.if_any_bit(NAMESPACES | NEW_TIME, libc::EPERM);
        });
        for call in [libc::SYS_socket, libc::SYS_socketpair] {
            program.of_call(call, |rules| {
                rules.load(argument(0));
                for family in FAMILIES {
                    rules.allow_equal(family.unsigned_abs());
                }
                // Programs ask the kernel for addresses and routes this way, and for nothing else.
                rules.unless_equal(libc::AF_NETLINK.unsigned_abs(), libc::EAFNOSUPPORT);
                rules.load(argument(2));
                rules.unless_equal(0, libc::EAFNOSUPPORT);
            });
        }
        program.of_call(libc::SYS_ioctl, |rules| {
            rules.load(argument(1));
            rules.if_equal(TIOCSTI, libc::EPERM);
            rules.if_equal(TIOCLINUX, libc::EPERM);
        });
        program.of_call(libc::SYS_personality, |rules| {
            rules.load(argument(0));
            for known in PERSONALITIES {
                rules.allow_equal(known);
            }
            rules.refuse(libc::EPERM);
        });
        program.allow();
        Self(program.0)
    }

    /// Holds for the calling thread and all that it starts, for good. Called in the child, between `fork` and `exec`, after
    /// new privileges were ruled out.
    pub(crate) fn set(&self) -> io::Result<()> {
        let length = u16::try_from(self.0.len()).map_err(io::Error::other)?;
        let program = libc::sock_fprog { len: length, filter: self.0.as_ptr().cast_mut() };
        // SAFETY: the kernel only reads the program, which lives until after the call.
        let set = unsafe { libc::prctl(libc::PR_SET_SECCOMP, libc::SECCOMP_MODE_FILTER, &raw const program) };
        if set == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
    }
}

/// Instructions; each test of a value is followed by what it leads to.
struct Program(Vec<sock_filter>);

impl Program {
    fn push(&mut self, code: u32, k: u32, (met, not_met): (u8, u8)) {
        // All codes are of one byte.
        let code = u16::try_from(code).unwrap_or_default();
        self.0.push(sock_filter { code, jt: met, jf: not_met, k });
    }

    fn load(&mut self, at: u32) {
        self.push(BPF_LD | BPF_W | BPF_ABS, at, (0, 0));
    }

    fn refuse(&mut self, error: i32) {
        self.push(BPF_RET | BPF_K, libc::SECCOMP_RET_ERRNO | error.unsigned_abs(), (0, 0));
    }

    fn allow(&mut self) {
        self.push(BPF_RET | BPF_K, libc::SECCOMP_RET_ALLOW, (0, 0));
    }

    fn if_equal(&mut self, value: u32, error: i32) {
        self.push(BPF_JMP | BPF_JEQ | BPF_K, value, (0, 1));
        self.refuse(error);
    }

    fn unless_equal(&mut self, value: u32, error: i32) {
        self.push(BPF_JMP | BPF_JEQ | BPF_K, value, (1, 0));
        self.refuse(error);
    }

    fn if_at_least(&mut self, value: u32, error: i32) {
        self.push(BPF_JMP | BPF_JGE | BPF_K, value, (0, 1));
        self.refuse(error);
    }

    fn if_any_bit(&mut self, bits: u32, error: i32) {
        self.push(BPF_JMP | BPF_JSET | BPF_K, bits, (0, 1));
        self.refuse(error);
    }

    fn allow_equal(&mut self, value: u32) {
        self.push(BPF_JMP | BPF_JEQ | BPF_K, value, (0, 1));
        self.allow();
    }

    /// Rules of one call: what they do not refuse is allowed.
    fn of_call(&mut self, call: c_long, rules: impl FnOnce(&mut Self)) {
        let mut inner = Self(Vec::new());
        rules(&mut inner);
        inner.allow();
        let length = u8::try_from(inner.0.len()).unwrap_or(u8::MAX);
        self.push(BPF_JMP | BPF_JEQ | BPF_K, number(call), (0, length));
        self.0.append(&mut inner.0);
    }
}

fn argument(index: u32) -> u32 {
    ARGUMENTS + 8 * index
}

/// Numbers of system calls are small.
fn number(call: c_long) -> u32 {
    u32::try_from(call).unwrap_or(u32::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::process::Command;

    #[test]
    fn what_is_refused_fails_and_everything_else_works() {
        // In a child: a filter cannot be taken off again.
        let filter = Filter::new();
        let mut command = Command::new("/bin/sh");
        command.args(["-c", "unshare -U true; echo $?; mount -t tmpfs x /tmp; echo $?; echo works | cat"]);
        let prepare = move || {
            // SAFETY: only a system call on the one thread of the forked child.
            unsafe { libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) };
            filter.set()
        };
        // SAFETY: as above.
        unsafe { std::os::unix::process::CommandExt::pre_exec(&mut command, prepare) };
        let output = command.output().unwrap();
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        let lines: Vec<&str> = text.lines().collect();
        assert!(lines[0] != "0" && lines[1] != "0" && lines[2] == "works", "{text}");
    }
}
