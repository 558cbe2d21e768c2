//! What a build command reads, as far as its words tell.

use model::shell_words::{CommandLine, commands};

/// Bundlers and compilers, with the files of which they need one when their words name none.
const NEEDS: [(&str, &[&str]); 2] = [
    ("tsc", &["tsconfig.json"]),
    (
        "webpack",
        &[
            "webpack.config.js",
            "webpack.config.cjs",
            "webpack.config.mjs",
            "webpack.config.ts",
            "src/index.js",
            "src/index.ts",
        ],
    ),
];

/// The file that the first command of a line needs and that is not there, as `has` tells. What later ones need may be made by
/// those before.
pub(super) fn missing(line: &str, has: impl Fn(&str) -> bool) -> Option<&str> {
    let first = *commands(line).first()?;
    let words = CommandLine::parse(first).words;
    match &words.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        ["node", rest @ ..] => {
            // After another option, the next word may be its value.
            let is_flag =
                |word: &&&str| word.starts_with("--no-") || word.starts_with("--trace") || word.contains('=');
            let script = rest.iter().find(|word| !is_flag(word)).filter(|word| word.ends_with("js"))?;
            let is_missing = !script.starts_with('-') && !has(script.trim_start_matches("./"));
            first.split_whitespace().find(|word| is_missing && word == script)
        }
        [program] => {
            let (_, files) = NEEDS.iter().find(|(name, _)| name == program)?;
            (!files.iter().any(|file| has(file))).then_some(files[0])
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_first_command_needs_has_to_be_there() {
        for (line, expected) in [
            ("tsc", Some("tsconfig.json")),
            ("tsc --project live.json", None),
            ("webpack && node later.js", Some("webpack.config.js")),
            ("node ./tools/make.js", None),
            ("node tools/other.js --fast", Some("tools/other.js")),
            ("node --trace-warnings ./tools/other.js", Some("./tools/other.js")),
            ("node --require a.js tools/other.js", None),
            ("node -e 'go()'", None),
        ] {
            assert_eq!(missing(line, |path| path == "tools/make.js"), expected, "{line}");
        }
        assert_eq!(missing("tsc", |path| path == "tsconfig.json"), None);
    }
}
