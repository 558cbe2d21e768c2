//! Archives of sources and packages in every form.
#![no_main]

use content::store::Store;
use libfuzzer_sys::fuzz_target;
use std::fs;
use std::sync::OnceLock;

const NAMES: [&str; 5] = ["a.zip", "a.tar", "a.tar.gz", "a.tar.zst", "a.tgz"];

fn store() -> &'static Store {
    static STORE: OnceLock<Store> = OnceLock::new();
    STORE.get_or_init(|| Store::open(&std::env::temp_dir().join("shtetl-fuzz-store")).unwrap())
}

fuzz_target!(|bytes: &[u8]| {
    let Some((first, bytes)) = bytes.split_first() else { return };
    let folder = tempfile::tempdir().unwrap();
    let name = NAMES[usize::from(*first) % NAMES.len()];
    let (file, into) = (folder.path().join(name), folder.path().join("deep/root"));
    fs::create_dir_all(&into).unwrap();
    let bytes = match name {
        "a.tar.zst" => zstd::encode_all(bytes, 1).unwrap(),
        _ => bytes.to_vec(),
    };
    fs::write(&file, bytes).unwrap();
    let _ = source::unpack_package(&file, name, store(), &into);
    let beside = fs::read_dir(folder.path()).unwrap().count() + fs::read_dir(folder.path().join("deep")).unwrap().count();
    assert_eq!(beside, 3, "something got out");
});
