//! How processes can be isolated on this machine: probed once, and kept in the store.

use crate::fingerprint::Recipe;
use content::digest::Sha256;
use content::store::{Store, Stored, remove_tree};
use model::Result;
use sandbox::{Mode, SandboxError};
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

const RECIPE: Recipe = Recipe::new("sandbox mode", 1);
/// What decides whether namespaces and mounts are allowed, as far as it can be read. After a reboot, in another container,
/// or with other kernel settings, the machine is probed again.
const SETTINGS: [&str; 5] = [
    "kernel/random/boot_id",
    "kernel/apparmor_restrict_unprivileged_userns",
    "kernel/unprivileged_userns_clone",
    "user/max_user_namespaces",
    "user/max_net_namespaces",
];
const NAMESPACES: [&str; 3] = ["user", "mnt", "net"];

/// The way of running that works here, tried on the store's own file system the first time.
pub fn working_mode(store: &Store) -> Result<Mode> {
    let kept = kept_at(store);
    if let Stored::Whole(mode) = store.read_document(&kept) {
        return Ok(mode);
    }
    let scratch = store.temporary_folder()?;
    let mode = sandbox::probe(&scratch);
    remove_tree(&scratch);
    let mode = mode?;
    // A store that is only read is probed for each time.
    let _ = store.write_cache(&kept, &mode);
    Ok(mode)
}

/// Forgets the kept way when it turns out not to work any more, so that the next start tries again.
pub fn forget_if_refused(store: &Store, error: &SandboxError) {
    if matches!(error, SandboxError::Refused { .. }) {
        // What cannot be removed was not written by this program.
        let _ = fs::remove_file(kept_at(store));
    }
}

fn kept_at(store: &Store) -> PathBuf {
    // Whether an overlay can be mounted depends on the file system, too.
    let device = fs::metadata(store.root()).map(|metadata| metadata.dev()).unwrap_or_default();
    let user = rustix::process::geteuid().as_raw();
    store.fragment_path("machine", machine_key(Path::new("/proc"), user, device))
}

fn machine_key(proc: &Path, user: u32, device: u64) -> Sha256 {
    let setting = |name: &&str| fs::read_to_string(proc.join("sys").join(name)).unwrap_or_default();
    let namespace = |name: &&str| {
        let link = fs::read_link(proc.join("self/ns").join(name)).unwrap_or_default();
        link.to_string_lossy().into_owned()
    };
    let mut parts = vec![user.to_string(), device.to_string()];
    parts.extend(SETTINGS.iter().map(setting));
    parts.extend(NAMESPACES.iter().map(namespace));
    let parts: Vec<&str> = parts.iter().map(String::as_str).collect();
    RECIPE.fact_key(&parts)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn another_boot_setting_or_user_is_found_out_about_anew() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, text: &str| {
            let path = folder.path().join("sys").join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        };
        let key = |user| machine_key(folder.path(), user, 1);
        write(SETTINGS[0], "one");
        let first = key(1000);
        assert!(first == key(1000));
        assert!(first != key(0));
        assert!(first != machine_key(folder.path(), 1000, 2));
        write(SETTINGS[0], "two");
        assert!(first != key(1000));
        write(SETTINGS[0], "one");
        write(SETTINGS[3], "0");
        assert!(first != key(1000));
    }
}
