//! Embeds the files of `demo/` (a link here, files in a packaged crate), so that an installed `shtetl demo` works anywhere.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::{env, fs};

fn main() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("demo");
    println!("cargo::rerun-if-changed={}", root.display());
    let mut files = Vec::new();
    collect(&root, &mut files);
    files.sort();
    let mut code = String::from("pub const FILES: &[(&str, &[u8])] = &[\n");
    for file in files {
        let name = file.strip_prefix(&root).expect("files lie under their root");
        writeln!(
            code,
            "    ({:?}, include_bytes!({:?})),",
            name,
            file.canonicalize().expect("it was just listed")
        )
        .expect("writing to a string cannot fail");
    }
    code.push_str("];\n");
    let out = PathBuf::from(env::var_os("OUT_DIR").expect("cargo sets it"));
    fs::write(out.join("demo_files.rs"), code).expect("the output folder can be written");
}

/// The apps and the mirror's archives; the mirror's sources are only for making it.
fn collect(folder: &Path, files: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).expect("demo/ is part of the source").flatten() {
        let path = entry.path();
        println!("cargo::rerun-if-changed={}", path.display());
        if path.is_dir() {
            if !path.ends_with("mirror/sources") {
                collect(&path, files);
            }
        } else {
            files.push(path);
        }
    }
}
