//! Layers of others: whatever is in them, nothing gets out of the folder that they are unpacked into, and what is verified
//! can be unpacked.
#![no_main]

use content::DiffId;
use content::digest::Sha256;
use content::layer::{Codec, Owners, unpack};
use libfuzzer_sys::fuzz_target;
use std::fs;

fuzz_target!(|bytes: &[u8]| {
    let folder = tempfile::tempdir().unwrap();
    let (blob, into) = (folder.path().join("blob"), folder.path().join("deep/root"));
    fs::create_dir_all(&into).unwrap();
    fs::write(&blob, zstd::encode_all(bytes, 1).unwrap()).unwrap();
    let _ = unpack(&blob, Codec::Zstd, DiffId(Sha256::of(bytes)), &into, Owners::Caller);
    let beside = fs::read_dir(folder.path()).unwrap().count() + fs::read_dir(folder.path().join("deep")).unwrap().count();
    assert_eq!(beside, 3, "something got out");
});
