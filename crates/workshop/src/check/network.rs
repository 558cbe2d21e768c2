//! Rules of what a build fetches: it has no network.

use crate::check::{Found, Subject, error};
use model::shell_words::{commands, split};
use model::{Place, Result};
use source::is_for_tests;

/// Modules that fetch something while the app is built, and what to use in their place.
const FETCHING: [(&str, &str); 1] =
    [("next/font/google", "add the font files to the source and load them with next/font/local")];

/// File name endings of code that a build reads.
const CODE: [&str; 6] = [".js", ".jsx", ".ts", ".tsx", ".mjs", ".mts"];

/// Code that makes the build fetch something.
pub(super) fn fetched(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let Some(build) = &subject.survey.build else { return Ok(Vec::new()) };
    let mut found: Vec<Found> = commands(&build.shown)
        .into_iter()
        .filter_map(|command| Some((command, installed_by(command)?)))
        .filter(|(_, (kind, _))| !build.command.fetch.iter().any(|fetched| fetched == kind))
        .map(|(command, (kind, packages))| {
            let what = format!("`{command}` downloads packages during the build, and builds have no network");
            let advice = match (kind, packages.as_str()) {
                ("npm", packages) if !packages.is_empty() => {
                    format!(
                        "add {packages} to devDependencies and remove the command: declared packages are installed before the build"
                    )
                }
                _ => format!("in shtetl.toml, under [build]: fetch = [{kind:?}]"),
            };
            error(build.said.clone(), what, advice)
        })
        .collect();
    let is_code = |path: &&String| CODE.iter().any(|ending| path.ends_with(ending)) && !is_for_tests(path);
    for path in subject.tree.files().keys().filter(is_code) {
        // A source that is not text fetches nothing.
        let Some(text) = subject.tree.read_text(path)? else { continue };
        for (module, advice) in FETCHING {
            let imports = |line: &str| line.contains(module) && !line.trim_start().starts_with("//");
            let Some(at) = text.lines().position(imports) else { continue };
            let place = Place::new(path.as_str(), u32::try_from(at + 1).ok());
            let what = format!("{module} downloads fonts during the build, and builds have no network");
            found.push(error(place, what, advice));
        }
    }
    Ok(found)
}

/// The kind of packages that a command installs, and their names; none where it installs what a file lists.
fn installed_by(command: &str) -> Option<(&'static str, String)> {
    let words = split(command).ok()?;
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let (kind, rest) = match &words[..] {
        ["npm" | "pnpm" | "bun", "install" | "i" | "ci" | "add", rest @ ..]
        | ["yarn", "install" | "add", rest @ ..] => ("npm", rest),
        ["yarn"] => ("npm", &[][..]),
        ["pip" | "pip3", "install", rest @ ..]
        | ["python" | "python3", "-m", "pip", "install", rest @ ..] => ("pypi", rest),
        _ => return None,
    };
    // The value of an option is no package.
    let is_name = |(at, word): &(usize, &&str)| {
        !word.starts_with('-') && !at.checked_sub(1).is_some_and(|before| rest[before].starts_with('-'))
    };
    let names: Vec<&str> = rest.iter().enumerate().filter(is_name).map(|(_, word)| *word).collect();
    Some((kind, names.join(" ")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_that_install_packages_are_known() {
        for (command, expected) in [
            ("npm install rimraf", Some(("npm", "rimraf"))),
            ("npm ci --prefix site", Some(("npm", ""))),
            ("yarn", Some(("npm", ""))),
            ("yarn build", None),
            ("pip install -r more.txt fog", Some(("pypi", "fog"))),
            ("npm run install", None),
        ] {
            let expected = expected.map(|(kind, names)| (kind, names.to_owned()));
            assert_eq!(installed_by(command), expected, "{command}");
        }
    }
}
