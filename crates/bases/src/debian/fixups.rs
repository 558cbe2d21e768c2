//! What the scripts of packages would do when they are installed, as data: none of them is run.

use crate::debian::unpack::{TOP_LINKS, Unpacked};
use crate::debian::{keystore, php};
use content::layer::{Entry, Owner};
use model::places::{APP_HOME, APP_USER};
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
    /// A text that can be run.
    Script(&'static str, &'static str),
    /// All certificates of the package in one file.
    Certificates,
    /// Users and groups: those of the distribution, and the app's.
    Users,
    /// The home folder of the app, and the links at the top that the platform has.
    Tree,
    /// Links to the package's own programs (which begin with the first text) where programs are looked
    /// for, under their names without the version behind them.
    Programs(&'static str, &'static str),
    /// The certificates of the base, in the form that Java reads.
    Keystore,
    /// The production configuration of PHP.
    PhpConfiguration,
    /// Extensions of PHP are loaded.
    PhpExtensions,
}

use Action::{
    Certificates, Copy, Folder, Keystore, Link, PhpConfiguration, PhpExtensions, Programs, Script, Text,
    Tree, Users,
};

/// What the first lines of scripts ask for (`#!/usr/bin/env node`): a command is found by the `PATH`. The package
/// that has it in Debian is as large as the whole base.
const ENV: &str = r#"#!/bin/sh
set -f
while [ $# -gt 0 ]; do
  case $1 in
    -S) shift; command=$1; shift; set -- $command "$@" ;;
    -S*) command=${1#-S}; shift; set -- $command "$@" ;;
    --) shift; break ;;
    -*) echo 'env: only -S is known here; in [base], packages = ["coreutils"] brings the rest' >&2; exit 125 ;;
    *=*) export "$1"; shift ;;
    *) break ;;
  esac
done
[ $# -gt 0 ] || exec /bin/sh -c export
exec "$@"
"#;

/// Actions by the package that they belong to; a star stands for anything.
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
    ("dash", &[Script("usr/bin/env", ENV)]),
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
    ("mawk", &[Link("usr/bin/awk", "mawk")]),
    ("gcc", &[Link("usr/bin/cc", "gcc"), Link("usr/bin/c89", "gcc"), Link("usr/bin/c99", "gcc")]),
    ("g++", &[Link("usr/bin/c++", "g++")]),
    ("maven", &[Link("usr/bin/mvn", "/usr/share/maven/bin/mvn")]),
    ("openjdk-*-jdk-headless", &[Programs("usr/lib/jvm/", "usr/bin")]),
    ("openjdk-*-jre-headless", &[Programs("usr/lib/jvm/", "usr/bin"), Keystore]),
    ("php*-common", &[PhpConfiguration]),
    ("php*-cli", &[Programs("usr/bin/php", "usr/bin"), Programs("usr/bin/phar", "usr/bin")]),
    ("php*-fpm", &[Programs("usr/sbin/php-fpm", "usr/sbin"), Folder("run/php", 0o1777)]),
    ("php*-*", &[PhpExtensions]),
];

/// Entries that fix-ups add, by path, with the contents of files.
pub(super) type Added = BTreeMap<String, (Entry, Vec<u8>)>;

/// What fix-ups look at besides the package that they belong to.
pub(super) struct FixupContext<'a> {
    /// Debian's name of the processor.
    pub(super) architecture: &'a str,
    /// The package with the certificates of the base.
    pub(super) certificates: Option<&'a Unpacked>,
}

/// What the fix-ups of these packages add.
pub(super) fn added(packages: &BTreeMap<String, Unpacked>, context: &FixupContext<'_>) -> Added {
    let mut added = Added::new();
    for (pattern, actions) in FIXUPS {
        for (_, unpacked) in packages.iter().filter(|(name, _)| matches(pattern, name)) {
            let is_there = |path: &str| packages.values().any(|package| package.files.contains(path));
            // A script stands in for a program of a package that need not be there.
            for action in actions.iter().filter(|a| !matches!(a, Script(path, _) if is_there(path))) {
                apply(action, unpacked, context, &mut added);
            }
        }
    }
    added
}

/// Whether a fix-up of one of these packages needs the certificates of the base.
pub(super) fn need_certificates<'a>(packages: impl Iterator<Item = &'a str>) -> bool {
    let needs = |actions: &[Action]| actions.iter().any(|action| matches!(action, Keystore));
    let patterns: Vec<_> = FIXUPS.iter().filter(|(_, actions)| needs(actions)).map(|(p, _)| *p).collect();
    let mut packages = packages;
    packages.any(|name| patterns.iter().any(|pattern| matches(pattern, name)))
}

/// Whether `name` is what the pattern says; each star in it stands for anything.
fn matches(pattern: &str, name: &str) -> bool {
    match pattern.split_once('*') {
        None => pattern == name,
        Some((begin, rest)) => name.strip_prefix(begin).is_some_and(|name| {
            (0..=name.len()).any(|at| name.is_char_boundary(at) && matches(rest, &name[at..]))
        }),
    }
}

