//! The files that every program may expect: folders, users, certificates, time zones, C library.

use crate::host::capture::{Captured, Collector};
use crate::host::{Host, elf};
use content::layer::Owner;
use content::store::Store;
use model::error::BaseError;
use model::places::{APP_HOME, APP_USER};
use model::{Error, PathFacts, Result};
use std::path::{Path, PathBuf};

/// Places of the certificate bundle on Linux systems, most common first.
const BUNDLES: [&str; 4] = [
    "/etc/ssl/certs/ca-certificates.crt",
    "/etc/pki/tls/certs/ca-bundle.crt",
    "/etc/ssl/ca-bundle.pem",
    "/etc/ssl/cert.pem",
];
/// Where it is put: the first of the places, with links from others that programs look at.
const BUNDLE: &str = "etc/ssl/certs/ca-certificates.crt";
const ZONES: &str = "/usr/share/zoneinfo";

/// Parts of the C library that are loaded by name at run time, so that no file says it needs them.
const C_LIBRARY: [&str; 12] = [
    "libc.so.6",
    "libm.so.6",
    "libdl.so.2",
    "libpthread.so.0",
    "librt.so.1",
    "libresolv.so.2",
    "libutil.so.1",
    "libanl.so.1",
    "libnss_files.so.2",
    "libnss_dns.so.2",
    "libnss_compat.so.2",
    "libBrokenLocale.so.1",
];

pub(super) fn capture(host: &Host, interpreter: Option<&Path>, store: &Store, now: i64) -> Result<Captured> {
    let mut files = Collector::new(host, "base", store, now);
    folders(&mut files);
    users(&mut files);
    match BUNDLES.map(|b| host.real(Path::new(b))).into_iter().find(|b| b.exists()) {
        Some(bundle) => {
            files.file(BUNDLE, &bundle)?;
            files.link("etc/ssl/cert.pem", "certs/ca-certificates.crt");
        }
        None => files.note("this machine has no CA certificates: TLS connections from the image will fail"),
    }
    let zones = host.real(Path::new(ZONES));
    if zones.join("UTC").exists() {
        // Copies with leap seconds or in POSIX form serve no program that runs in an image.
        let keep = |inside: &str| !inside.starts_with("right") && !inside.starts_with("posix");
        files.tree(ZONES.trim_start_matches('/'), &zones, &keep)?;
        files.link("etc/localtime", "/usr/share/zoneinfo/UTC");
    } else {
        files.note("this machine has no time zone data: the image will only know UTC");
    }
    if let Some(interpreter) = interpreter {
        c_library(host, interpreter, &mut files)?;
    }
    files.finish()
}

fn folders(files: &mut Collector<'_>) {
    for path in [
        "dev",
        "etc",
        "opt",
        "proc",
        "run",
        "srv",
        "sys",
        "usr/bin",
        "usr/lib",
        "usr/lib64",
        "usr/sbin",
        "var/lib",
    ] {
        files.folder(path, 0o755, Owner::ROOT);
    }
    for path in ["bin", "lib", "lib64", "sbin"] {
        files.link(path, &format!("usr/{path}"));
    }
    for path in ["tmp", "var/tmp"] {
        files.folder(path, 0o1777, Owner::ROOT);
    }
    files.folder(APP_HOME, 0o755, APP_USER);
}

fn users(files: &mut Collector<'_>) {
    let (uid, gid) = (APP_USER.uid, APP_USER.gid);
    files.text(
        "etc/passwd",
        format!(
            "root:x:0:0:root:/:/sbin/nologin\napp:x:{uid}:{gid}:app:/{APP_HOME}:/sbin/nologin\nnobody:x:65534:65534:nobody:/:/sbin/nologin\n"
        ),
    );
    files.text("etc/group", format!("root:x:0:\napp:x:{gid}:\nnogroup:x:65534:\n"));
    files.text("etc/nsswitch.conf", "passwd: files\ngroup: files\nhosts: files dns\n");
}

/// The loader and the C library, in the folder where the host has the C library: that is one of the
/// folders the loader searches by itself.
fn c_library(host: &Host, interpreter: &Path, files: &mut Collector<'_>) -> Result<()> {
    let folder = library_folder(host, interpreter)?;
    let loader = host.real(interpreter);
    let name = interpreter.file_name().unwrap_or_default().to_string_lossy().into_owned();
    files.file(&format!("{folder}/{name}"), &loader)?;
    // Programs name the loader by this very path; `/lib64` and `/lib` are links into `/usr`.
    let said = format!(
        "usr/{}",
        interpreter.display().to_string().trim_start_matches('/').trim_start_matches("usr/")
    );
    if said != format!("{folder}/{name}") {
        files.link(&said, &format!("/{folder}/{name}"));
    }
    for library in C_LIBRARY {
        let path = host.real(&Path::new("/").join(&folder).join(library));
        if elf::fits_processor(&path) {
            files.file(&format!("{folder}/{library}"), &path)?;
        }
    }
    // The one locale that every C library since 2.35 has, as files.
    let locale = host.real(Path::new("/usr/lib/locale/C.utf8"));
    if locale.exists() {
        files.tree("usr/lib/locale/C.utf8", &locale, &|_| true)?;
    }
    Ok(())
}

/// The folder of the C library in the image, without leading slash: always under `usr/`.
pub(super) fn library_folder(host: &Host, interpreter: &Path) -> Result<String> {
    let loader = host.real(interpreter);
    let real = loader.canonicalize().facts(&loader)?;
    let beside = real.parent().map(Path::to_owned).unwrap_or_default();
    let triple = format!("{}-linux-gnu", std::env::consts::ARCH);
    let candidates: Vec<PathBuf> = std::iter::once(beside)
        .chain(
            [format!("/usr/lib/{triple}"), "/usr/lib64".to_owned(), "/usr/lib".to_owned()]
                .map(|f| host.real(Path::new(&f))),
        )
        .collect();
    let folder = candidates.into_iter().find(|f| elf::fits_processor(&f.join("libc.so.6")));
    let folder = folder.ok_or_else(|| {
        Error::Base(BaseError::Capture {
            path: loader.clone(),
            detail: "no C library found next to the dynamic loader".to_owned(),
        })
    })?;
    let root = host.root.canonicalize().facts(&host.root)?;
    let inside = folder.strip_prefix(&root).unwrap_or(&folder).display().to_string();
    let inside = inside.trim_start_matches('/');
    Ok(format!("usr/{}", inside.trim_start_matches("usr/")))
}

/// Whether the base has this library, so that no runtime has to bring it.
pub(super) fn in_base(library: &str) -> bool {
    C_LIBRARY.contains(&library)
}
