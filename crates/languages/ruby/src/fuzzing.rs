//! What the fuzz targets reach of the readers of gems.

use crate::gem_file::{self, Member};
use std::io::{self, Cursor};
use std::path::{Component, Path};

/// Reads the bytes of a gem as a build does.
///
/// # Panics
///
/// When a file of it would leave its folder.
pub fn read_gem(bytes: &[u8]) {
    let _ = gem_file::specification(Cursor::new(bytes)).map(|specification| specification.text(None));
    let _ = gem_file::each_file(Cursor::new(bytes), |path, member| {
        assert!(Path::new(path).components().all(|part| matches!(part, Component::Normal(_))), "{path}");
        if let Member::File { content, .. } = member {
            io::copy(content, &mut io::sink()).map_err(|error| error.to_string())?;
        }
        Ok(())
    });
}
