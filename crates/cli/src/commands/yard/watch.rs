//! `yard watch`: apps, instances and what happened last, as they change.

use super::super::Done;
use super::{Here, status};
use render::{FAINT, styled};
use std::io::{self, IsTerminal, Write};
use std::process::ExitCode;
use std::time::Duration;
use wording::Failure;

/// How often the view is drawn.
const EVERY: Duration = Duration::from_millis(500);
/// How many of the last lines of an app are shown.
const LINES: usize = 5;
/// Leaves what was on the terminal as it was, and comes back to it.
const ENTER: &str = "\u{1b}[?1049h\u{1b}[?25l";
const LEAVE: &str = "\u{1b}[?25h\u{1b}[?1049l";

pub fn watch(here: &Here<'_>) -> Done {
    if !io::stdout().is_terminal() || here.output.is_json() {
        return status::status(here, None);
    }
    let _screen = Screen::enter()?;
    let stopped = crate::interrupt::on_signal(Duration::MAX, |_| {})?;
    while !stopped.load(std::sync::atomic::Ordering::SeqCst) {
        draw(&view(here)?)?;
        std::thread::sleep(EVERY);
    }
    Ok(ExitCode::SUCCESS)
}

/// The lines of the view.
fn view(here: &Here<'_>) -> Result<Vec<String>, Failure> {
    let (apps, is_running) = status::known(here)?;
    let mut lines = Vec::new();
    if !is_running {
        lines.push("the yard is not running; start it: shtetl yard start".to_owned());
    }
    if apps.is_empty() {
        lines.push("no app has been released here yet".to_owned());
    }
    for app in &apps {
        lines.extend(status::lines(app, is_running));
        if let Some(release) = app.release {
            let last = super::logs::last(here, &app.name, release, LINES)?;
            lines.extend(last.iter().map(|line| format!("    {line}")));
        }
        lines.push(String::new());
    }
    lines.push(styled(FAINT, "Ctrl-C leaves this view; the yard keeps running"));
    Ok(lines)
}

/// Draws over what was drawn before, as much as there is room for.
fn draw(lines: &[String]) -> io::Result<()> {
    let (rows, columns) = size();
    let mut out = anstream::stdout().lock();
    write!(out, "\u{1b}[H")?;
    for line in lines.iter().take(rows) {
        write!(out, "{}\u{1b}[K\r\n", cut(line, columns))?;
    }
    write!(out, "\u{1b}[J")?;
    out.flush()
}

/// Rows and columns of the terminal, the last row left out.
fn size() -> (usize, usize) {
    let size = rustix::termios::tcgetwinsize(rustix::stdio::stdout()).ok();
    size.map_or((23, 80), |size| (usize::from(size.ws_row).saturating_sub(1), usize::from(size.ws_col)))
}

/// The line, without what has no room; escape codes take none.
fn cut(line: &str, columns: usize) -> String {
    let (mut cut, mut width, mut is_code) = (String::new(), 0, false);
    for sign in line.chars() {
        is_code |= sign == '\u{1b}';
        if is_code || width < columns {
            cut.push(sign);
        }
        if !is_code {
            width += 1;
        }
        is_code &= sign != 'm';
    }
    cut
}

/// The terminal's other screen.
struct Screen;

impl Screen {
    fn enter() -> io::Result<Self> {
        write!(io::stdout(), "{ENTER}")?;
        io::stdout().flush()?;
        Ok(Self)
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        // A terminal that is gone needs nothing back.
        let _ = write!(io::stdout(), "{LEAVE}").and_then(|()| io::stdout().flush());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_cut_where_they_end_on_the_screen() {
        assert_eq!(cut("\u{1b}[32mferry\u{1b}[0m sails", 7), "\u{1b}[32mferry\u{1b}[0m s");
        assert_eq!(cut("pier", 10), "pier");
    }
}
