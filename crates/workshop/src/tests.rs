//! Whatever a file holds, looking at it ends with an answer or an error: never with a panic.

use crate::buildpacks;
use config::{Choice, ConfigPlace, Effective};
use model::BuildpackOptions;
use model::shell_words::{expanded, join, split};
use proptest::prelude::*;
use std::fs;

/// Every file that a buildpack or the configuration reads.
const FILES: [&str; 23] = [
    "package.json",
    "package-lock.json",
    "yarn.lock",
    "pnpm-lock.yaml",
    "pnpm-workspace.yaml",
    "bun.lock",
    "requirements.txt",
    "pylock.toml",
    "uv.lock",
    "poetry.lock",
    "pdm.lock",
    "Pipfile.lock",
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
        "__metadata:\n\n\"a@npm:^1, b@patch:a#~/x\":\n  resolution: \"a@patch:",
        "a@^1:\n  version \"1\"\n  resolved \"",
        "lockfileVersion: '9.0'\nimporters:\n  .:\n    dependencies:\n      a:\n        specifier: ^1\n        version: ",
        "packages:\n  a@1(patch_hash=",
        "[[package]]\nname = \"a\"\nversion = \"1\"\n",
        "[[packages]]\nname = 'a'\nmarker = '",
        "{\"default\":{\"a\":{\"version\":\"==",
        "{\"workspaces\":{\"\":{}},\"packages\":{\"a/@b/c\":[\"a@1\",",
    ];
    let piece = prop_oneof![
        4 => proptest::sample::select(pieces.to_vec()).prop_map(|p| p.as_bytes().to_vec()),
        1 => proptest::collection::vec(any::<u8>(), 0..12),
    ];
    proptest::collection::vec(piece, 0..12).prop_map(|pieces| pieces.concat())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn no_file_makes_a_parser_panic(contents in proptest::collection::vec(proptest::option::of(text()), FILES.len())) {
        let temporary = tempfile::tempdir().unwrap();
        let folder = temporary.path();
        // A lockfile is read where no stronger one is there.
        for (name, content) in FILES.iter().zip(&contents) {
            content.iter().for_each(|content| fs::write(folder.join(name), content).unwrap());
        }
        let tree = testkit::tree::tree_of(folder);
        let all = buildpacks::Buildpacks::built_in();
        for buildpack in all.iter() {
            // An error is an answer; only a panic is not.
            let _ = buildpack.survey(&tree, &BuildpackOptions::default());
            let text = contents[0].clone().unwrap_or_default();
            let _ = buildpack.accepts(&String::from_utf8_lossy(&text), "20.1.0");
        }
        let place = ConfigPlace { folder, shown: folder, near: folder };
        let _ = Effective::load(&place, &Choice::default(), &all.known_names());
    }

    #[test]
    fn words_survive_being_joined_and_split(words in proptest::collection::vec("[^\u{0}]{0,8}", 1..5)) {
        prop_assume!(!words[0].contains('=') && !words[0].is_empty());
        let again = split(&join(&words)).unwrap();
        let value = |name: &str| Some(if name.len() > 1 { "long" } else { "short" });
        prop_assert_eq!(expanded(&again, value), expanded(&words, value));
    }
}
