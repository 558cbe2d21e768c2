//! A small archive of invented Debian packages, with a real index and a real signature.

use crate::archives::sha256_hex;
use liblzma::write::XzEncoder;
use pgp::composed::{
    CleartextSignedMessage, KeyType, SecretKeyParamsBuilder, SignedPublicKey, SignedSecretKey,
};
use pgp::ser::Serialize;
use pgp::types::Password;
use std::fs;
use std::io::Write;
use std::path::Path;
use tar::{EntryType, Header};

/// What lies at a path of a package.
#[derive(Debug, Clone)]
pub enum Item {
    /// A folder with its mode.
    Folder(u32),
    /// A file with its contents.
    File(String),
    /// A program.
    Program(Vec<u8>),
    /// A symbolic link with its target.
    Link(String),
}

/// A package.
#[derive(Debug, Clone)]
pub struct Package {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Further lines of its paragraph, such as `Depends: bell`.
    pub fields: String,
    /// What it installs, as written in the archive.
    pub items: Vec<(String, Item)>,
}

impl Package {
    /// A package that installs these files.
    pub fn new(name: &str, version: &str, fields: &str, files: &[(&str, &str)]) -> Self {
        let items = files.iter().map(|(path, text)| ((*path).to_owned(), Item::File((*text).to_owned())));
        Self {
            name: name.to_owned(),
            version: version.to_owned(),
            fields: fields.to_owned(),
            items: items.collect(),
        }
    }

    /// The same with something more.
    pub fn with(mut self, path: &str, item: Item) -> Self {
        self.items.push((path.to_owned(), item));
        self
    }

    fn archive(&self) -> Vec<u8> {
        let mut tar = tar::Builder::new(Vec::new());
        for (path, item) in &self.items {
            let mut header = Header::new_gnu();
            // Written directly: hostile names are wanted, too.
            header.as_mut_bytes()[..path.len()].copy_from_slice(path.as_bytes());
            let (kind, mode, content) = match item {
                Item::Folder(mode) => (EntryType::Directory, *mode, &[][..]),
                Item::File(text) => {
                    (EntryType::Regular, if path.contains("bin/") { 0o755 } else { 0o644 }, text.as_bytes())
                }
                Item::Program(bytes) => (EntryType::Regular, 0o755, &bytes[..]),
                Item::Link(target) => {
                    header.set_link_name_literal(target).expect("a short target");
                    (EntryType::Symlink, 0o777, &[][..])
                }
            };
            header.set_entry_type(kind);
            header.set_mode(mode);
            header.set_uid(0);
            header.set_gid(0);
            header.set_size(content.len() as u64);
            header.set_mtime(1_700_000_000);
            header.set_cksum();
            tar.append(&header, content).expect("writing to memory cannot fail");
        }
        let data = xz(&tar.into_inner().expect("writing to memory cannot fail"));
        let mut archive = b"!<arch>\n".to_vec();
        for (name, content) in [("debian-binary", b"2.0\n".to_vec()), ("data.tar.xz", data)] {
            let head = format!("{name:<16}{:<12}{:<6}{:<6}{:<8}{:<10}`\n", 0, 0, 0, 100_644, content.len());
            archive.extend(head.as_bytes());
            archive.extend(&content);
            archive.resize(archive.len().next_multiple_of(2), b'\n');
        }
        archive
    }
}

/// Packs as the archives do.
pub fn xz(bytes: &[u8]) -> Vec<u8> {
    let mut writer = XzEncoder::new(Vec::new(), 1);
    writer.write_all(bytes).expect("writing to memory cannot fail");
    writer.finish().expect("writing to memory cannot fail")
}

/// Signs releases.
pub struct Signer(SignedSecretKey);

impl Signer {
    /// A new key.
    pub fn new() -> Self {
        let mut parameters = SecretKeyParamsBuilder::default();
        parameters.key_type(KeyType::Ed25519Legacy).can_certify(true).can_sign(true);
        parameters.primary_user_id("Harbour Archive <archive@harbour.test>".into());
        let parameters = parameters.build().expect("all parameters are there");
        Self(parameters.generate(rand::thread_rng()).expect("a key can be made"))
    }

    /// The public key, as a keyring.
    pub fn keyring(&self) -> Vec<u8> {
        SignedPublicKey::from(self.0.clone()).to_bytes().expect("a key can be written")
    }

    fn sign(&self, text: &str) -> String {
        let password = Password::empty();
        let signed = CleartextSignedMessage::sign(rand::thread_rng(), text, &self.0.primary_key, &password);
        let armored = signed.and_then(|s| s.to_armored_string(Default::default()));
        armored.expect("a text can be signed")
    }
}

impl Default for Signer {
    fn default() -> Self {
        Self::new()
    }
}

