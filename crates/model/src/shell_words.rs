//! Commands as lists of words, as a POSIX shell splits them.
//!
//! A word may name variables of the environment: `$NAME`, `${NAME}` or `${NAME:-text}`, where `text` is taken when the
//! variable has no value. `$$` is a dollar sign; one that begins none of these stands for itself.

use std::borrow::Cow;

/// Signs that mean something to a shell outside of quotes.
const SHELL_SIGNS: &[char] = &['|', '&', ';', '<', '>', '(', ')', '`', '*', '?', '#', '~'];
/// The shell of an image that has one.
pub const SHELL: &str = "/bin/sh";

/// A command: what it sets in its environment, and its words.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CommandLine {
    /// Variables that are set for the program, with their values.
    pub env: Vec<(String, String)>,
    /// The program and its arguments.
    pub words: Vec<String>,
}

impl CommandLine {
    /// Reads a line of a script. What only a shell understands becomes the script of one.
    pub fn parse(line: &str) -> Self {
        let Ok(mut words) = split(line) else { return Self::of_script(line) };
        let count = words.iter().take_while(|word| assignment(word).is_some()).count();
        let rest = words.split_off(count);
        if rest.is_empty() {
            return Self::of_script(line);
        }
        let env = words.iter().filter_map(|word| assignment(word)).collect();
        Self { env, words: rest }
    }

    /// The shell, with a script; its last command takes the shell's place, so that signals reach it.
    fn of_script(line: &str) -> Self {
        let (before, last) = last_command(line);
        let takes_place = split(last).is_ok_and(|words| words.first().is_some_and(|word| is_program(word)));
        let script = if takes_place { format!("{before}exec {last}") } else { line.to_owned() };
        Self { env: Vec::new(), words: vec!["sh".to_owned(), "-c".to_owned(), escaped(&script).into_owned()] }
    }
}

/// Words that a shell understands itself (POSIX, *Shell Command Language*: reserved words and built-in utilities that
/// are no programs everywhere).
const OF_THE_SHELL: [&str; 42] = [
    "!", ".", ":", "[[", "alias", "bg", "break", "case", "cd", "command", "continue", "do", "done", "elif",
    "else", "esac", "eval", "exec", "exit", "export", "fg", "fi", "for", "function", "if", "jobs", "local",
    "read", "readonly", "return", "set", "shift", "source", "then", "times", "trap", "ulimit", "umask",
    "unset", "until", "wait", "while",
];

/// Whether a command that starts with the word is that of a program, which can take the place of the shell.
fn is_program(word: &str) -> bool {
    let is_bracket = word.starts_with(['{', '}']);
    assignment(word).is_none() && !is_bracket && !OF_THE_SHELL.contains(&word)
}

/// `NAME=value`.
pub fn assignment(word: &str) -> Option<(String, String)> {
    let (name, value) = word.split_once('=')?;
    let is_name =
        !name.is_empty() && !name.starts_with(|c: char| c.is_ascii_digit()) && name.chars().all(is_of_name);
    is_name.then(|| (name.to_owned(), value.to_owned()))
}

/// The script that a command gives to a shell, if that is what it does.
pub fn shell_script(words: &[String]) -> Option<Cow<'_, str>> {
    match words {
        [shell, option, script, ..] if matches!(shell.as_str(), "sh" | SHELL | "bash") && option == "-c" => {
            Some(unescaped(script))
        }
        _ => None,
    }
}

/// The simple commands of a script that are joined by `&&`, `||` or `;`, in order.
pub fn commands(script: &str) -> Vec<&str> {
    let (mut found, mut from) = (Vec::new(), 0);
    for (at, length) in joints(script) {
        found.push(script[from..at].trim());
        from = at + length;
    }
    found.push(script[from..].trim());
    found.retain(|command| !command.is_empty());
    found
}

/// What stands before the last simple command of a script, and that command.
fn last_command(script: &str) -> (&str, &str) {
    let from = joints(script).last().map_or(0, |(at, length)| at + length);
    let start = script.len() - script[from..].trim_start().len();
    (&script[..start], &script[start..])
}

