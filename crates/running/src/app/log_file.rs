//! Lines that are kept: a file of bounded length, and the one before it.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

/// How long a file may become.
pub const LONGEST: u64 = 1 << 20;

/// Where lines are kept. Older ones are in the same place with `.1` at the end; what is still older is gone.
pub struct BoundedLog {
    path: PathBuf,
    file: File,
    length: u64,
}

impl BoundedLog {
    /// Appends to existing content.
    pub fn open(path: &Path) -> io::Result<Self> {
        let file = OpenOptions::new().append(true).create(true).open(path)?;
        let length = file.metadata()?.len();
        Ok(Self { path: path.to_owned(), file, length })
    }

    /// Adds a line.
    pub fn add(&mut self, line: &str) -> io::Result<()> {
        if self.length >= LONGEST {
            fs::rename(&self.path, older(&self.path))?;
            *self = Self::open(&self.path)?;
        }
        // In one piece, so that several writers never mix within a line.
        let line = format!("{line}\n");
        self.length += line.len() as u64;
        self.file.write_all(line.as_bytes())
    }
}

/// All that is kept at `path`, the oldest first; empty where nothing was written.
pub fn kept_text(path: &Path) -> io::Result<String> {
    let mut bytes = Vec::new();
    for file in [older(path), path.to_owned()] {
        match fs::read(file) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            read => bytes.extend(read?),
        }
    }
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

/// The file with the lines before those of `path`.
fn older(path: &Path) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(".1");
    name.into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_more_than_two_files_are_kept() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("web.1.log");
        let line = "x".repeat(1 << 16);
        let mut log = BoundedLog::open(&path).unwrap();
        for _ in 0..70 {
            log.add(&line).unwrap();
        }
        let lengths = [fs::metadata(&path).unwrap().len(), fs::metadata(older(&path)).unwrap().len()];
        assert!(lengths.iter().all(|length| *length < LONGEST + (1 << 17)), "{lengths:?}");
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 2);
        log.add("the last").unwrap();
        assert!(fs::read_to_string(&path).unwrap().ends_with("the last\n"));
    }
}
