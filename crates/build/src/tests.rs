//! Whatever a file holds, looking at it ends with an answer or an error: never with a panic.

use crate::config::{BuildpackOptions, Choice, ConfigPlace, Effective};
use crate::lang;
use crate::source::{SourceTree, TreeFile, TreeKind};
use content::store::Signature;
use proptest::prelude::*;
use std::fs;
use std::path::PathBuf;

/// Every file that a buildpack or the configuration reads.
const FILES: [&str; 14] = [
    "package.json",
    "package-lock.json",
    "requirements.txt",
    "pyproject.toml",
    "Gemfile",
    "Gemfile.lock",
    "composer.json",
    "composer.lock",
    "pom.xml",
    "build.gradle",
    "go.mod",
    "app.py",
    "ferries.jar",
    "shtetl.toml",
];

/// Pieces that bring a random text past the first check of its parser.
fn text() -> impl Strategy<Value = Vec<u8>> {
    let pieces = [
        "{\"lockfileVersion\":3,\"packages\":{\"\":{\"dependencies\":{\"a\":\"1\"}},\"node_modules/a\":{",
        "\"version\":\"1\"",
        "}}}",
        "fog==1.0 --hash=sha256:",
        "ruby \"",
        "gem '",
        "<java.version>",
        "</java.version>",
        "JavaLanguageVersion.of(",
        "module ",
        "\ngo 1.",
        "[process.web]\nrun = ",
        "[settings]\nX = ",
        "\"",
        "'",
        "\\",
        "\n",
        "=",
        "ä",
        "\u{0}",
        "${",
        "^1.x || ~",
        "app = Flask(",
        "os.environ[\"A_B\"]",
        "RUBY VERSION\n   ruby ",
        "[project]\nrequires-python = \"",
    ];
    let piece = prop_oneof![
        4 => proptest::sample::select(pieces.to_vec()).prop_map(|p| p.as_bytes().to_vec()),
        1 => proptest::collection::vec(any::<u8>(), 0..12),
    ];
    proptest::collection::vec(piece, 0..12).prop_map(|pieces| pieces.concat())
}

fn folder() -> PathBuf {
    let folder = std::env::temp_dir().join(format!("shtetl-parsers-{}", std::process::id()));
    fs::create_dir_all(&folder).unwrap();
    folder
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn no_file_makes_a_parser_panic(contents in proptest::collection::vec(text(), FILES.len())) {
        let folder = folder();
        let mut files = std::collections::BTreeMap::new();
        for (name, content) in FILES.iter().zip(&contents) {
            fs::write(folder.join(name), content).unwrap();
            let signature = Signature::of(&fs::metadata(folder.join(name)).unwrap());
            let kind = TreeKind::File { size: content.len() as u64, executable: false };
            files.insert((*name).to_owned(), TreeFile { kind, signature });
        }
        let tree = SourceTree::new(folder.clone(), files);
        for buildpack in lang::ALL {
            // An error is an answer; only a panic is not.
            let _ = buildpack.survey(&tree, &BuildpackOptions::default());
            let _ = buildpack.accepts(&String::from_utf8_lossy(&contents[0]), "20.1.0");
        }
        let place = ConfigPlace { folder: &folder, shown: &folder, near: &folder };
        let _ = Effective::load(&place, &Choice::default());
    }

    #[test]
    fn words_survive_being_joined_and_split(words in proptest::collection::vec("[^\u{0}]{0,8}", 1..5)) {
        prop_assume!(!words[0].contains('=') && !words[0].is_empty());
        prop_assert_eq!(crate::command::split(&crate::command::join(&words), None).unwrap(), words);
    }
}