/// Where simple commands are joined, outside of quotes: the place and the length of the sign.
fn joints(script: &str) -> Vec<(usize, usize)> {
    let mut found = Vec::new();
    let mut quote = None;
    let mut signs = script.char_indices();
    while let Some((at, sign)) = signs.next() {
        match (quote, sign) {
            (Some(open), sign) if sign == open => quote = None,
            (Some('\''), _) => {}
            (_, '\\') => drop(signs.next()),
            (Some(_), _) => {}
            (None, '\'' | '"') => quote = Some(sign),
            (None, ';') => found.push((at, 1)),
            (None, _) if script[at..].starts_with("&&") || script[at..].starts_with("||") => {
                found.push((at, 2));
                signs.next();
            }
            (None, _) => {}
        }
    }
    found
}

/// A command that only a shell understands, with the sign that says so.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NeedsShell(pub String);

/// Splits `command` into words as a POSIX shell would (quotes and variables only).
pub fn split(command: &str) -> Result<Vec<String>, NeedsShell> {
    let mut words = Vec::new();
    let mut word: Option<String> = None;
    let mut rest = command;
    while let Some(sign) = rest.chars().next() {
        rest = &rest[sign.len_utf8()..];
        match sign {
            ' ' | '\t' | '\n' => words.extend(word.take()),
            '\'' => {
                let (text, after) = rest.split_once('\'').ok_or_else(|| NeedsShell("'".to_owned()))?;
                word.get_or_insert_default().push_str(&escaped(text));
                rest = after;
            }
            '"' => rest = quoted(rest, word.get_or_insert_default())?,
            '\\' => {
                let next = rest.chars().next();
                push_literal(next, word.get_or_insert_default());
                rest = &rest[next.map_or(0, char::len_utf8)..];
            }
            '$' => rest = variable(rest, word.get_or_insert_default())?,
            sign if SHELL_SIGNS.contains(&sign) => return Err(NeedsShell(sign.to_string())),
            sign => word.get_or_insert_default().push(sign),
        }
    }
    words.extend(word);
    Ok(words)
}

/// Takes what stands in double quotes; gives what follows.
fn quoted<'t>(mut rest: &'t str, into: &mut String) -> Result<&'t str, NeedsShell> {
    while let Some(sign) = rest.chars().next() {
        rest = &rest[sign.len_utf8()..];
        match sign {
            '"' => return Ok(rest),
            '$' => rest = variable(rest, into)?,
            '`' => return Err(NeedsShell("`".to_owned())),
            '\\' => {
                let next = rest.chars().next();
                push_literal(next, into);
                rest = &rest[next.map_or(0, char::len_utf8)..];
            }
            sign => into.push(sign),
        }
    }
    Err(NeedsShell("\"".to_owned()))
}

fn push_literal(sign: Option<char>, into: &mut String) {
    match sign {
        Some('$') => into.push_str("$$"),
        sign => into.extend(sign),
    }
}

/// Takes a variable whose dollar sign was taken; gives what follows.
fn variable<'t>(rest: &'t str, into: &mut String) -> Result<&'t str, NeedsShell> {
    let Some(length) = length_of_variable(rest) else {
        let next: String = rest.chars().take(1).collect();
        // A dollar sign at the end of a word stands for itself.
        return match next.as_str() {
            "" | " " => {
                into.push('$');
                Ok(rest)
            }
            // The word may go on after the quotes.
            "\"" => {
                into.push_str("$$");
                Ok(rest)
            }
            _ => Err(NeedsShell(format!("${next}"))),
        };
    };
    into.push('$');
    into.push_str(&rest[..length]);
    Ok(&rest[length..])
}

fn is_of_name(sign: char) -> bool {
    sign.is_ascii_alphanumeric() || sign == '_'
}

/// How long the variable is that `rest` begins with, after its dollar sign.
fn length_of_variable(rest: &str) -> Option<usize> {
    let name = |text: &str| {
        let end = text.find(|c| !is_of_name(c)).unwrap_or(text.len());
        (end > 0 && !text.starts_with(|c: char| c.is_ascii_digit())).then_some(end)
    };
    let Some(inside) = rest.strip_prefix('{') else { return name(rest) };
    let after = &inside[name(inside)?..];
    let default = match after.strip_prefix(":-") {
        Some(default) => &default[..default.find('}')?],
        None if after.starts_with('}') => return Some(rest.len() - after.len() + 1),
        None => return None,
    };
    let is_plain = default.chars().all(|c| c.is_ascii_alphanumeric() || "-_./:@%+,=".contains(c));
    is_plain.then(|| rest.len() - after.len() + 2 + default.len() + 1)
}

