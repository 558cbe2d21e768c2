//! The base `host`: what the app needs, captured from the files of this machine.
//!
//! Nothing of where things lie on the host stays: an interpreter and its library go to
//! `/opt/<runtime>`, shared libraries into the one folder where the system's C library lies. So
//! the image depends on the contents of the captured files alone.

mod base_files;
mod capture;
mod elf;
mod runtimes;

pub use capture::Captured;

use content::store::Store;
use engine::Step;
use model::error::BaseError;
use model::{Error, Result, Role, RuntimeInUse};
use planning::{Base, Provided};
use runtimes::ProvidedRuntime;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// The machine, as far as capturing sees it.
#[derive(Debug, Clone)]
pub struct Host {
    /// The root of the files that are captured; `/` for this machine itself.
    pub root: PathBuf,
    /// Folders with programs (as on the host, also where `root` is another), strongest first.
    pub search: Vec<PathBuf>,
}

impl Host {
    /// Where a path of the host lies on this machine.
    pub(crate) fn real(&self, path: &Path) -> PathBuf {
        if self.root == Path::new("/") {
            return path.to_owned();
        }
        self.root.join(path.strip_prefix("/").unwrap_or(path))
    }

    /// A program in the search path: its path on this machine.
    pub fn program(&self, name: &str) -> Option<PathBuf> {
        use std::os::unix::fs::PermissionsExt;
        let runnable =
            |p: &PathBuf| p.metadata().is_ok_and(|m| m.is_file() && m.permissions().mode() & 0o111 != 0);
        self.search.iter().map(|folder| self.real(&folder.join(name))).find(runnable)
    }
}

/// The base that is captured from a machine.
pub struct HostBase {
    host: Host,
    runtimes: BTreeMap<String, ProvidedRuntime>,
    /// The C library and what goes with it.
    base: Captured,
}

impl HostBase {
    /// The base with these runtimes, captured from `host`; digests of unchanged files come from the store. `now` is
    /// in nanoseconds since 1970.
    pub fn capture(host: &Host, names: &[&str], store: &Store, now: i64) -> Result<Self> {
        let mut runtimes = BTreeMap::new();
        for name in names {
            runtimes.insert((*name).to_owned(), runtimes::provide(host, name, store, now)?);
        }
        let base = base_files::capture(host, interpreter(&runtimes), store, now)?;
        Ok(Self { host: host.clone(), runtimes, base })
    }
}

/// The program interpreter that the runtimes name (for example `/lib64/ld-linux-x86-64.so.2`); without one there is
/// no C library either.
fn interpreter(runtimes: &BTreeMap<String, ProvidedRuntime>) -> Option<&Path> {
    runtimes.values().find_map(|runtime| runtime.interpreter.as_deref())
}

impl Base for HostBase {
    fn runtime(&self, runtime: &str) -> Result<Provided> {
        let missing = || {
            let searched = self.host.search.clone();
            Error::Base(BaseError::RuntimeMissing { runtime: runtime.to_owned(), searched })
        };
        let found = self.runtimes.get(runtime).ok_or_else(missing)?;
        let in_use = RuntimeInUse {
            name: runtime.to_owned(),
            version: found.version.clone(),
            origin: "host".to_owned(),
            bin_folder: found.bin_folder.clone(),
        };
        let notes = found.captured.notes.clone();
        let steps = vec![captured_step(format!("{runtime} runtime"), Role::Runtime, found.captured.clone())];
        Ok(Provided { runtime: in_use, steps, notes })
    }

    fn tool(&self, _tool: &str) -> Result<RuntimeInUse> {
        Err(Error::Base(BaseError::NoBuildRoot { base: "host".to_owned() }))
    }

    fn build_root(&self) -> Result<Vec<Step>> {
        Err(Error::Base(BaseError::NoBuildRoot { base: "host".to_owned() }))
    }

    fn c_library(&self) -> Option<(u32, u32)> {
        // It lies beside the program interpreter, and says its version among its texts.
        let interpreter = self.host.real(interpreter(&self.runtimes)?).canonicalize().ok()?;
        let bytes = std::fs::read(interpreter.with_file_name("libc.so.6")).ok()?;
        const BEFORE: &[u8] = b"stable release version ";
        let at = bytes.windows(BEFORE.len()).position(|window| window == BEFORE)? + BEFORE.len();
        let said = std::str::from_utf8(bytes.get(at..at + 8)?).ok()?;
        let mut numbers = said.split(|c: char| !c.is_ascii_digit());
        Some((numbers.next()?.parse().ok()?, numbers.next()?.parse().ok()?))
    }

    fn below(&self) -> Result<(Vec<Step>, Vec<String>)> {
        let step = captured_step("host base".to_owned(), Role::Base, self.base.clone());
        Ok((vec![step], self.base.notes.clone()))
    }
}

fn captured_step(name: String, role: Role, captured: Captured) -> Step {
    Step::new(name, role, captured)
}
