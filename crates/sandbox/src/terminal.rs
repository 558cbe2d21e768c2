//! A terminal of its own for a process: what is typed at the caller's reaches it, what it writes is shown there.

use crate::running::Running;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::{Mode, OFlags};
use rustix::io::Errno;
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::stdio::{stdin, stdout};
use rustix::termios::{OptionalActions, Termios, tcgetattr, tcgetwinsize, tcsetattr, tcsetwinsize};
use std::fs::File;
use std::io::{self, Read, Write};
use std::process::Stdio;

/// How often it is looked whether the window has changed, in milliseconds.
const GLANCE: i64 = 200;

/// The caller's side of the terminal (pty(7)).
pub struct Terminal(File);

impl Terminal {
    /// A new terminal, and the three ends of it that a process gets. Its plan has to say that it is on a terminal.
    pub fn open() -> io::Result<(Self, [Stdio; 3])> {
        let ours = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC)?;
        grantpt(&ours)?;
        unlockpt(&ours)?;
        let name = ptsname(&ours, Vec::new())?;
        let theirs = rustix::fs::open(name, OFlags::RDWR | OFlags::NOCTTY | OFlags::CLOEXEC, Mode::empty())?;
        let ends = [theirs.try_clone()?.into(), theirs.try_clone()?.into(), theirs.into()];
        Ok((Self(ours.into()), ends))
    }

    /// Passes everything on between this terminal and that of the caller, until `running` has ended.
    pub fn pass_on(&mut self, running: &Running) -> io::Result<()> {
        let _raw = Raw::enter()?;
        let glance = Timespec { tv_sec: 0, tv_nsec: GLANCE * 1_000_000 };
        let mut is_typing = true;
        loop {
            if let Ok(size) = tcgetwinsize(stdout()) {
                // A terminal without a size is one that was not told any.
                let _ = tcsetwinsize(&self.0, size);
            }
            let (input, output) = (stdin(), &self.0);
            let mut ends = vec![PollFd::new(output, PollFlags::IN)];
            ends.extend(is_typing.then(|| PollFd::new(&input, PollFlags::IN)));
            match poll(&mut ends, Some(&glance)) {
                Ok(0) if running.ends_within(std::time::Duration::ZERO) => return Ok(()),
                Ok(_) => {}
                Err(Errno::INTR) => continue,
                Err(error) => return Err(error.into()),
            }
            let ready: Vec<bool> = ends.iter().map(|end| !end.revents().is_empty()).collect();
            if ready[0] && !self.show()? {
                return Ok(());
            }
            if ready.get(1) == Some(&true) {
                is_typing = self.type_on()?;
            }
        }
    }

    /// Shows what was written; false when the writer is gone.
    fn show(&mut self) -> io::Result<bool> {
        let mut bytes = [0; 4096];
        let length = match self.0.read(&mut bytes) {
            Ok(length) => length,
            // The last of those who had it open is gone.
            Err(error) if error.raw_os_error() == Some(libc::EIO) => 0,
            Err(error) => return Err(error),
        };
        let mut out = io::stdout().lock();
        out.write_all(&bytes[..length])?;
        out.flush()?;
        Ok(length > 0)
    }

    /// Passes on what was typed; false at its end.
    fn type_on(&mut self) -> io::Result<bool> {
        let mut bytes = [0; 4096];
        let length = rustix::io::read(stdin(), &mut bytes)?;
        self.0.write_all(&bytes[..length])?;
        Ok(length > 0)
    }
}

/// The caller's terminal, passing on each key as it is; as it was again when this is dropped.
struct Raw(Termios);

impl Raw {
    fn enter() -> io::Result<Self> {
        let before = tcgetattr(stdin())?;
        let mut raw = before.clone();
        raw.make_raw();
        tcsetattr(stdin(), OptionalActions::Now, &raw)?;
        Ok(Self(before))
    }
}

impl Drop for Raw {
    fn drop(&mut self) {
        // A terminal that is gone needs nothing back.
        let _ = tcsetattr(stdin(), OptionalActions::Drain, &self.0);
    }
}
