//! The root file system: prepared by the caller, mounted by stage two.
//!
//! In the scratch folder: `front/` (real folders for mount points, above all layers, so that no link
//! in an image can lead a mount elsewhere), `upper/`, `work/`, and `root/` where all is mounted.

use crate::plan::{FIRST_ID, Ground, Isolation, Merged, Network, Plan};
use rustix::fs::{CWD, Mode as Bits, OFlags, openat};
use rustix::mount::{
    MountFlags, MountPropagationFlags, UnmountFlags, mount, mount_bind, mount_change, mount_remount, unmount,
};
use std::collections::BTreeSet;
use std::ffi::CString;
use std::fs::{self, File, Metadata, Permissions};
use std::io;
use std::os::unix::fs::{FileTypeExt, MetadataExt, PermissionsExt, lchown, symlink};
use std::path::{Path, PathBuf};

/// Device files that every process may expect.
const DEVICES: [&str; 6] = ["null", "zero", "full", "random", "urandom", "tty"];
/// Kernel controls that are only read inside.
const READ_ONLY: [&str; 5] = ["sys", "sysrq-trigger", "irq", "bus", "fs"];
/// Kernel files that describe the host or give access to it: hidden from the process.
const HIDDEN: [&str; 24] = [
    "acpi",
    "asound",
    "config.gz",
    "interrupts",
    "iomem",
    "ioports",
    "kallsyms",
    "kcore",
    "key-users",
    "keys",
    "kmsg",
    "kpagecgroup",
    "kpagecount",
    "kpageflags",
    "latency_stats",
    "modules",
    "mtrr",
    "pagetypeinfo",
    "sched_debug",
    "scsi",
    "slabinfo",
    "timer_list",
    "timer_stats",
    "vmallocinfo",
];

/// The names of every network of its own.
const HOSTS: &str = "127.0.0.1 localhost\n::1 localhost\n";
/// How the working folders of merged folders begin.
const MERGED_WORK: &str = "merged-work-";

/// Makes the folders under `plan.scratch`; with [`Ground::Copy`] also copies the layers.
pub(crate) fn prepare(plan: &Plan) -> io::Result<()> {
    let scratch = &plan.scratch;
    for (name, mode) in [
        ("front", 0o755),
        ("upper", 0o755),
        ("work", 0o700),
        ("root", 0o755),
        ("front/dev", 0o755),
        ("front/proc", 0o555),
    ] {
        folder(&scratch.join(name), mode)?;
    }
    for (name, mode) in [("sys", 0o555), ("etc", 0o755)] {
        folder(&scratch.join("front").join(name), mode)?;
    }
    for (number, _) in plan.merged.iter().enumerate() {
        folder(&scratch.join(format!("{MERGED_WORK}{number}")), 0o700)?;
    }
    let shared = plan.shared.iter().map(|(_, path)| path).chain(plan.merged.iter().map(|merged| &merged.to));
    for path in plan.writable.iter().chain(shared) {
        let mut here = scratch.join("front");
        for name in path.split('/') {
            here.push(name);
            folder(&here, 0o755)?;
        }
    }
    match plan.network {
        Network::Shared => {
            for name in ["resolv.conf", "hosts"] {
                let host = Path::new("/etc").join(name);
                if host.exists() {
                    fs::copy(host, scratch.join("front/etc").join(name))?;
                }
            }
        }
        Network::Linked => {
            let names = plan.names.iter().map(|(name, address)| format!("{address} {name}\n"));
            fs::write(scratch.join("front/etc/hosts"), HOSTS.to_owned() + &names.collect::<String>())?;
        }
        Network::Alone => {}
    }
    if plan.mode.isolation == Isolation::Superuser {
        give_to_root(&scratch.join("front"))?;
        for own in ["upper", "root"] {
            lchown(scratch.join(own), Some(FIRST_ID), Some(FIRST_ID))?;
        }
    }
    if plan.mode.ground == Ground::Copy {
        for layer in &plan.layers {
            copy_tree(layer, &scratch.join("root"), plan.mode.isolation)?;
        }
        copy_tree(&scratch.join("front"), &scratch.join("root"), plan.mode.isolation)?;
        for Merged { from, to } in &plan.merged {
            copy_tree(from, &scratch.join("root").join(to), plan.mode.isolation)?;
            copy_tree(&scratch.join("root").join(to), from, plan.mode.isolation)?;
        }
    }
    Ok(())
}

/// Gives everything in a folder to the superuser inside.
fn give_to_root(folder: &Path) -> io::Result<()> {
    lchown(folder, Some(FIRST_ID), Some(FIRST_ID))?;
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        match entry.file_type()?.is_dir() {
            true => give_to_root(&entry.path())?,
            false => lchown(entry.path(), Some(FIRST_ID), Some(FIRST_ID))?,
        }
    }
    Ok(())
}

fn folder(path: &Path, mode: u32) -> io::Result<()> {
    if let Err(error) = fs::create_dir(path)
        && error.kind() != io::ErrorKind::AlreadyExists
    {
        return Err(error);
    }
    fs::set_permissions(path, Permissions::from_mode(mode))
}

