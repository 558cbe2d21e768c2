//! The suites of Debian that can be a base, and what of them makes a base or a runtime.

use remote::packages::debian::{SignatureFault, Signatures};

/// A suite.
pub struct Suite {
    /// Its code name, as in `debian:trixie`.
    pub name: &'static str,
    /// The version of the distribution.
    pub release: &'static str,
    /// Major and minor version of its C library.
    pub c_library: (u32, u32),
    /// The runtimes that it has.
    pub runtimes: &'static [SuiteRuntime],
    /// What it has for building only.
    pub tools: &'static [SuiteRuntime],
    keys: [&'static [u8]; 3],
}

/// A runtime of a suite.
#[derive(Debug)]
pub struct SuiteRuntime {
    /// For example `node`.
    pub name: &'static str,
    /// Its version when this program was made; updates only ever move its last part.
    pub version: &'static str,
    /// Its packages, the one whose version is the runtime's first.
    pub packages: &'static [&'static str],
    /// How the names of packages with further parts of it begin, for example extensions.
    pub parts: Option<&'static str>,
    /// What a slim one goes without.
    pub slim_without: &'static [&'static str],
    /// What one needs that is made of its parts, and comes from elsewhere.
    pub small_needs: &'static [&'static str],
}

impl SuiteRuntime {
    const fn of(name: &'static str, version: &'static str, packages: &'static [&'static str]) -> Self {
        Self { name, version, packages, parts: None, slim_without: &[], small_needs: &[] }
    }

    const fn with_parts(self, beginning: &'static str) -> Self {
        Self { parts: Some(beginning), ..self }
    }

    const fn slim_without(self, packages: &'static [&'static str]) -> Self {
        Self { slim_without: packages, ..self }
    }

    const fn small_needs(self, packages: &'static [&'static str]) -> Self {
        Self { small_needs: packages, ..self }
    }
}

/// What Java needs for fonts, printing, sound, smart cards and Kerberos only.
const NOT_IN_SLIM_JAVA: &[&str] = &[
    "libasound2*",
    "libcups2*",
    "libfontconfig1",
    "libfreetype6",
    "libharfbuzz0b",
    "libnss3",
    "libpcsclite1",
    "util-linux",
];

/// What the modules of Java load.
const NEEDED_BY_JAVA: &[&str] = &["libjpeg62-turbo", "liblcms2-2", "libstdc++6", "zlib1g"];

