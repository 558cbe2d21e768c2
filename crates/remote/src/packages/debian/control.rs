//! Control files: paragraphs of `Field: value` lines (deb822(5)).

/// One paragraph.
#[derive(Clone, Copy)]
pub(super) struct Paragraph<'t>(&'t str);

/// The paragraphs of a text; blank lines lie between them.
pub(super) fn paragraphs(text: &str) -> impl Iterator<Item = Paragraph<'_>> {
    text.split("\n\n").map(|p| Paragraph(p.trim_start_matches('\n'))).filter(|p| !p.0.is_empty())
}

impl<'t> Paragraph<'t> {
    /// The fields with their values; further lines of a value keep their line breaks.
    pub(super) fn fields(self) -> impl Iterator<Item = (&'t str, &'t str)> {
        let mut rest = self.0;
        std::iter::from_fn(move || {
            loop {
                if rest.is_empty() {
                    return None;
                }
                let mut end = rest.find('\n').unwrap_or(rest.len());
                // A line that begins with a blank goes on with the value.
                while rest[end..].starts_with("\n ") || rest[end..].starts_with("\n\t") {
                    end = rest[end + 1..].find('\n').map_or(rest.len(), |at| end + 1 + at);
                }
                let field = &rest[..end];
                rest = rest[end..].trim_start_matches('\n');
                if let Some((name, value)) = field.split_once(':') {
                    return Some((name, value.trim()));
                }
            }
        })
    }

    /// The value of a field; names are told apart without regard to capitals.
    pub(super) fn get(self, name: &str) -> Option<&'t str> {
        self.fields().find(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, value)| value)
    }
}
