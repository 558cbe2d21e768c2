//! What the fuzz targets reach of the readers of wheels.

use crate::wheel::{Archive, Layout, Scheme, metadata, needs};
use std::io::{self, Cursor};
use std::path::{Component, Path};

/// Reads the bytes of a wheel as a build does.
///
/// # Panics
///
/// When a file of it would leave the environment.
pub fn read_wheel(bytes: &[u8]) {
    let Ok(mut archive) = Archive::new(Cursor::new(bytes)) else { return };
    let _ = metadata(&mut archive).map(|text| needs(&text));
    let scheme = Scheme { site: "lib/site-packages", series: "3.13", interpreter: "/opt/python/bin/python" };
    let Ok(layout) = Layout::of(&mut archive, &scheme) else { return };
    let _ = layout.each(&mut archive, |path, _, _, content| {
        assert!(Path::new(path).components().all(|part| matches!(part, Component::Normal(_))), "{path}");
        io::copy(content, &mut io::sink()).map(drop)
    });
}
