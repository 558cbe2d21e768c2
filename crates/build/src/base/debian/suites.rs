//! The suites of Debian that can be a base, and what of them makes a base or a runtime.

use remote::packages::debian::{SignatureFault, Signatures};

/// A suite.
pub struct Suite {
    /// Its code name, as in `debian:trixie`.
    pub name: &'static str,
    /// The version of the distribution.
    pub release: &'static str,
    /// The runtimes that it has.
    pub runtimes: &'static [SuiteRuntime],
    keys: [&'static [u8]; 3],
}

/// A runtime of a suite.
pub struct SuiteRuntime {
    /// For example `node`.
    pub name: &'static str,
    /// Its version when this program was made; updates only ever move its last part.
    pub version: &'static str,
    /// Its packages, the one whose version is the runtime's first.
    pub packages: &'static [&'static str],
}

/// Every suite, the newest first.
pub const SUITES: [Suite; 2] = [
    Suite {
        name: "trixie",
        release: "13",
        runtimes: &[
            SuiteRuntime { name: "node", version: "20.19.2", packages: &["nodejs"] },
            SuiteRuntime { name: "python", version: "3.13.5", packages: &["python3.13", "python3"] },
        ],
        keys: [
            include_bytes!("keys/trixie-automatic.gpg"),
            include_bytes!("keys/trixie-security-automatic.gpg"),
            include_bytes!("keys/trixie-stable.gpg"),
        ],
    },
    Suite {
        name: "bookworm",
        release: "12",
        runtimes: &[
            SuiteRuntime { name: "node", version: "18.20.4", packages: &["nodejs"] },
            SuiteRuntime { name: "python", version: "3.11.2", packages: &["python3.11", "python3"] },
        ],
        keys: [
            include_bytes!("keys/bookworm-automatic.gpg"),
            include_bytes!("keys/bookworm-security-automatic.gpg"),
            include_bytes!("keys/bookworm-stable.gpg"),
        ],
    },
];

/// What every image on this base has.
pub const BASE: [&str; 7] =
    ["base-files", "base-passwd", "ca-certificates", "dash", "libc-bin", "netbase", "tzdata"];

/// Packages that serve installing, administering or booting a machine: what needs them works in an
/// image without them. A star stands for any ending.
pub const NOT_AT_RUN_TIME: [&str; 24] = [
    "adduser",
    "awk",
    "ca-certificates-java",
    "cdebconf",
    "dbus*",
    "debconf*",
    "dpkg",
    "init-system-helpers",
    "iproute2",
    "java-common",
    "libdebconfclient0",
    "libpam*",
    "login*",
    "lsb-base",
    "mawk",
    "media-types",
    "openssl",
    "passwd",
    "perl*",
    "procps",
    "psmisc",
    "systemd*",
    "sysvinit-utils",
    "ucf",
];

impl Suite {
    /// The suite of this name.
    pub fn named(name: &str) -> Option<&'static Self> {
        SUITES.iter().find(|s| s.name == name)
    }

    /// Parts of the suite, weakest first: name, and whether it lies in the archive of security updates.
    pub fn parts(&self) -> [(String, bool); 3] {
        [
            (self.name.to_owned(), false),
            (format!("{}-updates", self.name), false),
            (format!("{}-security", self.name), true),
        ]
    }

    /// The keys that the suite is signed with, and those in `more`.
    pub fn signatures(&self, more: &[Vec<u8>]) -> Result<Signatures, SignatureFault> {
        let mut keys = Signatures::default();
        for keyring in self.keys.into_iter().chain(more.iter().map(Vec::as_slice)) {
            keys.add(keyring)?;
        }
        Ok(keys)
    }

    /// The runtime of this name.
    pub fn runtime(&self, name: &str) -> Option<&'static SuiteRuntime> {
        self.runtimes.iter().find(|r| r.name == name)
    }
}

/// Whether `name` is among `patterns`.
pub fn is_among(patterns: &[&str], name: &str) -> bool {
    patterns.iter().any(|p| p.strip_suffix('*').map_or(*p == name, |begin| name.starts_with(begin)))
}
