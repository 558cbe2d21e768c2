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

/// The script that the first command of a line gives to Node. What later ones need may be made by those before.
pub fn first_script(line: &str) -> Option<&str> {
    let first = *commands(line).first()?;
    let words = CommandLine::parse(first).words;
    let (_, rest) = words.split_first().filter(|(program, _)| *program == "node")?;
    // After another option, the next word may be its value.
    let is_flag = |word: &&String| {
        word.starts_with("--no-")
            || word.starts_with("--trace")
            || word.starts_with('-') && word.contains('=')
    };
    let script = rest.iter().find(|word| !is_flag(word))?;
    let is_script = script.ends_with("js") && !script.starts_with('-');
    first
        .split_whitespace()
        .find(|word| is_script && word == script)
        .map(|word| word.trim_start_matches("./"))
}

/// The file that the first command of a line needs and that is not there, as `has` tells.
pub(super) fn missing(line: &str, has: impl Fn(&str) -> bool) -> Option<&str> {
    if let Some(script) = first_script(line) {
        return (!has(script)).then_some(script);
    }
    let words = CommandLine::parse(commands(line).first()?).words;
    let [program] = &words[..] else { return None };
    let (_, files) = NEEDS.iter().find(|(name, _)| name == program)?;
    (!files.iter().any(|file| has(file))).then_some(files[0])
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
            ("node --trace-warnings ./tools/other.js", Some("tools/other.js")),
            ("node --require a.js tools/other.js", None),
            ("node -e 'go()'", None),
        ] {
            assert_eq!(missing(line, |path| path == "tools/make.js"), expected, "{line}");
        }
        assert_eq!(missing("tsc", |path| path == "tsconfig.json"), None);
    }
}
