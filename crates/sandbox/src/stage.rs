//! What the program does when it is started as a stage of its own sandbox.

use crate::filter::Filter;
use crate::loopback::raise_loopback;
use crate::plan::{FIRST_ID, ID_COUNT, Isolation, Plan};
use crate::protocol::{Report, STAGE_NAME, inherit};
use crate::root::{self, Failed, Step};
use rustix::fd::{AsRawFd, FromRawFd, OwnedFd, RawFd};
use rustix::io::{FdFlags, fcntl_setfd};
use rustix::pipe::{PipeFlags, pipe_with};
use rustix::process::{
    DumpableBehavior, Gid, Pid, Signal, Uid, WaitOptions, getgid, getpid, getuid, kill_process,
    set_dumpable_behavior,
};
use rustix::thread::{
    CapabilitySet, CapabilitySets, UnshareFlags, capabilities, clear_ambient_capability_set,
    configure_capability_in_ambient_set, remove_capability_from_bounding_set, set_capabilities,
    set_no_new_privs, set_thread_groups, set_thread_res_gid, set_thread_res_uid, unshare_unsafe,
};
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::os::unix::process::{CommandExt, ExitStatusExt};
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
    let [stage, isolation, network, control, report, link, uid, gid] = &args[..] else {
        return Some(ExitCode::from(STAGE_FAILED));
    };
    let numbers = [control, report, link, uid, gid].map(|n| n.parse::<i32>());
    let [Ok(control), Ok(report), Ok(link), Ok(uid), Ok(gid)] = numbers else {
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
        "one" => stage_one([isolation, network], [control, report], link, uid, gid),
        _ => stage_two(File::from(control), File::from(report), link),
    };
    Some(code)
}

fn tell(report: &mut File, what: &Report) {
    let Ok(mut line) = serde_json::to_vec(what) else { return };
    line.push(b'\n');
    // If nobody listens any more, there is nobody to tell.
    let _ = report.write_all(&line);
}

fn tell_failure(report: &mut File, failed: &Failed) -> ExitCode {
    tell(report, &Report::Refused { step: failed.step.to_owned(), detail: failed.source.to_string() });
    ExitCode::from(STAGE_FAILED)
}

/// Enters new namespaces and starts stage two as their first process.
fn stage_one(
    [isolation, network]: [&str; 2],
    [control, report]: [OwnedFd; 2],
    link: Option<OwnedFd>,
    uid: u32,
    gid: u32,
) -> ExitCode {
    let fds = [control.as_raw_fd(), report.as_raw_fd(), link.as_ref().map_or(-1, AsRawFd::as_raw_fd)];
    let mut report = File::from(report);
    let single_user = isolation == "single-user";
    match separate(single_user, network == "alone", uid, gid)
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
    if alone {
        raise_loopback().step("raise the loopback interface")?;
    }
    if single_user {
        keep_capabilities().step("keep capabilities for mounting")?;
    }
    Ok(())
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
    command.args(fds.map(|fd| fd.to_string())).args([uid, gid].map(|n| n.to_string()));
    inherit(&mut command, fds.into_iter().filter(|fd| *fd >= 0).collect());
    command.spawn().step("start the first process of the namespaces")
}

/// PID 1: makes the root, starts the command, passes on signals, collects orphans.
fn stage_two(mut control: File, mut report: File, link: Option<OwnedFd>) -> ExitCode {
    let plan = match receive_plan(&mut control) {
        Ok(plan) => plan,
        Err(source) => return tell_failure(&mut report, &Failed { step: "receive the plan", source }),
    };
    // Nothing inside may look into this process.
    let guarded = set_dumpable_behavior(DumpableBehavior::NotDumpable).step("guard the first process");
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
    let started = match plan.mode.isolation {
        Isolation::Superuser => IdMapper::start().and_then(|mapper| command_of(&plan, Some(mapper)).spawn()),
        Isolation::SingleUser => command_of(&plan, None).spawn(),
    };
    let child = match started {
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
    std::thread::spawn(move || pass_signals(control, pid));
    let ended = collect(pid);
    tell(&mut report, &ended);
    ExitCode::SUCCESS
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

fn command_of(plan: &Plan, mapper: Option<IdMapper>) -> Command {
    let mut command = Command::new(plan.argv.first().map_or(NO_PROGRAM, String::as_str));
    command.args(plan.argv.iter().skip(1)).env_clear().envs(plan.env.iter().cloned());
    command.current_dir(&plan.folder);
    let (uid, gid) = (plan.uid, plan.gid);
    let filter = Filter::new();
    let prepare = move || {
        give_up_privileges(mapper.as_ref(), uid, gid).map_err(io::Error::from)?;
        filter.set()
    };
    // SAFETY: only system calls on this thread, which is the only one of the forked child;
    // nothing is allocated and no lock is taken.
    unsafe { command.pre_exec(prepare) };
    command
}

/// Gives the command of the superuser a user namespace, whose ids nobody on this machine has. Only a process
/// outside of the namespace can map them: a thread of this one waits for the child to ask.
struct IdMapper {
    asking: OwnedFd,
    answer: OwnedFd,
}

impl IdMapper {
    fn start() -> io::Result<Self> {
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
        Ok(Self { asking, answer })
    }

    /// Called in the child, between `fork` and `exec`.
    fn enter(&self) -> rustix::io::Result<()> {
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

fn give_up_privileges(mapper: Option<&IdMapper>, uid: u32, gid: u32) -> rustix::io::Result<()> {
    set_no_new_privs(true)?;
    mapper.map_or(Ok(()), IdMapper::enter)?;
    clear_ambient_capability_set()?;
    for capability in DROPPED {
        remove_capability_from_bounding_set(capability)?;
    }
    if mapper.is_some() {
        let (uid, gid) = (Uid::from_raw(uid), Gid::from_raw(gid));
        set_thread_groups(&[])?;
        set_thread_res_gid(gid, gid, gid)?;
        set_thread_res_uid(uid, uid, uid)?;
    }
    let mut kept = capabilities(None)?.permitted;
    for capability in DROPPED {
        kept.remove(capability);
    }
    let inheritable = CapabilitySet::empty();
    set_capabilities(None, CapabilitySets { effective: kept, permitted: kept, inheritable })
}

/// Capabilities that reach beyond the process's own files and processes.
const DROPPED: [CapabilitySet; 17] = [
    CapabilitySet::SYS_ADMIN,
    CapabilitySet::SYS_MODULE,
    CapabilitySet::SYS_RAWIO,
    CapabilitySet::SYS_PTRACE,
    CapabilitySet::SYS_BOOT,
    CapabilitySet::SYS_TIME,
    CapabilitySet::SYS_NICE,
    CapabilitySet::SYS_RESOURCE,
    CapabilitySet::SYS_TTY_CONFIG,
    CapabilitySet::SYS_PACCT,
    CapabilitySet::NET_ADMIN,
    CapabilitySet::NET_RAW,
    CapabilitySet::MKNOD,
    CapabilitySet::LINUX_IMMUTABLE,
    CapabilitySet::MAC_ADMIN,
    CapabilitySet::DAC_READ_SEARCH,
    CapabilitySet::SYSLOG,
];

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
