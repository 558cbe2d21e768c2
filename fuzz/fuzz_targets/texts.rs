//! Small texts that foreign files hold: commands, ranges, names, addresses, sizes.
#![no_main]

use libfuzzer_sys::fuzz_target;
use model::shell_words::CommandLine;
use remote::{Address, server_in};
use std::path::Path;

fuzz_target!(|text: &str| {
    let _ = CommandLine::parse(text);
    let _ = model::npm_range::Range::parse(text);
    let _ = model::names::nearest(text, ["ferry", "harbour"].into_iter());
    let _ = server_in(text);
    let address = Address::parse(text, Path::new("/folder"));
    let _ = (address.to_string(), address.server().map(str::to_owned), address.follow(text));
});