/// A part of a word.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Piece<'w> {
    /// As it stands.
    Text(&'w str),
    /// The value of a variable; `default` when it has none.
    Variable {
        /// Its name.
        name: &'w str,
        /// What is taken when it has no value.
        default: Option<&'w str>,
    },
}

/// The parts of a word.
pub fn pieces(word: &str) -> Vec<Piece<'_>> {
    let (mut found, mut from, mut at) = (Vec::new(), 0, 0);
    while let Some(next) = word[at..].find('$').map(|next| at + next) {
        let rest = &word[next + 1..];
        if rest.starts_with('$') {
            found.push(Piece::Text(&word[from..next + 1]));
            from = next + 2;
        } else if let Some(length) = length_of_variable(rest) {
            found.push(Piece::Text(&word[from..next]));
            let inside = rest[..length].trim_start_matches('{').trim_end_matches('}');
            let (name, default) = match inside.split_once(":-") {
                Some((name, default)) => (name, Some(default)),
                None => (inside, None),
            };
            found.push(Piece::Variable { name, default });
            from = next + 1 + length;
        }
        at = from.max(next + 1);
    }
    found.push(Piece::Text(&word[from..]));
    found.retain(|piece| *piece != Piece::Text(""));
    found
}

/// The names of the variables in words.
pub fn variables(words: &[String]) -> impl Iterator<Item = &str> {
    words.iter().flat_map(|word| pieces(word)).filter_map(|piece| match piece {
        Piece::Variable { name, .. } => Some(name),
        Piece::Text(_) => None,
    })
}

/// The words with the values of their variables; an error names one that has none.
pub fn expanded<'v>(
    words: &[String],
    value: impl Fn(&str) -> Option<&'v str>,
) -> Result<Vec<String>, String> {
    let word = |word: &String| {
        let mut text = String::new();
        for piece in pieces(word) {
            match piece {
                Piece::Text(plain) => text.push_str(plain),
                Piece::Variable { name, default } => {
                    let value = value(name).filter(|value| !value.is_empty() || default.is_none());
                    text.push_str(value.or(default).ok_or_else(|| name.to_owned())?);
                }
            }
        }
        Ok(text)
    };
    words.iter().map(word).collect()
}

/// The words as a line for a shell, which puts in the values of variables.
pub fn for_shell(words: &[String]) -> String {
    let show = |name: &str, default: Option<&str>| match default {
        None => format!("\"${name}\""),
        Some(default) => format!("\"${{{name}:-{default}}}\""),
    };
    words.iter().map(|word| written(word, show)).collect::<Vec<_>>().join(" ")
}

/// A word as it is written, with variables as `show` shows them.
fn written(word: &str, show: impl Fn(&str, Option<&str>) -> String) -> String {
    let (mut whole, mut text) = (String::new(), String::new());
    for piece in pieces(word) {
        match piece {
            Piece::Text(plain) => text.push_str(plain),
            Piece::Variable { name, default } => {
                whole.push_str(&quote(&std::mem::take(&mut text)));
                whole.push_str(&show(name, default));
            }
        }
    }
    whole.push_str(&quote(&text));
    if whole.is_empty() { "''".to_owned() } else { whole }
}

fn quote(text: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_./:@%+,=".contains(c);
    match text.chars().all(plain) {
        true => text.to_owned(),
        false => format!("'{}'", text.replace('\'', r"'\''")),
    }
}

/// A text as (part of) a word that stands for it.
fn escaped(text: &str) -> Cow<'_, str> {
    if !text.contains('$') {
        return Cow::Borrowed(text);
    }
    // The word may go on after the text.
    let means = |rest: &str| rest.is_empty() || rest.starts_with('$') || length_of_variable(rest).is_some();
    let mut word = String::new();
    for (at, sign) in text.char_indices() {
        word.push(sign);
        if sign == '$' && means(&text[at + 1..]) {
            word.push('$');
        }
    }
    Cow::Owned(word)
}

/// The text that a word without variables stands for.
fn unescaped(word: &str) -> Cow<'_, str> {
    if word.contains("$$") { Cow::Owned(word.replace("$$", "$")) } else { Cow::Borrowed(word) }
}

