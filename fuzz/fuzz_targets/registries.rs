//! Documents of registries of packages: npm's JSON, Python's pages and lists of files.
#![no_main]

use libfuzzer_sys::fuzz_target;
use remote::packages::{npm, pypi};
use remote::{Address, Fetcher, Network};
use std::fs;

fuzz_target!(|bytes: &[u8]| {
    let folder = tempfile::tempdir().unwrap();
    let package = folder.path().join("horn");
    fs::create_dir(&package).unwrap();
    for file in ["index.json", "index.html"] {
        fs::write(package.join(file), bytes).unwrap();
    }
    let (fetcher, address) = (Fetcher::new(Network::Forbidden), Address::Folder(folder.path().to_owned()));
    let _ = npm::offers(&fetcher, &address, "horn");
    let _ = npm::versions(&fetcher, &address, "horn");
    let _ = npm::standing(&fetcher, &address, "horn", "1.0.0");
    let _ = pypi::files(&fetcher, &address, "horn");
    let _ = pypi::linked(&fetcher, &address, "horn");
});
