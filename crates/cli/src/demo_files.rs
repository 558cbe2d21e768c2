//! The files of `demo/`, embedded when the program was compiled.

include!(concat!(env!("OUT_DIR"), "/demo_files.rs"));
