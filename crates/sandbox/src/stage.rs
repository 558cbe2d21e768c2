//! What the program does when it is started as a stage of its own sandbox.

use crate::group;
use crate::limits::{Limit, Watch};
use crate::loopback::raise_loopback;
use crate::plan::Plan;
use crate::privileges::Privileges;
use crate::protocol::{Report, STAGE_NAME, inherit};
use crate::root::{self, Failed, Step};
use rustix::fd::{AsRawFd, FromRawFd, OwnedFd, RawFd};
use rustix::io::{FdFlags, fcntl_setfd};
use rustix::process::{
    DumpableBehavior, Pid, Signal, WaitOptions, getgid, getuid, ioctl_tiocsctty, kill_process,
    set_dumpable_behavior, setsid,
};
use rustix::thread::{
    CapabilitySet, UnshareFlags, capabilities, configure_capability_in_ambient_set, set_capabilities,
    unshare_unsafe,
};
use rustix::time::{ClockId, clock_gettime};
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::Path;
use std::process::{Command, ExitCode, ExitStatus};

/// Exit status of a stage that has nothing more to say than its report.
const STAGE_FAILED: u8 = 125;

/// To be called first thing in `main`: when the program was started as a stage, does that stage's
/// work and gives the exit code to end with.
pub fn enter_stage() -> Option<ExitCode> {
    let mut args = std::env::args();
    if args.next()? != STAGE_NAME {
        return None;
    }
    let args: Vec<String> = args.collect();
    let [stage, isolation, network, control, report, link, uid, gid, number, group] = &args[..] else {
        return Some(ExitCode::from(STAGE_FAILED));
    };
    let numbers = [control, report, link, uid, gid, number].map(|n| n.parse::<i32>());
    let [Ok(control), Ok(report), Ok(link), Ok(uid), Ok(gid), Ok(number)] = numbers else {
        return Some(ExitCode::from(STAGE_FAILED));
    };
    // SAFETY: the starting side left these descriptors open for exactly this stage, and
    // nothing else in this fresh process knows them.
    let pipes = unsafe { [OwnedFd::from_raw_fd(control), OwnedFd::from_raw_fd(report)] };
    // SAFETY: as above; without a link, there is no descriptor.
    let link = (link >= 0).then(|| unsafe { OwnedFd::from_raw_fd(link) });
    for pipe in pipes.iter().chain(&link) {
        // The command itself must not keep them open. This cannot fail on an open descriptor.
        let _ = fcntl_setfd(pipe, FdFlags::CLOEXEC);
    }
    let [control, report] = pipes;
    let (uid, gid) = (uid.unsigned_abs(), gid.unsigned_abs());
    let code = match stage.as_str() {
        "one" => stage_one([isolation, network, group], [control, report], link, uid, gid),
        _ => stage_two(File::from(control), File::from(report), link, number.unsigned_abs()),
    };
    Some(code)
}

fn tell(report: &mut File, what: &Report) {
    let Ok(mut line) = serde_json::to_vec(what) else { return };
    line.push(b'\n');
    // If the receiver is gone, there is nothing to report to.
    let _ = report.write_all(&line);
}

fn tell_failure(report: &mut File, failed: &Failed) -> ExitCode {
    tell(report, &Report::Refused { step: failed.step.to_owned(), detail: failed.source.to_string() });
    ExitCode::from(STAGE_FAILED)
}

/// Enters new namespaces and starts stage two as their first process.
fn stage_one(
    [isolation, network, group]: [&str; 3],
    [control, report]: [OwnedFd; 2],
    link: Option<OwnedFd>,
    uid: u32,
    gid: u32,
) -> ExitCode {
    let fds = [control.as_raw_fd(), report.as_raw_fd(), link.as_ref().map_or(-1, AsRawFd::as_raw_fd)];
    let mut report = File::from(report);
    let single_user = isolation == "single-user";
    let joined = if group.is_empty() { Ok(()) } else { group::join(Path::new(group)) };
    match joined
        .step("join the control group")
        .and_then(|()| separate(single_user, network == "alone", uid, gid))
        .and_then(|()| spawn_stage_two(isolation, fds, uid, gid))
    {
        Err(failed) => tell_failure(&mut report, &failed),
        Ok(mut second) => {
            drop((control, report, link));
            // Its report has gone to the caller; this process only keeps it company.
            let status = second.wait();
            ExitCode::from(u8::from(!status.is_ok_and(|s| s.success())))
        }
    }
}

