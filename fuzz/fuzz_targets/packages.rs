//! Packages of Python and Ruby, programs and libraries in them, and classes of Java.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let Some((first, bytes)) = bytes.split_first() else { return };
    match first % 4 {
        0 => python::fuzzing::read_wheel(bytes),
        1 => ruby::fuzzing::read_gem(bytes),
        2 => workshop::fuzzing::read_program(bytes),
        _ => java::fuzzing::read_class(bytes),
    }
});
