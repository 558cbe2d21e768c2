//! Commands as lists of words, without a shell.

use crate::error::ConfigError;
use crate::{Error, Place, Result};

/// Signs that mean something to a shell outside of quotes.
const SHELL_SIGNS: &[char] = &['|', '&', ';', '<', '>', '(', ')', '$', '`', '*', '?', '#', '~'];

/// Splits `command` into words as a POSIX shell would (quoting rules only). What needs a shell to
/// be understood is an error that shows the sign.
pub fn split(command: &str, place: Option<&Place>) -> Result<Vec<String>> {
    let needs_shell = |sign: String| {
        Error::Config(ConfigError::NeedsShell { command: command.to_owned(), sign, place: place.cloned() })
    };
    let mut words = Vec::new();
    let mut word: Option<String> = None;
    let mut signs = command.chars();
    while let Some(sign) = signs.next() {
        match sign {
            ' ' | '\t' | '\n' => words.extend(word.take()),
            '\'' => {
                let quoted = word.get_or_insert_default();
                take_until('\'', &mut signs, quoted, false).map_err(needs_shell)?;
            }
            '"' => {
                let quoted = word.get_or_insert_default();
                take_until('"', &mut signs, quoted, true).map_err(needs_shell)?;
            }
            '\\' => word.get_or_insert_default().extend(signs.next()),
            sign if SHELL_SIGNS.contains(&sign) => return Err(needs_shell(sign.to_string())),
            sign => word.get_or_insert_default().push(sign),
        }
    }
    words.extend(word);
    if let Some(first) = words.first()
        && first.contains('=')
    {
        return Err(needs_shell(first.clone()));
    }
    Ok(words)
}

fn take_until(
    end: char,
    signs: &mut std::str::Chars<'_>,
    into: &mut String,
    expands: bool,
) -> Result<(), String> {
    while let Some(sign) = signs.next() {
        match sign {
            sign if sign == end => return Ok(()),
            '$' | '`' if expands => return Err(sign.to_string()),
            '\\' if expands => into.extend(signs.next()),
            sign => into.push(sign),
        }
    }
    Err(end.to_string())
}

/// Joins words so that [`split`] gives them back; for people to read.
pub fn join(words: &[String]) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_./:@%+,=".contains(c);
    let quote = |word: &String| {
        if !word.is_empty() && word.chars().all(plain) {
            word.clone()
        } else {
            format!("'{}'", word.replace('\'', r"'\''"))
        }
    };
    words.iter().map(quote).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_split_as_a_shell_does() {
        let words = split(r#"node --title "harbour \"one\"" 'a b'\ c ''"#, None).unwrap();
        assert_eq!(words, ["node", "--title", "harbour \"one\"", "a b c", ""]);
        assert_eq!(split(&join(&words), None).unwrap(), words);
    }

    #[test]
    fn what_needs_a_shell_is_refused() {
        for (command, expected) in [
            ("a | b", "|"),
            ("NODE_ENV=x node a", "NODE_ENV=x"),
            ("echo \"$HOME\"", "$"),
            ("echo 'open", "'"),
        ] {
            match split(command, None) {
                Err(Error::Config(ConfigError::NeedsShell { sign, .. })) => assert_eq!(sign, expected),
                other => panic!("{command} was not refused: {other:?}"),
            }
        }
    }
}
