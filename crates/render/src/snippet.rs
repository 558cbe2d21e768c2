//! Shows a place in a text with what is wrong there underlined.

use crate::{BAD, FAINT, styled};
use std::ops::Range;

/// The line (from 1) and column (from 1, in characters) of a byte offset.
pub fn position(text: &str, offset: usize) -> (usize, usize) {
    let before = text.get(..offset).unwrap_or(text);
    let line = before.matches('\n').count() + 1;
    let start = before.rfind('\n').map_or(0, |at| at + 1);
    (line, before[start..].chars().count() + 1)
}

/// Of a long line, only this many characters around the place are shown.
const WIDEST: usize = 100;

/// The line that `span` begins on, with the span's part of it underlined. With `hide`, and where a URL has a login, quoted
/// texts are not shown: they may be secrets.
pub fn underline(text: &str, span: &Range<usize>, hide: bool) -> Vec<String> {
    let (line, column) = position(text, span.start);
    let content = text.lines().nth(line - 1).unwrap_or_default().replace('\t', " ");
    let content = if hide || has_login(&content) { without_quoted(&content) } else { content };
    let length = text.get(span.clone()).map_or(1, |t| t.lines().next().unwrap_or_default().chars().count());
    let left = (column - 1).saturating_sub(WIDEST / 2);
    let content: String = content.chars().skip(left).take(WIDEST).collect();
    let length = length.clamp(1, (WIDEST + 1).saturating_sub(column - left).max(1));
    let number = line.to_string();
    let gap = " ".repeat(number.len());
    let marks = format!("{}{}", " ".repeat(column - 1 - left), "~".repeat(length));
    vec![
        format!("  {} {content}", styled(FAINT, format!("{number} |"))),
        format!("  {} {}", styled(FAINT, format!("{gap} |")), styled(BAD, marks)),
    ]
}

/// Whether a URL in the line has a user name or password.
fn has_login(line: &str) -> bool {
    let hosts = line.split("://").skip(1).filter_map(|rest| rest.split(['/', '"', '\'']).next());
    hosts.into_iter().any(|host| host.contains('@'))
}

/// Quoted texts as dots, so that everything stays in its column.
fn without_quoted(line: &str) -> String {
    let mut quote = None;
    let hide = |sign: char| match quote {
        Some(end) if end == sign => {
            quote = None;
            sign
        }
        Some(_) => '·',
        None => {
            quote = matches!(sign, '"' | '\'').then_some(sign);
            sign
        }
    };
    line.chars().map(hide).collect()
}
