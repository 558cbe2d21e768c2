//! The words of a Gemfile: texts, names, keys and the rest.

/// A word of a line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Word {
    /// In quotes.
    Text(String),
    /// `:name`
    Symbol(String),
    /// `name:` before a value.
    Key(String),
    /// Anything else: names of methods, operators.
    Plain(String),
}

/// Lines with their numbers, those that go on joined, without comments.
pub(super) fn logical_lines(text: &str) -> Vec<(String, u32)> {
    let mut lines: Vec<(String, u32)> = Vec::new();
    let mut goes_on = false;
    for (number, line) in text.lines().enumerate() {
        let line = without_comment(line);
        let line = line.trim();
        if line.is_empty() {
            continue;
        }
        match lines.last_mut().filter(|_| goes_on) {
            Some((before, _)) => {
                before.push(' ');
                before.push_str(line.trim_end_matches('\\'));
            }
            None => {
                let number = u32::try_from(number + 1).unwrap_or(u32::MAX);
                lines.push((line.trim_end_matches('\\').to_owned(), number));
            }
        }
        goes_on =
            line.ends_with([',', '\\', '(', '[']) || lines.last().is_some_and(|(line, _)| is_open(line));
    }
    lines
}

/// Whether a bracket is not closed yet.
fn is_open(line: &str) -> bool {
    let count = |c: char| outside_quotes(line).filter(|(_, found)| *found == c).count();
    count('[') > count(']') || count('(') > count(')')
}

fn without_comment(line: &str) -> &str {
    match outside_quotes(line).find(|(_, c)| *c == '#') {
        Some((at, _)) => &line[..at],
        None => line,
    }
}

/// The characters that are in no quotes, with their places.
fn outside_quotes(line: &str) -> impl Iterator<Item = (usize, char)> {
    let mut quote = None;
    line.char_indices().filter(move |(_, c)| match quote {
        Some(open) => {
            quote = quote.filter(|_| *c != open);
            false
        }
        None if matches!(c, '"' | '\'') => {
            quote = Some(*c);
            false
        }
        None => true,
    })
}

/// The words of a line.
pub(super) fn words(line: &str) -> Vec<Word> {
    let mut words = Vec::new();
    let mut rest = line.trim_start();
    while let Some(first) = rest.chars().next() {
        let (word, after) = match first {
            '"' | '\'' => {
                let (text, after) = rest[1..].split_once(first).unwrap_or((&rest[1..], ""));
                (Some(Word::Text(text.to_owned())), after)
            }
            '%' if is_list(rest) => {
                list(rest, &mut words);
                (None, rest.split_once([']', ')', '}']).map_or("", |(_, after)| after))
            }
            ':' if rest[1..].starts_with(is_name) => {
                let (name, after) = name_at(&rest[1..]);
                (Some(Word::Symbol(name.to_owned())), after)
            }
            c if is_name(c) => {
                let (name, after) = name_at(rest);
                match after.strip_prefix(':').filter(|after| !after.starts_with(':')) {
                    Some(after) => (Some(Word::Key(name.to_owned())), after),
                    None => (Some(Word::Plain(name.to_owned())), after),
                }
            }
            '=' if rest.starts_with("=>") => (Some(Word::Plain("=>".to_owned())), &rest[2..]),
            other => (None, &rest[other.len_utf8()..]),
        };
        words.extend(word);
        rest = after.trim_start();
    }
    words
}

fn is_name(c: char) -> bool {
    c.is_alphanumeric() || c == '_'
}

fn name_at(text: &str) -> (&str, &str) {
    let end = text.find(|c| !is_name(c)).unwrap_or(text.len());
    text.split_at(end)
}

/// Whether a list of words begins: `%w[a b]`, `%i(a b)`.
fn is_list(text: &str) -> bool {
    let mut chars = text.chars().skip(1);
    matches!(chars.next(), Some('w' | 'i' | 'W' | 'I')) && matches!(chars.next(), Some('[' | '(' | '{'))
}

fn list(text: &str, words: &mut Vec<Word>) {
    let inside = text[3..].split([']', ')', '}']).next().unwrap_or_default();
    let is_symbols = text[1..].starts_with(['i', 'I']);
    words.extend(inside.split_whitespace().map(|word| match is_symbols {
        true => Word::Symbol(word.to_owned()),
        false => Word::Text(word.to_owned()),
    }));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_that_go_on_are_joined_and_comments_are_gone() {
        let text = "gem \"a#b\", # why\n  \"1\"\n\n# gem \"no\"\ngem \"c\", groups: [\n  :x,\n  :y\n]\n";
        let lines = logical_lines(text);
        assert_eq!(lines.len(), 2, "{lines:?}");
        assert_eq!(lines[0], ("gem \"a#b\", \"1\"".to_owned(), 1));
        assert_eq!(lines[1].1, 5);
        assert!(lines[1].0.ends_with(":y ]"), "{lines:?}");
    }

    #[test]
    fn words_of_every_kind_are_told_apart() {
        let found = words("gem 'a', :x => :y, z: %w[one two], Foo::Bar");
        let shown: Vec<String> = found.iter().map(|word| format!("{word:?}")).collect();
        assert_eq!(
            shown.join(" "),
            "Plain(\"gem\") Text(\"a\") Symbol(\"x\") Plain(\"=>\") Symbol(\"y\") Key(\"z\") Text(\"one\") Text(\"two\") \
             Plain(\"Foo\") Symbol(\"Bar\")"
        );
        assert!(words("\"").len() == 1 && words("%w[").is_empty());
    }
}
