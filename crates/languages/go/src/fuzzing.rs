//! What the fuzz targets reach of the reader of programs.

/// Reads the modules that a program says it was made of.
pub fn read_modules(program: &[u8]) {
    let _ = crate::build_info::modules(program);
}