/// Joins words so that [`split`] gives them back; for people to read.
pub fn join(words: &[String]) -> String {
    let show = |name: &str, default: Option<&str>| match default {
        None => format!("${name}"),
        Some(default) => format!("${{{name}:-{default}}}"),
    };
    // A letter after a variable would belong to its name.
    let is_clear = |word: &str| {
        pieces(word).windows(2).all(|pair| match pair {
            [Piece::Variable { default: None, .. }, Piece::Text(text)] => !text.starts_with(is_of_name),
            _ => true,
        })
    };
    let word = |word: &String| match is_clear(word) {
        true => written(word, show),
        false => for_shell(std::slice::from_ref(word)),
    };
    words.iter().map(word).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(words: &[&str]) -> Vec<String> {
        words.iter().map(|word| (*word).to_owned()).collect()
    }

    #[test]
    fn words_are_split_as_a_shell_does() {
        let found = split(r#"node --title "harbour \"one\"" 'a b'\ c ''"#).unwrap();
        assert_eq!(found, ["node", "--title", "harbour \"one\"", "a b c", ""]);
        assert_eq!(split(&join(&found)).unwrap(), found);
    }

    #[test]
    fn a_dollar_sign_before_the_end_of_quotes_stays_one() {
        let value = |_: &str| Some("value");
        for (line, expected) in [("'$'$a", "$value"), ("'$'a", "$a"), ("\"$\"a", "$a"), ("'$'", "$")] {
            let words = split(line).unwrap();
            assert_eq!(expanded(&words, value).unwrap(), [expected], "{line}");
            assert_eq!(expanded(&split(&join(&words)).unwrap(), value).unwrap(), [expected], "{line}");
        }
    }

    #[test]
    fn what_needs_a_shell_is_named() {
        for (command, sign) in [("a | b", "|"), ("echo $(date)", "$("), ("echo 'open", "'"), ("a && b", "&")]
        {
            assert_eq!(split(command), Err(NeedsShell(sign.to_owned())), "{command}");
        }
    }

    #[test]
    fn variables_are_kept_and_quoted_dollars_are_none() {
        let found = split(r#"serve --bind 0.0.0.0:$PORT "${HOST:-all}" '$PORT' \$5 costs$"#).unwrap();
        assert_eq!(found, ["serve", "--bind", "0.0.0.0:$PORT", "${HOST:-all}", "$$PORT", "$$5", "costs$"]);
        assert_eq!(variables(&found).collect::<Vec<_>>(), ["PORT", "HOST"]);
        let value = |name: &str| (name == "PORT").then_some("90");
        let expected = ["serve", "--bind", "0.0.0.0:90", "all", "$PORT", "$5", "costs$"];
        assert_eq!(expanded(&found, value).unwrap(), expected);
        assert_eq!(expanded(&words(&["$TIDE"]), value), Err("TIDE".to_owned()));
        let line = for_shell(&found);
        assert_eq!(line, r#"serve --bind 0.0.0.0:"$PORT" "${HOST:-all}" '$PORT' '$5' 'costs$'"#);
        assert_eq!(expanded(&split(&line).unwrap(), value).unwrap(), expected);
        assert_eq!(join(&words(&["${PORT}x", "a b$$PORT"])), r#""$PORT"x 'a b$PORT'"#);
    }

    #[test]
    fn a_line_of_a_script_is_a_program_or_a_shell_with_a_script() {
        let line = CommandLine::parse("NODE_ENV=production node server.js");
        assert_eq!(line.env, [("NODE_ENV".to_owned(), "production".to_owned())]);
        assert_eq!(line.words, ["node", "server.js"]);
        for (text, script) in [
            ("tides migrate && node 'a;b.js'", "tides migrate && exec node 'a;b.js'"),
            ("A=1 tides; B=2 node x", "A=1 tides; B=2 node x"),
            ("echo $PORT | cat", "echo $$PORT | cat"),
            ("tides export; exit 3", "tides export; exit 3"),
            ("for tide in low high; do horn $tide; done", "for tide in low high; do horn $$tide; done"),
            ("if tides; then horn; fi", "if tides; then horn; fi"),
        ] {
            assert_eq!(CommandLine::parse(text).words, ["sh", "-c", script], "{text}");
        }
        let line = CommandLine::parse("echo $PORT | cat");
        assert_eq!(shell_script(&line.words).unwrap(), "echo $PORT | cat");
        assert_eq!(commands("a 'x && y' && b || c; d"), ["a 'x && y'", "b", "c", "d"]);
    }
}
