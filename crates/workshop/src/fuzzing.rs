//! What the fuzz targets reach of the reader of programs.

/// Reads the bytes of a program or library as a build does.
pub fn read_program(bytes: &[u8]) {
    let _ = crate::layer_contents::needs(bytes, "amd64");
    go::fuzzing::read_modules(bytes);
}
