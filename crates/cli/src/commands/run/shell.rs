//! `run --shell`: a shell where a process would run.

use super::super::Done;
use crate::surroundings::Surroundings;
use running::Start;
use sandbox::{Ended, Terminal};
use std::io::{self, IsTerminal};
use std::process::ExitCode;
use wording::Failure;
use workshop::inspect::OpenImage;

/// What the shell is told of the user's terminal.
const OF_TERMINALS: [&str; 2] = ["TERM", "COLORTERM"];

pub fn open(image: &OpenImage, process: Option<&str>, start: Start, surroundings: &Surroundings) -> Done {
    if !io::stdin().is_terminal() || !io::stdout().is_terminal() {
        return Err(Failure::Usage {
            message: "--shell needs a terminal".to_owned(),
            hint: "run one command instead: shtetl run IMAGE -- COMMAND".to_owned(),
        });
    }
    let of_terminal =
        OF_TERMINALS.iter().filter_map(|name| Some(((*name).to_owned(), std::env::var(name).ok()?)));
    let start = Start {
        settings: of_terminal.chain(start.settings).collect(),
        command: Some(["sh", "-i"].map(str::to_owned).into()),
        on_terminal: true,
        ..start
    };
    let (mut terminal, ends) = Terminal::open()?;
    let mut launched = running::start(&surroundings.store, image, process, start, ends)?;
    terminal.pass_on(launched.process())?;
    Ok(match launched.process().wait().map_err(model::Error::from)? {
        Ended::Exit(status) => ExitCode::from(u8::try_from(status).unwrap_or(1)),
        Ended::Signal(_) | Ended::Over(_) => ExitCode::FAILURE,
    })
}
