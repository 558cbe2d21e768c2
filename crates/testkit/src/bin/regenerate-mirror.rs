//! Regenerates the files of `demo/`; see `demo/mirror/regenerate`.

use std::{fs, path::Path};

fn main() {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    for (path, bytes) in testkit::mirror::generate(&demo) {
        let path = demo.join(path);
        fs::create_dir_all(path.parent().expect("files lie in folders")).expect("demo/ can be written");
        fs::write(path, bytes).expect("demo/ can be written");
    }
}
