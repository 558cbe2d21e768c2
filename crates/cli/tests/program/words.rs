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

/// What no message says, besides those.
const AVOIDED_IN_MESSAGES: [&str; 16] = [
    "nothing says",
    "names no ",
    "in force",
    "made again",
    "is there already",
    "of this machine",
    "speaks to it",
    "nobody ",
    "somebody",
    "whoever",
    "who said",
    "is told",
    "are told",
    "was said",
    "than it may",
    "for its own sake",
];

/// Files of Rust below a folder, without tests.
fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let is_for_tests =
            ["tests", "tests.rs", "testkit", "demo", "examples"].iter().any(|name| path.ends_with(name));
        if path.is_dir() && !is_for_tests {
            sources(&path, found);
        } else if path.extension().is_some_and(|extension| extension == "rs") && !is_for_tests {
            found.push(path);
        }
    }
}

#[test]
fn messages_are_plain() {
    let mut files = Vec::new();
    sources(&Path::new(env!("CARGO_MANIFEST_DIR")).join(".."), &mut files);
    let mut found = Vec::new();
    for file in &files {
        let text = fs::read_to_string(file).unwrap();
        let code = text.split("#[cfg(test)]").next().unwrap();
        for (number, line) in code.lines().enumerate() {
            let line = line.trim_start();
            // Texts between quotation marks; those of comments and attributes are for readers of the code.
            let is_code = !line.starts_with("//") && !line.starts_with("#[");
            for text in line.split('"').skip(1).step_by(2).filter(|_| is_code).map(str::to_lowercase) {
                let avoided =
                    AVOIDED.iter().chain(&AVOIDED_IN_MESSAGES).filter(|words| text.contains(**words));
                found.extend(avoided.map(|words| format!("{}:{}: {words:?}", file.display(), number + 1)));
            }
        }
    }
    assert!(files.len() > 300, "{}", files.len());
    assert!(found.is_empty(), "{}", found.join("\n"));
}

#[test]
fn help_and_documents_are_plain() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut files: Vec<PathBuf> = ["README.md", "CONTRIBUTING.md"].map(|name| root.join(name)).into();
    for folder in ["docs", "docs/languages"] {
        files.extend(fs::read_dir(root.join(folder)).unwrap().map(|entry| entry.unwrap().path()));
    }
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
