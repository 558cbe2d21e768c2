//! What fits on a terminal.

use std::os::fd::AsFd;

/// How many columns a stream has, if it is a terminal.
pub(crate) fn columns(stream: impl AsFd) -> Option<usize> {
    let size = rustix::termios::tcgetwinsize(stream).ok()?;
    Some(usize::from(size.ws_col)).filter(|columns| *columns > 0)
}

/// Characters that show, without escape codes.
pub(crate) fn width(text: &str) -> usize {
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

/// Words in pieces that are no wider than `room`, as far as the words allow.
pub(crate) fn pieces(text: &str, room: usize) -> Vec<String> {
    let mut pieces = vec![String::new()];
    for word in text.split(' ') {
        let last = pieces.len() - 1;
        match pieces[last].is_empty() {
            true => pieces[last].push_str(word),
            false if width(&pieces[last]) + 1 + width(word) > room => pieces.push(word.to_owned()),
            false => {
                pieces[last].push(' ');
                pieces[last].push_str(word);
            }
        }
    }
    pieces
}

/// A line that goes on below itself, `further` in, where it is wider than the screen. Quoted code with its line number stays
/// as it is.
pub(crate) fn wrapped(line: &str, further: usize, screen: Option<usize>) -> Vec<String> {
    let text = line.trim_start();
    let indent = line.len() - text.len();
    match screen {
        Some(screen) if width(line) > screen && !line.contains(" | ") => {
            let first = " ".repeat(indent);
            let pieces = pieces(text, screen.saturating_sub(indent + further).max(20));
            let further = " ".repeat(indent + further);
            let numbered = pieces.into_iter().enumerate();
            numbered
                .map(|(at, piece)| format!("{}{piece}", if at == 0 { &first } else { &further }))
                .collect()
        }
        _ => vec![line.to_owned()],
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_go_on_further_in_and_code_stays() {
        let line = "  what to do: read the port from PORT, or name it";
        assert_eq!(wrapped(line, 2, Some(30)), ["  what to do: read the port", "    from PORT, or name it"]);
        assert_eq!(wrapped(line, 2, None), [line]);
        let code = "  12 | port = 80800 # far too long for such a screen";
        assert_eq!(wrapped(code, 2, Some(30)), [code]);
    }
}