/// Puts `from` over `to` as an overlay would.
fn copy_tree(from: &Path, to: &Path, isolation: Isolation) -> io::Result<()> {
    if is_opaque(from) {
        fs::remove_dir_all(to)?;
        fs::create_dir(to)?;
    }
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let (source, target) = (entry.path(), to.join(entry.file_name()));
        let metadata = source.symlink_metadata()?;
        let there = target.symlink_metadata().ok();
        if metadata.is_dir() {
            if there.is_some_and(|t| !t.is_dir()) {
                fs::remove_file(&target)?;
            }
            folder(&target, 0o700)?;
            copy_tree(&source, &target, isolation)?;
            keep_owner(&metadata, &target, isolation)?;
            fs::set_permissions(&target, metadata.permissions())?;
            continue;
        }
        match there {
            Some(old) if old.is_dir() => fs::remove_dir_all(&target)?,
            Some(_) => fs::remove_file(&target)?,
            None => {}
        }
        if metadata.file_type().is_char_device() {
            // It only says that what was there is gone.
            continue;
        }
        if metadata.is_symlink() {
            symlink(fs::read_link(&source)?, &target)?;
        } else {
            fs::copy(&source, &target)?;
        }
        keep_owner(&metadata, &target, isolation)?;
    }
    Ok(())
}

/// Gives a copy the owner of the original, where this process may.
fn keep_owner(original: &Metadata, copy: &Path, isolation: Isolation) -> io::Result<()> {
    match isolation {
        Isolation::Superuser => lchown(copy, Some(original.uid()), Some(original.gid())),
        Isolation::SingleUser => Ok(()),
    }
}

/// Whether nothing of lower layers shows through the folder.
fn is_opaque(folder: &Path) -> bool {
    let says = |name| rustix::fs::getxattr(folder, name, &mut [0; 1][..]).is_ok();
    says("user.overlay.opaque") || says("trusted.overlay.opaque")
}

/// A preparation step that the system refused.
pub(crate) struct Failed {
    pub(crate) step: &'static str,
    pub(crate) source: io::Error,
}

pub(crate) trait Step<T> {
    fn step(self, step: &'static str) -> Result<T, Failed>;
}

impl<T, E: Into<io::Error>> Step<T> for Result<T, E> {
    fn step(self, step: &'static str) -> Result<T, Failed> {
        self.map_err(|e| Failed { step, source: e.into() })
    }
}

/// Mounts everything and makes it the root of this process.
pub(crate) fn enter(plan: &Plan) -> Result<(), Failed> {
    mount_change("/", MountPropagationFlags::PRIVATE | MountPropagationFlags::REC)
        .step("make mounts private")?;
    let root = plan.scratch.join("root");
    match plan.mode.ground {
        Ground::Overlay => {
            mount_overlay(plan, &Overlay::of_root(plan), &root).step("mount an overlay")?;
            for (number, merged) in plan.merged.iter().enumerate() {
                let overlay = Overlay::of_merged(plan, merged, number);
                mount_overlay(plan, &overlay, &root.join(&merged.to)).step("mount a merged folder")?;
            }
        }
        Ground::Copy => mount_bind(&root, &root).step("bind the root folder")?,
    }
    mount_devices(&root).step("mount /dev")?;
    for path in &plan.writable {
        let options = format!("mode=1777,{}", plan.limits.of_memory_files());
        let options = CString::new(options).step("mount a writable folder")?;
        let flags = MountFlags::NOSUID | MountFlags::NODEV;
        mount("tmpfs", root.join(path), "tmpfs", flags, &*options).step("mount a writable folder")?;
    }
    for (from, path) in &plan.shared {
        let target = root.join(path);
        mount_bind(from, &target).step("mount a shared folder")?;
        let flags = MountFlags::BIND | MountFlags::NOSUID | MountFlags::NODEV;
        mount_remount(&target, flags, c"").step("guard a shared folder")?;
    }
    let flags = MountFlags::NOSUID | MountFlags::NODEV | MountFlags::NOEXEC;
    mount("proc", root.join("proc"), "proc", flags, None).step("mount /proc")?;
    guard_kernel(&root.join("proc")).step("guard /proc")?;
    if !plan.root_writable {
        let read_only = MountFlags::BIND | MountFlags::RDONLY | MountFlags::NOSUID | MountFlags::NODEV;
        mount_remount(&root, read_only, c"").step("make the root read-only")?;
    }
    std::env::set_current_dir(&root).step("enter the root")?;
    rustix::process::pivot_root(".", ".").step("change the root")?;
    unmount(".", UnmountFlags::DETACH).step("leave the old root")?;
    std::env::set_current_dir("/").step("enter the root")
}

/// The folders of an overlay: those that are only read, topmost first, and those that take what is written.
struct Overlay {
    lower: Vec<PathBuf>,
    upper: PathBuf,
    work: PathBuf,
}

impl Overlay {
    fn of_root(plan: &Plan) -> Self {
        let layers = plan.layers.iter().rev().cloned();
        Self {
            lower: distinct(std::iter::once(plan.scratch.join("front")).chain(layers)),
            upper: plan.scratch.join("upper"),
            work: plan.scratch.join("work"),
        }
    }