/// Every suite, the newest first. Python has what wheels for Linux may count on without bringing it (PEP 600).
pub const SUITES: [Suite; 2] = [
    Suite {
        name: "trixie",
        release: "13",
        c_library: (2, 41),
        runtimes: &[
            SuiteRuntime::of("node", "20.19.2", &["nodejs"]),
            SuiteRuntime::of("python", "3.13.5", &["python3.13", "python3", "libstdc++6", "libatomic1"]),
            SuiteRuntime::of("nginx", "1.26.3", &["nginx"]),
            SuiteRuntime::of("ruby", "3.3.14", &["ruby3.3", "ruby"]),
            SuiteRuntime::of(
                "php",
                "8.4.28",
                &[
                    "php8.4-cli",
                    "php8.4-fpm",
                    "libapache2-mod-php8.4",
                    "media-types",
                    "php8.4-curl",
                    "php8.4-intl",
                    "php8.4-mbstring",
                    "php8.4-mysql",
                    "php8.4-pgsql",
                    "php8.4-sqlite3",
                    "php8.4-xml",
                    "php8.4-zip",
                ],
            )
            .with_parts("php8.4-"),
            SuiteRuntime::of("java", "21.0.13", &["openjdk-21-jre-headless"])
                .slim_without(NOT_IN_SLIM_JAVA)
                .small_needs(NEEDED_BY_JAVA),
            SuiteRuntime::of("java", "25.0.5", &["openjdk-25-jre-headless"])
                .slim_without(NOT_IN_SLIM_JAVA)
                .small_needs(NEEDED_BY_JAVA),
        ],
        tools: &[
            SuiteRuntime::of("bundler", "2.6.7", &["ruby-bundler", "ruby"]),
            SuiteRuntime::of("compilers", "14.2.0", &["gcc-14", "build-essential", "pkgconf"]),
            SuiteRuntime::of("composer", "2.8.8", &["composer", "unzip"]),
            SuiteRuntime::of("go", "1.24.4", &["golang-1.24-go", "golang-go"]),
            SuiteRuntime::of("jdk-21", "21.0.13", &["openjdk-21-jdk-headless"]),
            SuiteRuntime::of("jdk-25", "25.0.5", &["openjdk-25-jdk-headless"]),
            SuiteRuntime::of("maven", "3.9.9", &["maven", "openjdk-21-jdk-headless"]),
            SuiteRuntime::of("node", "20.19.2", &["nodejs", "libnode-dev"]),
            SuiteRuntime::of(
                "php",
                "8.4.28",
                &[
                    "php8.4-cli",
                    "php8.4-curl",
                    "php8.4-intl",
                    "php8.4-mbstring",
                    "php8.4-mysql",
                    "php8.4-pgsql",
                    "php8.4-sqlite3",
                    "php8.4-xml",
                    "php8.4-zip",
                ],
            ),
            SuiteRuntime::of("python", "3.13.5", &["python3.13", "python3-dev"]),
            SuiteRuntime::of("ruby", "3.3.14", &["ruby3.3", "ruby"]),
            SuiteRuntime::of("ruby-dev", "3.3.14", &["ruby3.3-dev", "ruby"]),
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
        c_library: (2, 36),
        runtimes: &[
            SuiteRuntime::of("node", "18.20.4", &["nodejs"]),
            SuiteRuntime::of("python", "3.11.2", &["python3.11", "python3", "libstdc++6", "libatomic1"]),
            SuiteRuntime::of("nginx", "1.22.1", &["nginx"]),
            SuiteRuntime::of("ruby", "3.1.2", &["ruby3.1", "ruby"]),
            SuiteRuntime::of(
                "php",
                "8.2.36",
                &[
                    "php8.2-cli",
                    "php8.2-fpm",
                    "libapache2-mod-php8.2",
                    "media-types",
                    "php8.2-curl",
                    "php8.2-intl",
                    "php8.2-mbstring",
                    "php8.2-mysql",
                    "php8.2-pgsql",
                    "php8.2-sqlite3",
                    "php8.2-xml",
                    "php8.2-zip",
                ],
            )
            .with_parts("php8.2-"),
            SuiteRuntime::of("java", "17.0.21", &["openjdk-17-jre-headless"])
                .slim_without(NOT_IN_SLIM_JAVA)
                .small_needs(NEEDED_BY_JAVA),
        ],
        tools: &[
            SuiteRuntime::of("bundler", "2.3.15", &["ruby-bundler", "ruby"]),
            SuiteRuntime::of("compilers", "12.2.0", &["gcc-12", "build-essential", "pkgconf"]),
            SuiteRuntime::of("composer", "2.5.5", &["composer", "unzip"]),
            SuiteRuntime::of("go", "1.19.8", &["golang-1.19-go", "golang-go"]),
            SuiteRuntime::of("jdk-17", "17.0.21", &["openjdk-17-jdk-headless"]),
            SuiteRuntime::of("maven", "3.8.7", &["maven", "openjdk-17-jdk-headless"]),
            SuiteRuntime::of("node", "18.20.4", &["nodejs", "libnode-dev"]),
            SuiteRuntime::of(
                "php",
                "8.2.36",
                &[
                    "php8.2-cli",
                    "php8.2-curl",
                    "php8.2-intl",
                    "php8.2-mbstring",
                    "php8.2-mysql",
                    "php8.2-pgsql",
                    "php8.2-sqlite3",
                    "php8.2-xml",
                    "php8.2-zip",
                ],
            ),
            SuiteRuntime::of("python", "3.11.2", &["python3.11", "python3-dev"]),
            SuiteRuntime::of("ruby", "3.1.2", &["ruby3.1", "ruby"]),
            SuiteRuntime::of("ruby-dev", "3.1.2", &["ruby3.1-dev", "ruby"]),
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

/// What every root that things are built in has besides: build files and scripts assume it.
pub const BUILD_BASE: [&str; 9] =
    ["bash", "coreutils", "diffutils", "findutils", "grep", "gzip", "mawk", "sed", "tar"];

/// Packages that serve installing, administering or booting a machine: what needs them works in an
/// image without them. A star stands for any ending.
pub(crate) const NOT_AT_RUN_TIME: [&str; 24] = [
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

/// Packages that not even building needs.
pub(crate) const NOT_AT_BUILD_TIME: [&str; 17] = [
    "adduser",
    "ca-certificates-java",
    "cdebconf",
    "dbus*",
    "debconf*",
    "init-system-helpers",
    "iproute2",
    "java-common",
    "libdebconfclient0",
    "libpam*",
    "login*",
    "lsb-base",
    "passwd",
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

    /// The tool of this name, for building only.
    pub fn tool(&self, name: &str) -> Option<&'static SuiteRuntime> {
        self.tools.iter().find(|tool| tool.name == name)
    }

    /// The runtime of this name: the first whose version `accepts` accepts, else the first of all.
    pub fn runtime(&self, name: &str, accepts: impl Fn(&str) -> bool) -> Option<&'static SuiteRuntime> {
        let named = || self.runtimes.iter().filter(|r| r.name == name);
        named().find(|r| accepts(r.version)).or_else(|| named().next())
    }
}

/// Whether `name` is among `patterns`.
pub(crate) fn is_among(patterns: &[&str], name: &str) -> bool {
    patterns.iter().any(|p| p.strip_suffix('*').map_or(*p == name, |begin| name.starts_with(begin)))
}
