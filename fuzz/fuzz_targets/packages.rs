//! Packages of Python and Ruby, and programs and libraries in them.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let Some((first, bytes)) = bytes.split_first() else { return };
    match first % 3 {
        0 => python::fuzzing::read_wheel(bytes),
        1 => ruby::fuzzing::read_gem(bytes),
        _ => workshop::fuzzing::read_program(bytes),
    }
});