fn separate(single_user: bool, alone: bool, uid: u32, gid: u32) -> Result<(), Failed> {
    let (outer_uid, outer_gid) = (getuid().as_raw(), getgid().as_raw());
    if single_user {
        // SAFETY: this process has one thread and shares nothing that a new namespace could break.
        unsafe { unshare_unsafe(UnshareFlags::NEWUSER) }.step("make a user namespace")?;
        fs::write("/proc/self/setgroups", "deny").step("give up supplementary groups")?;
        fs::write("/proc/self/uid_map", format!("{uid} {outer_uid} 1")).step("map the user")?;
        fs::write("/proc/self/gid_map", format!("{gid} {outer_gid} 1")).step("map the group")?;
    }
    let mut spaces = UnshareFlags::NEWNS | UnshareFlags::NEWPID | UnshareFlags::NEWIPC | UnshareFlags::NEWUTS;
    spaces.set(UnshareFlags::NEWNET, alone);
    // SAFETY: as above.
    unsafe { unshare_unsafe(spaces) }.step("make namespaces")?;
    for extra in [UnshareFlags::NEWCGROUP, UnshareFlags::NEWTIME] {
        // They hide where this process is in the machine's groups, and for how long the machine has been up; older
        // kernels do not have them.
        // SAFETY: as above.
        let _ = unsafe { unshare_unsafe(extra) };
    }
    start_clocks_anew();
    if alone {
        raise_loopback().step("raise the loopback interface")?;
    }
    if single_user {
        keep_capabilities().step("keep capabilities for mounting")?;
    }
    Ok(())
}

/// Lets the clocks of the coming processes count from now, where they have clocks of their own (time_namespaces(7)).
fn start_clocks_anew() {
    // Not from 0, which some programs take for a clock that fails.
    let offset = |clock| 1 - clock_gettime(clock).tv_sec;
    let offsets =
        format!("monotonic {} 0\nboottime {} 0\n", offset(ClockId::Monotonic), offset(ClockId::Boottime));
    let _ = fs::write("/proc/self/timens_offsets", offsets);
}

/// A user other than 0 loses its capabilities at `exec` unless they are ambient.
fn keep_capabilities() -> rustix::io::Result<()> {
    let mut sets = capabilities(None)?;
    sets.inheritable = sets.permitted;
    set_capabilities(None, sets)?;
    for capability in [CapabilitySet::SYS_ADMIN, CapabilitySet::DAC_OVERRIDE, CapabilitySet::SETPCAP] {
        configure_capability_in_ambient_set(capability, true)?;
    }
    Ok(())
}

fn spawn_stage_two(
    isolation: &str,
    fds: [RawFd; 3],
    uid: u32,
    gid: u32,
) -> Result<std::process::Child, Failed> {
    let mut command = Command::new("/proc/self/exe");
    command.arg0(STAGE_NAME).args(["two", isolation, "open"]);
    // Its own number is of the machine's, not of a namespace.
    let number = std::process::id();
    command.args(fds.map(|fd| fd.to_string())).args([uid, gid, number].map(|n| n.to_string())).arg("");
    inherit(&mut command, fds.into_iter().filter(|fd| *fd >= 0).collect());
    command.spawn().step("start the first process of the namespaces")
}

