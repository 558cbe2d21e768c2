//! The demo's mirror is what its plain sources give.

use std::fs;
use std::path::Path;

#[test]
fn every_archive_and_lockfile_is_made_from_the_sources_byte_for_byte() {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    let generated = testkit::mirror::generate(&demo);
    assert!(generated.len() >= 14, "only {} files are generated", generated.len());
    for (path, bytes) in generated {
        let committed = fs::read(demo.join(&path)).unwrap_or_default();
        assert!(committed == bytes, "{path} differs: run demo/mirror/regenerate");
    }
}
