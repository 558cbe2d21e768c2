//! What the scripts of packages would do when they are installed, as data: none of them is run.

use super::unpack::{TOP_LINKS, Unpacked};
use crate::base::{APP_HOME, APP_USER};
use content::layer::{Entry, Owner};
use std::collections::BTreeMap;

/// Something that is put into the layer of the package it belongs to.
enum Action {
    /// A link and its target.
    Link(&'static str, &'static str),
    /// A folder with its mode.
    Folder(&'static str, u32),
    /// A copy of a file of the package.
    Copy(&'static str, &'static str),
    /// A text.
    Text(&'static str, &'static str),
    /// All certificates of the package in one file.
    Certificates,
    /// Users and groups: those of the distribution, and the app's.
    Users,
    /// The home folder of the app, and the links at the top that the platform has.
    Tree,
}

use Action::{Certificates, Copy, Folder, Link, Text, Tree, Users};

const FIXUPS: &[(&str, &[Action])] = &[
    (
        "base-files",
        &[
            Tree,
            Folder("dev", 0o755),
            Folder("media", 0o755),
            Folder("mnt", 0o755),
            Folder("opt", 0o755),
            Folder("proc", 0o755),
            Folder("run", 0o755),
            Folder("run/lock", 0o1777),
            Folder("srv", 0o755),
            Folder("sys", 0o755),
            Folder("tmp", 0o1777),
            Folder("var/tmp", 0o1777),
            Link("var/lock", "/run/lock"),
            Link("var/run", "/run"),
        ],
    ),
    ("base-passwd", &[Users]),
    ("python3", &[Link("usr/bin/python", "python3")]),
    ("libc-bin", &[Copy("usr/share/libc-bin/nsswitch.conf", "etc/nsswitch.conf")]),
    (
        "ca-certificates",
        &[
            Certificates,
            Link("usr/lib/ssl/cert.pem", "/etc/ssl/certs/ca-certificates.crt"),
            Link("usr/lib/ssl/certs", "/etc/ssl/certs"),
        ],
    ),
    ("tzdata", &[Link("etc/localtime", "/usr/share/zoneinfo/Etc/UTC"), Text("etc/timezone", "Etc/UTC\n")]),
];

/// Entries that fix-ups add, by path, with the contents of files.
pub(super) type Added = BTreeMap<String, (Entry, String)>;

/// What the fix-ups of these packages add; `architecture` is Debian's name of the processor.
pub(super) fn added(packages: &BTreeMap<String, Unpacked>, architecture: &str) -> Added {
    let mut added = Added::new();
    for (package, actions) in FIXUPS {
        let Some(unpacked) = packages.get(*package) else { continue };
        for action in *actions {
            apply(action, unpacked, architecture, &mut added);
        }
    }
    added
}

fn apply(action: &Action, unpacked: &Unpacked, architecture: &str, added: &mut Added) {
    let mut put = |entry: Entry, text: String| drop(added.insert(entry.path.clone(), (entry, text)));
    let file = |path: &str, text: &str| Entry::file(path, text.len() as u64, false);
    let text_of = |path: &str| unpacked.texts.get(path).cloned().unwrap_or_default();
    match action {
        Link(path, target) => put(Entry::link(*path, *target), String::new()),
        Folder(path, mode) => put(Entry { mode: *mode, ..Entry::folder(*path) }, String::new()),
        Text(path, text) => put(file(path, text), (*text).to_owned()),
        Copy(from, to) => {
            let text = text_of(from);
            put(file(to, &text), text);
        }
        Certificates => {
            let all =
                unpacked.texts.iter().filter(|(p, _)| p.ends_with(".crt")).map(|(_, text)| text.trim_end());
            let text = all.map(|one| format!("{one}\n")).collect::<String>();
            put(file("etc/ssl/certs/ca-certificates.crt", &text), text);
        }
        Users => {
            let (uid, gid) = (APP_USER.uid, APP_USER.gid);
            // A star would mean a password that nobody can give; an x is for the shadow file.
            let passwd = text_of("usr/share/base-passwd/passwd.master").replace(":*:", ":x:")
                + &format!("app:x:{uid}:{gid}:app:/{APP_HOME}:/usr/sbin/nologin\n");
            let group = text_of("usr/share/base-passwd/group.master").replace(":*:", ":x:")
                + &format!("app:x:{gid}:\n");
            put(file("etc/passwd", &passwd), passwd);
            put(file("etc/group", &group), group);
        }
        Tree => {
            put(Entry { owner: APP_USER, ..Entry::folder(APP_HOME) }, String::new());
            for top in TOP_LINKS.iter().filter(|top| **top != "lib64" || architecture == "amd64") {
                put(Entry::link(*top, format!("usr/{top}")), String::new());
                let below = Entry { owner: Owner::ROOT, ..Entry::folder(format!("usr/{top}")) };
                put(below, String::new());
            }
        }
    }
}
