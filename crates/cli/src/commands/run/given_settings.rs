//! Values of settings: from options, files, standard input and the environment, so that a secret need not stand
//! in a command line, which every user of the machine can read.

use arguments::GivenSettings;
use std::collections::BTreeMap;
use std::io::Read;
use std::path::Path;
use std::{env, fs, io};
use wording::Failure;

/// What stands for standard input.
const INPUT: &str = "-";

/// Everything that is given; a `--set` is stronger than a file, a later file than an earlier one.
pub fn gather(given: &GivenSettings) -> Result<BTreeMap<String, String>, Failure> {
    let mut all = BTreeMap::new();
    for file in &given.settings_file {
        all.extend(in_file(file)?);
    }
    for text in &given.set {
        all.extend([of_option(text)?]);
    }
    Ok(all)
}

/// Whether standard input is read for them.
pub fn read_input(given: &GivenSettings) -> bool {
    given.settings_file.iter().any(|file| file == Path::new(INPUT))
}

/// `NAME=VALUE`, or a `NAME` whose value the environment has.
fn of_option(text: &str) -> Result<(String, String), Failure> {
    match text.split_once('=') {
        Some((name, value)) if !name.is_empty() => Ok((name.to_owned(), value.to_owned())),
        None if model::names::is_variable(text) => match env::var(text) {
            Ok(value) => Ok((text.to_owned(), value)),
            Err(_) => Err(Failure::Usage {
                message: format!("--set {text}: the environment has no such variable"),
                hint: format!("export {text}, or write --set {text}=VALUE"),
            }),
        },
        // The text may hold a secret, so it is not repeated.
        _ => Err(Failure::Usage {
            message: "--set needs a name and a value".to_owned(),
            hint: "use --set NAME=VALUE, or --set NAME to take the value from the environment".to_owned(),
        }),
    }
}

fn in_file(file: &Path) -> Result<BTreeMap<String, String>, Failure> {
    let (shown, text) = if file == Path::new(INPUT) {
        let mut text = String::new();
        io::stdin().read_to_string(&mut text)?;
        ("standard input".to_owned(), text)
    } else {
        let unreadable = |error: io::Error| Failure::Usage {
            message: format!("{}: {error}", file.display()),
            hint: "give a file with lines NAME=VALUE, or - for standard input".to_owned(),
        };
        (file.display().to_string(), fs::read_to_string(file).map_err(unreadable)?)
    };
    parse(&text).map_err(|line| Failure::Usage {
        message: format!("{shown} line {line} is not NAME=VALUE"),
        hint: "write one setting on each line; lines starting with # are comments".to_owned(),
    })
}

/// The settings of a text, or the number of a line that is none.
fn parse(text: &str) -> Result<BTreeMap<String, String>, usize> {
    let mut all = BTreeMap::new();
    for (number, line) in text.lines().enumerate() {
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        let setting = line.strip_prefix("export ").unwrap_or(line).split_once('=');
        let Some((name, value)) = setting.filter(|(name, _)| model::names::is_variable(name.trim())) else {
            return Err(number + 1);
        };
        all.insert(name.trim().to_owned(), plain(value.trim()).to_owned());
    }
    Ok(all)
}

/// The value without the quotes around it.
fn plain(value: &str) -> &str {
    let quoted = |sign: char| value.strip_prefix(sign)?.strip_suffix(sign);
    quoted('"').or_else(|| quoted('\'')).unwrap_or(value)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_have_a_setting_on_each_line() {
        let text = "# of the pier\nexport HARBOUR=Kestrel Sound\n\nTOKEN = \"a=b\"\nEMPTY=\n";
        let expected = [("EMPTY", ""), ("HARBOUR", "Kestrel Sound"), ("TOKEN", "a=b")];
        let expected = expected.map(|(name, value)| (name.to_owned(), value.to_owned()));
        assert_eq!(parse(text), Ok(expected.into()));
        assert_eq!(parse("A=1\nnot a setting\n"), Err(2));
        assert_eq!(parse("a b=1\n"), Err(1));
    }
}
