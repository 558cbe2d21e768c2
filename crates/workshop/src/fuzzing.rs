//! What the fuzz targets reach of the reader of programs.

/// Reads the bytes of a program or library as a build does.
pub fn read_program(bytes: &[u8]) {
    let mut linkage = crate::linkage::Linkage::default();
    linkage.add_elf(bytes, "amd64", "program");
    linkage.add_script(bytes);
    go::fuzzing::read_modules(bytes);
}
