//! Columns of text.

use crate::screen::{self, pieces, width};

/// Lines of cells; each column is as wide as its widest cell.
pub struct Table {
    rows: Vec<Vec<String>>,
    right: &'static [usize],
}

impl Table {
    /// An empty table; the columns in `right` are aligned to the right.
    pub fn new(right: &'static [usize]) -> Self {
        Self { rows: Vec::new(), right }
    }

    /// Adds a line.
    pub fn row<const N: usize>(&mut self, cells: [String; N]) {
        self.rows.push(cells.into());
    }

    /// The lines, indented by two, without trailing blanks. On a terminal, what is too long for a line goes on below its
    /// column.
    pub fn lines(&self) -> Vec<String> {
        self.lines_within(screen::columns(std::io::stdout()))
    }

    fn lines_within(&self, screen: Option<usize>) -> Vec<String> {
        let columns = self.rows.iter().map(Vec::len).max().unwrap_or_default();
        let widths: Vec<usize> = (0..columns)
            .map(|c| {
                self.rows.iter().filter_map(|r| r.get(c)).map(|cell| width(cell)).max().unwrap_or_default()
            })
            .collect();
        let padded = |(column, cell): (usize, &String)| {
            let room = " ".repeat(widths[column] - width(cell));
            match self.right.contains(&column) {
                true => format!("  {room}{cell}"),
                false => format!("  {cell}{room}"),
            }
        };
        let line = |row: &Vec<String>| -> Vec<String> {
            let whole: String = row.iter().enumerate().map(padded).collect();
            let whole = whole.trim_end().to_owned();
            match (screen, row.split_last()) {
                (Some(screen), Some((last, others))) if width(&whole) > screen => {
                    let start: String = others.iter().enumerate().map(padded).collect();
                    continued(&start, last, screen)
                }
                _ => vec![whole],
            }
        };
        self.rows.iter().flat_map(line).collect()
    }
}

/// The least room for the last column beside the others; with less, it begins on a line of its own.
const LEAST_ROOM: usize = 24;

/// A line whose last cell goes on below itself.
fn continued(start: &str, last: &str, screen: usize) -> Vec<String> {
    let beside = width(start) + 2;
    let (mut lines, indent) = match beside + LEAST_ROOM <= screen {
        true => (Vec::new(), beside),
        false => (vec![start.trim_end().to_owned()], 6),
    };
    let (style, plain, end) = styled_parts(last);
    let pieces = pieces(plain, screen.saturating_sub(indent));
    for (at, piece) in pieces.iter().enumerate() {
        let before = if at == 0 && lines.is_empty() { format!("{start}  ") } else { " ".repeat(indent) };
        lines.push(format!("{before}{style}{piece}{end}"));
    }
    lines
}

/// The codes at the beginning of a cell, its text, and the codes at its end; a cell with codes in between is taken as it is.
fn styled_parts(cell: &str) -> (&str, &str, &str) {
    let after_codes = |text: &str| {
        let mut at = 0;
        while text[at..].starts_with('\u{1b}') {
            at += text[at..].find('m').map_or(text.len() - at, |end| end + 1);
        }
        at
    };
    let begin = after_codes(cell);
    let end = cell[begin..].find('\u{1b}').map_or(cell.len(), |at| begin + at);
    match after_codes(&cell[end..]) + end == cell.len() {
        true => (&cell[..begin], &cell[begin..end], &cell[end..]),
        false => ("", cell, ""),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{FAINT, styled};

    #[test]
    fn what_is_too_long_for_the_screen_goes_on_below_its_column() {
        let mut table = Table::new(&[]);
        table.row([
            "fog".to_owned(),
            styled(FAINT, "a horn that sounds every thirty seconds in thick weather"),
        ]);
        table.row(["tide".to_owned(), "high".to_owned()]);
        let plain = |screen| -> Vec<String> {
            let lines = table.lines_within(screen);
            lines.iter().map(|line| anstream::adapter::strip_str(line).to_string()).collect()
        };
        assert_eq!(plain(None)[0], "  fog   a horn that sounds every thirty seconds in thick weather");
        assert_eq!(
            plain(Some(40)),
            ["  fog   a horn that sounds every thirty", "        seconds in thick weather", "  tide  high"]
        );
        assert_eq!(plain(Some(28))[..2], ["  fog", "      a horn that sounds"]);
    }
}
