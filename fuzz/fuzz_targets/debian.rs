//! What a Debian archive has: signed releases, key rings, lists of packages, packages, versions.
#![no_main]

use libfuzzer_sys::fuzz_target;
use remote::packages::debian::{Index, Release, Signatures, compare, open_package};
use std::io::Read;

fuzz_target!(|bytes: &[u8]| {
    let Some((first, bytes)) = bytes.split_first() else { return };
    match first % 5 {
        0 => {
            let mut index = Index::default();
            let text = String::from_utf8_lossy(bytes).into_owned();
            index.add(text, 0);
            let names: Vec<String> = index.names().map(str::to_owned).collect();
            for name in names {
                let _ = index.package(&name);
            }
        }
        1 => {
            let _ = Release::verified(&String::from_utf8_lossy(bytes), &Signatures::default(), 0);
        }
        2 => {
            let _ = Signatures::default().add(bytes);
        }
        3 => {
            if let Ok(package) = open_package(bytes) {
                let _ = package.data.take(1 << 20).read_to_end(&mut Vec::new());
            }
        }
        _ => {
            let text = String::from_utf8_lossy(bytes);
            let (a, b) = text.split_once('\n').unwrap_or((&text, ""));
            assert_eq!(compare(a, b), compare(b, a).reverse(), "an order has two directions");
        }
    }
});