/// PID 1: makes the root, starts the command, passes on signals, collects orphans.
fn stage_two(mut control: File, mut report: File, link: Option<OwnedFd>, number: u32) -> ExitCode {
    let plan = match receive_plan(&mut control) {
        Ok(plan) => plan,
        Err(source) => return tell_failure(&mut report, &Failed { step: "receive the plan", source }),
    };
    // Nothing inside may look into this process.
    let guarded = set_dumpable_behavior(DumpableBehavior::NotDumpable).step("guard the first process");
    leave_key_ring();
    if let Err(failed) = guarded.and_then(|()| root::enter(&plan)) {
        return tell_failure(&mut report, &failed);
    }
    if let Some(end) = link {
        match crate::link::listeners(&plan.listens).step("listen for the process") {
            Ok(listeners) => drop(std::thread::spawn(move || crate::link::serve(&end, listeners))),
            Err(failed) => return tell_failure(&mut report, &failed),
        }
    }
    // A probe has no command: everything is done that comes before one, and a program is started that is not there.
    let is_probe = plan.argv.is_empty();
    let child = match command_of(&plan, number).and_then(|mut command| command.spawn()) {
        Ok(child) => child,
        Err(error) if is_probe && error.kind() == io::ErrorKind::NotFound => {
            tell(&mut report, &Report::Ready);
            return ExitCode::SUCCESS;
        }
        Err(source) if is_probe => {
            return tell_failure(&mut report, &Failed { step: "become the image's user", source });
        }
        Err(error) => {
            tell(&mut report, &Report::NotStarted { detail: error.to_string() });
            return ExitCode::from(STAGE_FAILED);
        }
    };
    tell(&mut report, &Report::Ready);
    let Some(pid) = i32::try_from(child.id()).ok().and_then(Pid::from_raw) else {
        return ExitCode::from(STAGE_FAILED);
    };
    let watch = Watch::default();
    let in_memory = plan.writable.iter().map(|folder| format!("/{folder}")).chain(["/dev/shm".to_owned()]);
    watch.start(plan.limits, in_memory.collect(), pid);
    std::thread::spawn(move || pass_signals(control, pid));
    let ended = collect(pid);
    let broken = watch.broken().or(match ended {
        Report::Signal(libc::SIGXFSZ) => Some(Limit::Written),
        _ => None,
    });
    tell(&mut report, &broken.map_or(ended, Report::Over));
    ExitCode::SUCCESS
}

/// Takes an empty key ring in place of the caller's, which would be visible inside (session-keyring(7)).
fn leave_key_ring() {
    const JOIN_SESSION: libc::c_long = 1;
    // SAFETY: a system call on numbers and a null pointer, which asks for a ring without a name. A kernel without key rings
    // refuses, and there is nothing to hide.
    unsafe { libc::syscall(libc::SYS_keyctl, JOIN_SESSION, std::ptr::null::<libc::c_char>()) };
}

fn receive_plan(control: &mut File) -> io::Result<Plan> {
    let mut length = [0; 4];
    control.read_exact(&mut length)?;
    let mut bytes = vec![0; u32::from_le_bytes(length) as usize];
    control.read_exact(&mut bytes)?;
    Ok(serde_json::from_slice(&bytes)?)
}

/// The program that a probe tries to start.
const NO_PROGRAM: &str = "/no-such-program";

fn command_of(plan: &Plan, number: u32) -> io::Result<Command> {
    let mut command = Command::new(plan.argv.first().map_or(NO_PROGRAM, String::as_str));
    command.args(plan.argv.iter().skip(1)).env_clear().envs(plan.env.iter().cloned());
    command.current_dir(&plan.folder);
    let privileges = Privileges::of(plan, number)?;
    let on_terminal = plan.on_terminal;
    let prepare = move || {
        if on_terminal {
            own_terminal()?;
        }
        privileges.give_up()
    };
    // SAFETY: only system calls on this thread, which is the only one of the forked child;
    // nothing is allocated and no lock is taken.
    unsafe { command.pre_exec(prepare) };
    Ok(command)
}

/// Makes the terminal at standard input that of this process and what it starts (tty_ioctl(4), `TIOCSCTTY`).
fn own_terminal() -> io::Result<()> {
    setsid()?;
    Ok(ioctl_tiocsctty(rustix::stdio::stdin())?)
}

/// Passes on each signal that the caller writes; when the caller is gone, ends everything.
fn pass_signals(mut control: File, child: Pid) {
    let mut number = [0];
    while control.read_exact(&mut number).is_ok() {
        if let Some(signal) = Signal::from_named_raw(i32::from(number[0])) {
            // It may have ended a moment ago.
            let _ = kill_process(child, signal);
        }
    }
    // The end of PID 1 is the end of its namespace.
    std::process::exit(i32::from(STAGE_FAILED));
}

/// Waits for all children until the command itself has ended.
fn collect(command: Pid) -> Report {
    loop {
        match rustix::process::wait(WaitOptions::empty()) {
            Ok(Some((pid, status))) if pid == command => {
                let status = ExitStatus::from_raw(status.as_raw());
                return match (status.code(), status.signal()) {
                    (Some(code), _) => Report::Exit(code),
                    (None, signal) => Report::Signal(signal.unwrap_or_default()),
                };
            }
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(_) => return Report::Exit(i32::from(STAGE_FAILED)),
        }
    }
}