/// Writes the part `suite` with these packages into the archive at `folder`; `more` are further lines
/// of its release.
pub fn write_suite(folder: &Path, suite: &str, packages: &[Package], signer: &Signer, more: &str) {
    let mut index = String::new();
    for package in packages {
        let (archive, name, version) = (package.archive(), &package.name, &package.version);
        let file = format!("pool/{name}_{}.deb", version.replace(':', "%3a"));
        write(&folder.join(&file), &archive);
        let fields = if package.fields.is_empty() { String::new() } else { format!("{}\n", package.fields) };
        index.push_str(&format!(
            "Package: {name}\nVersion: {version}\nArchitecture: all\n{fields}Filename: {file}\nSize: {}\nSHA256: {}\n\n",
            archive.len(),
            sha256_hex(&archive)
        ));
    }
    let index = xz(index.as_bytes());
    let mut release = format!(
        "Origin: Harbour\nSuite: {suite}\nCodename: {suite}\nDate: Sat, 21 Nov 2026 09:15:44 UTC\n{more}SHA256:\n"
    );
    for architecture in ["amd64", "arm64"] {
        let path = format!("main/binary-{architecture}/Packages.xz");
        release.push_str(&format!(" {} {} {path}\n", sha256_hex(&index), index.len()));
        write(&folder.join(format!("dists/{suite}/{path}")), &index);
    }
    write(&folder.join(format!("dists/{suite}/InRelease")), signer.sign(&release).as_bytes());
}

fn write(path: &Path, bytes: &[u8]) {
    fs::create_dir_all(path.parent().expect("files lie in folders")).expect("own folder");
    fs::write(path, bytes).expect("own folder");
}

/// Packages with the names that a base and the runtime of Node need, each a few bytes.
pub fn harbour_packages() -> Vec<Package> {
    let licence = "Format: https://harbour.test/copyright\n\nFiles: *\nLicense: MIT\n";
    vec![
        Package::new(
            "base-files",
            "13.8",
            "Pre-Depends: awk",
            &[
                ("./etc/debian_version", "13.8\n"),
                ("./usr/share/doc/base-files/copyright", licence),
                ("./usr/share/doc/base-files/README", "for people"),
            ],
        )
        .with("./bin", Item::Link("usr/bin".into()))
        .with("./tmp", Item::Folder(0o1777))
        .with("./var/tmp", Item::Folder(0o1777)),
        Package::new(
            "base-passwd",
            "3.6",
            "Depends: libc6 (>= 2.34), libdebconfclient0",
            &[
                ("./usr/share/base-passwd/passwd.master", "root:*:0:0:root:/root:/bin/bash\n"),
                ("./usr/share/base-passwd/group.master", "root:*:0:\nstaff:*:50:\n"),
            ],
        ),
        Package::new(
            "ca-certificates",
            "2025",
            "Depends: openssl (>= 1.1.1), debconf (>= 0.5) | debconf-2.0",
            &[
                ("./usr/share/ca-certificates/harbour/One.crt", "one\n"),
                ("./usr/share/ca-certificates/harbour/Two.crt", "two"),
            ],
        ),
        // An archive of before the merge: its files lie at the top.
        Package::new("dash", "0.5", "Depends: dpkg (>= 1.19)", &[("./bin/dash", "dash")])
            .with("./bin/sh", Item::Link("dash".into())),
        Package::new(
            "libc-bin",
            "2.41",
            "Depends: libc6 (>> 2.41~)",
            &[("./usr/share/libc-bin/nsswitch.conf", "passwd: files\n"), ("./usr/bin/locale", "locale")],
        ),
        Package::new("libc6", "2.41-12", "Depends: libgcc-s1", &[("./lib/harbour/libc.so.6", "libc")])
            .with("./lib64/ld.so", Item::Link("../lib/harbour/ld.so".into()))
            .with("./lib/harbour/ld.so", Item::File("loader".into())),
        Package::new(
            "libgcc-s1",
            "14",
            "Depends: gcc-base (= 14), libc6",
            &[("./usr/lib/harbour/libgcc.so", "gcc")],
        ),
        Package::new("gcc-14-base", "14", "Provides: gcc-base (= 14)", &[]),
        Package::new("netbase", "6.5", "", &[("./etc/services", "http 80/tcp\n")]),
        Package::new("tzdata", "2026f", "Depends: debconf", &[("./usr/share/zoneinfo/Etc/UTC", "TZif")]),
        Package::new(
            "nodejs",
            "20.19.2+dfsg-1",
            "Depends: libc6, libnode115 (= 20.19.2+dfsg-1)",
            &[("./usr/bin/nodejs", "node"), ("./usr/share/man/man1/node.1", "for people")],
        )
        .with("./usr/bin/node", Item::Link("nodejs".into())),
        Package::new("libnode115", "20.19.2+dfsg-1", "", &[("./usr/lib/harbour/libnode.so.115", "libnode")]),
        Package::new(
            "nginx",
            "1.26.3-3",
            "Depends: libc6, nginx-common, iproute2",
            &[("./usr/sbin/nginx", "a web server")],
        ),
        Package::new("nginx-common", "1.26.3-3", "Depends: debconf", &[("./etc/nginx/nginx.conf", "")]),
        Package::new(
            "libfog1",
            "1:1.2-3",
            "Depends: libc6",
            &[("./usr/lib/harbour/libfog.so.1", "fog"), ("./usr/lib/x86_64-linux-gnu/libmist.so.1", "mist")],
        ),
    ]
}