fn apply(action: &Action, unpacked: &Unpacked, context: &FixupContext<'_>, added: &mut Added) {
    let mut put = |entry: Entry, bytes: Vec<u8>| drop(added.insert(entry.path.clone(), (entry, bytes)));
    let file = |path: &str, bytes: &[u8]| Entry::file(path, bytes.len() as u64, false);
    let text_of = |path: &str| unpacked.texts.get(path).cloned().unwrap_or_default();
    let mut link = |path: &str, target: &str| put(Entry::link(path, target), Vec::new());
    match action {
        Link(path, target) => link(path, target),
        Folder(path, mode) => put(Entry { mode: *mode, ..Entry::folder(*path) }, Vec::new()),
        Text(path, text) => put(file(path, text.as_bytes()), text.as_bytes().to_vec()),
        Script(path, text) => {
            put(Entry::file(*path, text.len() as u64, true), text.as_bytes().to_vec());
        }
        Copy(from, to) => {
            let text = text_of(from).into_bytes();
            put(file(to, &text), text);
        }
        Certificates => {
            let text = certificates(unpacked).map(|(_, text)| format!("{}\n", text.trim_end()));
            let text = text.collect::<String>().into_bytes();
            put(file("etc/ssl/certs/ca-certificates.crt", &text), text);
        }
        Keystore => {
            let store = keystore::write(context.certificates.into_iter().flat_map(certificates));
            put(file("etc/ssl/certs/java/cacerts", &store), store);
        }
        Programs(begin, folder) => {
            let is_program = |path: &&String| path.starts_with(*begin) && is_in_program_folder(path);
            for path in unpacked.files.iter().chain(unpacked.links.keys()).filter(is_program) {
                let name = path.rsplit('/').next().unwrap_or(path);
                let plain = name.trim_end_matches(|c: char| c.is_ascii_digit() || c == '.');
                let target = format!("{folder}/{plain}");
                if target != *path {
                    link(&target, &format!("/{path}"));
                }
            }
        }
        PhpConfiguration => php::configuration(unpacked, &mut link),
        PhpExtensions => php::extensions(unpacked, &mut link),
        Users => {
            let (uid, gid) = (APP_USER.uid, APP_USER.gid);
            // A star would mean a password that nobody can give; an x is for the shadow file.
            let passwd = text_of("usr/share/base-passwd/passwd.master").replace(":*:", ":x:")
                + &format!("app:x:{uid}:{gid}:app:/{APP_HOME}:/usr/sbin/nologin\n");
            let group = text_of("usr/share/base-passwd/group.master").replace(":*:", ":x:")
                + &format!("app:x:{gid}:\n");
            put(file("etc/passwd", passwd.as_bytes()), passwd.into_bytes());
            put(file("etc/group", group.as_bytes()), group.into_bytes());
        }
        Tree => {
            put(Entry { owner: APP_USER, ..Entry::folder(APP_HOME) }, Vec::new());
            for top in TOP_LINKS.iter().filter(|top| **top != "lib64" || context.architecture == "amd64") {
                put(Entry::link(*top, format!("usr/{top}")), Vec::new());
                let below = Entry { owner: Owner::ROOT, ..Entry::folder(format!("usr/{top}")) };
                put(below, Vec::new());
            }
        }
    }
}

/// The certificates of a package, by path.
fn certificates(unpacked: &Unpacked) -> impl Iterator<Item = (&str, &str)> {
    let texts = unpacked.texts.iter().map(|(path, text)| (path.as_str(), text.as_str()));
    texts.filter(|(path, _)| path.ends_with(".crt"))
}

fn is_in_program_folder(path: &str) -> bool {
    path.rsplit('/').nth(1).is_some_and(|folder| matches!(folder, "bin" | "sbin"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn first_lines_of_scripts_find_their_commands() {
        let said = |arguments: &[&str]| {
            let mut shell = std::process::Command::new("/bin/sh");
            let output = shell.args(["-c", ENV, "env"]).args(arguments).output().unwrap();
            (String::from_utf8(output.stdout).unwrap(), output.status.code())
        };
        let ok = |text: &str| (text.to_owned(), Some(0));
        assert_eq!(said(&["printf", "%s,", "a b", "c"]), ok("a b,c,"));
        assert_eq!(said(&["-S", "printf %s, *", "e f"]), ok("*,e f,"));
        assert_eq!(said(&["-SFOG=thick sh -c", "printf $FOG"]), ok("thick"));
        assert_eq!(said(&["--", "printf", "g"]), ok("g"));
        assert_eq!((said(&["-i", "printf"]).1, said(&["no-such-command"]).1), (Some(125), Some(127)));
    }

    #[test]
    fn a_star_stands_for_anything() {
        for (pattern, name, expected) in [
            ("php*-*", "php8.4-curl", true),
            ("php*-*", "php8.4", false),
            ("openjdk-*-jre-headless", "openjdk-21-jre-headless", true),
            ("openjdk-*-jre-headless", "openjdk-21-jre", false),
            ("dash", "dash", true),
            ("dash", "dash-doc", false),
        ] {
            assert_eq!(matches(pattern, name), expected, "{pattern} {name}");
        }
    }
}
