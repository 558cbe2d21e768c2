//! Wordings that make readers stumble stay out of help and documents (docs/style.md).

use std::fs;
use std::path::{Path, PathBuf};

/// Each is looked for in small letters.
const AVOIDED: [&str; 14] = [
    "mended",
    "that of this machine",
    " anew",
    "still stand for",
    "is not believed",
    "tell what is",
    "by its makers",
    "who said so",
    "begun again",
    "in one go",
    "what is newest",
    "with every change",
    "so many threads",
    "has nothing to build in",
];

#[test]
fn help_and_documents_are_plain() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut files: Vec<PathBuf> = ["README.md", "CONTRIBUTING.md"].map(|name| root.join(name)).into();
    files.extend(fs::read_dir(root.join("docs")).unwrap().map(|entry| entry.unwrap().path()));
    files.extend(fs::read_dir(root.join("crates/arguments/src")).unwrap().map(|entry| entry.unwrap().path()));
    let mut found = Vec::new();
    for file in files.iter().filter(|path| path.extension().is_some_and(|e| e == "md" || e == "rs")) {
        // It lists what to avoid.
        if file.ends_with("docs/style.md") {
            continue;
        }
        let text = fs::read_to_string(file).unwrap().to_lowercase();
        for (number, line) in text.lines().enumerate() {
            let avoided = AVOIDED.iter().filter(|words| line.contains(**words));
            found.extend(avoided.map(|words| format!("{}:{}: {words:?}", file.display(), number + 1)));
        }
    }
    assert!(found.is_empty(), "{}", found.join("\n"));
}
