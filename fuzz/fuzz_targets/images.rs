//! Documents of images of others, and layouts of them.
#![no_main]

use content::store::Store;
use libfuzzer_sys::fuzz_target;
use remote::oci::{ForeignConfig, ForeignManifest, Reference};
use std::fs;
use std::sync::OnceLock;

fn store() -> &'static Store {
    static STORE: OnceLock<Store> = OnceLock::new();
    STORE.get_or_init(|| Store::open(&std::env::temp_dir().join("shtetl-fuzz-store")).unwrap())
}

fuzz_target!(|bytes: &[u8]| {
    let _ = serde_json::from_slice::<ForeignManifest>(bytes);
    let _ = serde_json::from_slice::<ForeignConfig>(bytes);
    let _ = Reference::parse(&String::from_utf8_lossy(bytes));
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("oci-layout"), "{\"imageLayoutVersion\":\"1.0.0\"}").unwrap();
    fs::write(folder.path().join("index.json"), bytes).unwrap();
    let _ = content::image::read_layout(store(), folder.path());
});