    fn of_merged(plan: &Plan, merged: &Merged, number: usize) -> Self {
        let layers = plan.layers.iter().rev().map(|layer| layer.join(&merged.to));
        // A folder that is no link: what a layer says there must not lead elsewhere.
        let is_folder = |path: &PathBuf| path.symlink_metadata().is_ok_and(|found| found.is_dir());
        let front = plan.scratch.join("front").join(&merged.to);
        Self {
            lower: distinct(std::iter::once(front).chain(layers.filter(is_folder))),
            upper: merged.from.clone(),
            work: plan.scratch.join(format!("{MERGED_WORK}{number}")),
        }
    }
}

/// The folders without those that come again further down: layers with the same content are one folder, which an
/// overlay takes only once. What the upper one shows hides the lower one whole.
fn distinct(folders: impl Iterator<Item = PathBuf>) -> Vec<PathBuf> {
    let mut seen = BTreeSet::new();
    folders.filter(|folder| seen.insert(folder.clone())).collect()
}

fn mount_overlay(plan: &Plan, overlay: &Overlay, target: &Path) -> io::Result<()> {
    // The options of a mount can be read inside: from the deepest folder that all paths share, they tell nothing of where
    // the folders are on this machine. They are also shorter.
    let mut above = overlay.upper.clone();
    for path in overlay.lower.iter().chain([&overlay.work]) {
        while !path.starts_with(&above) {
            above.pop();
        }
    }
    // A colon or comma in a path would be read as a separator.
    let text = |path: &Path| {
        let path = path.strip_prefix(&above).ok().filter(|_| path.is_absolute()).and_then(Path::to_str);
        let path = path.filter(|p| !p.contains([':', ',', '\\']));
        path.map(str::to_owned).ok_or_else(|| {
            io::Error::other("a folder's path is relative, or has a colon, comma or backslash")
        })
    };
    let lowers = overlay.lower.iter().map(|p| text(p)).collect::<io::Result<Vec<_>>>()?.join(":");
    let mut options =
        format!("lowerdir={lowers},upperdir={},workdir={}", text(&overlay.upper)?, text(&overlay.work)?);
    if plan.mode.isolation == Isolation::SingleUser {
        options.push_str(",userxattr");
    }
    if options.len() >= 4096 {
        return Err(io::Error::other("too many layers for one mount"));
    }
    std::env::set_current_dir(&above)?;
    let flags = MountFlags::NOSUID | MountFlags::NODEV;
    mount("overlay", target, "overlay", flags, &*CString::new(options)?)?;
    Ok(())
}

fn mount_devices(root: &Path) -> io::Result<()> {
    let dev = root.join("dev");
    let options = CString::new("mode=0755,size=64k")?;
    mount("tmpfs", &dev, "tmpfs", MountFlags::NOSUID, &*options)?;
    for name in DEVICES {
        let target = dev.join(name);
        File::create(&target)?;
        mount_bind(Path::new("/dev").join(name), &target)?;
    }
    for (name, target) in [
        ("fd", "/proc/self/fd"),
        ("stdin", "fd/0"),
        ("stdout", "fd/1"),
        ("stderr", "fd/2"),
        ("ptmx", "pts/ptmx"),
    ] {
        symlink(target, dev.join(name))?;
    }
    folder(&dev.join("pts"), 0o755)?;
    let options = CString::new("newinstance,ptmxmode=0666,mode=0620")?;
    let quiet = MountFlags::NOSUID | MountFlags::NOEXEC;
    mount("devpts", dev.join("pts"), "devpts", quiet, &*options)?;
    folder(&dev.join("shm"), 0o1777)?;
    let options = CString::new("mode=1777,size=64m")?;
    mount("tmpfs", dev.join("shm"), "tmpfs", quiet | MountFlags::NODEV, &*options)?;
    Ok(())
}

fn guard_kernel(proc: &Path) -> io::Result<()> {
    for path in READ_ONLY.map(|n| proc.join(n)).iter().filter(|p| p.exists()) {
        mount_bind(path, path)?;
        let flags = MountFlags::BIND | MountFlags::RDONLY | MountFlags::NOSUID | MountFlags::NODEV;
        mount_remount(path, flags | MountFlags::NOEXEC, c"")?;
    }
    for path in HIDDEN.map(|n| proc.join(n)) {
        match path.symlink_metadata() {
            Ok(found) if found.is_dir() => {
                let flags = MountFlags::RDONLY | MountFlags::NOSUID | MountFlags::NODEV | MountFlags::NOEXEC;
                mount("tmpfs", &path, "tmpfs", flags, c"size=4k,nr_inodes=2")?;
            }
            Ok(_) => mount_bind("/dev/null", &path)?,
            Err(_) => {}
        }
    }
    // Opened once to see that the new root is usable at all.
    openat(CWD, proc, OFlags::DIRECTORY | OFlags::CLOEXEC, Bits::empty())?;
    Ok(())
}
