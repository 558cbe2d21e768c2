//! Columns of text.

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

    /// The lines, indented by two, without trailing blanks.
    pub fn lines(&self) -> Vec<String> {
        let columns = self.rows.iter().map(Vec::len).max().unwrap_or_default();
        let widths: Vec<usize> = (0..columns)
            .map(|c| {
                self.rows.iter().filter_map(|r| r.get(c)).map(|cell| width(cell)).max().unwrap_or_default()
            })
            .collect();
        let line = |row: &Vec<String>| {
            let mut line = String::new();
            for (column, cell) in row.iter().enumerate() {
                let room = " ".repeat(widths[column] - width(cell));
                let cell = if self.right.contains(&column) {
                    format!("{room}{cell}")
                } else {
                    format!("{cell}{room}")
                };
                line.push_str("  ");
                line.push_str(&cell);
            }
            line.trim_end().to_owned()
        };
        self.rows.iter().map(line).collect()
    }
}

/// Characters that show, without escape codes.
fn width(text: &str) -> usize {
    let mut count = 0;
    let mut escaped = false;
    for sign in text.chars() {
        match sign {
            '\u{1b}' => escaped = true,
            'm' if escaped => escaped = false,
            _ if escaped => {}
            _ => count += 1,
        }
    }
    count
}
