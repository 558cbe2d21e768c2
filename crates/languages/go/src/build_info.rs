//! What a program says of the modules that it was made of (package `runtime/debug` of Go, `BuildInfo`): exactly those that
//! are in it, and no others.

use model::PackageFact;
use model::package_url::purl;

/// What is around the text in a program (`cmd/go/internal/modload`, `infoStart` and `infoEnd`).
const START: [u8; 16] =
    [0x30, 0x77, 0xaf, 0x0c, 0x92, 0x74, 0x08, 0x02, 0x41, 0xe1, 0xc1, 0x07, 0xe6, 0xd6, 0x18, 0xe6];
const END: [u8; 16] =
    [0xf9, 0x32, 0x43, 0x31, 0x86, 0x18, 0x20, 0x72, 0x00, 0x82, 0x42, 0x10, 0x41, 0x16, 0xd8, 0xf2];

/// The modules in a program; none where it says nothing.
pub(super) fn modules(program: &[u8]) -> Vec<PackageFact> {
    let find = |bytes: &[u8], sign: &[u8]| bytes.windows(sign.len()).position(|window| window == sign);
    let Some(start) = find(program, &START).map(|at| at + START.len()) else { return Vec::new() };
    let Some(length) = find(&program[start..], &END) else { return Vec::new() };
    let text = String::from_utf8_lossy(&program[start..start + length]).into_owned();
    let mut found: Vec<PackageFact> = Vec::new();
    for line in text.lines() {
        let words: Vec<&str> = line.split('\t').collect();
        match words[..] {
            ["dep", path, version] => found.push(fact(path, version, "")),
            ["dep", path, version, hash] => found.push(fact(path, version, hash)),
            // It takes the place of the module in the line before.
            ["=>", path, version, hash] if !path.starts_with(['.', '/']) => {
                found.pop();
                found.push(fact(path, version, hash));
            }
            ["=>", ..] => drop(found.pop()),
            _ => {}
        }
    }
    found
}

fn fact(path: &str, version: &str, hash: &str) -> PackageFact {
    PackageFact::new(path, version, purl("golang", path, version, &[]), hash)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn modules_and_what_takes_their_place_are_read_from_a_program() {
        let text = "path\tferry.example/app\nmod\tferry.example/app\t(devel)\t\ndep\tbuoy.example/a\tv1.0.0\th1:AAAA=\n\
            dep\tbuoy.example/b\tv1.0.0\n=>\tfork.example/b\tv1.0.1\th1:BBBB=\ndep\tbuoy.example/c\tv1.0.0\n=>\t./c\t(devel)\t\nbuild\t-trimpath=true\n";
        let program = [b"\x7fELF...", &START[..], text.as_bytes(), &END[..], b"..."].concat();
        let found: Vec<_> = modules(&program).into_iter().map(|f| (f.purl, f.integrity)).collect();
        let expected = [
            ("pkg:golang/buoy.example/a@v1.0.0", "h1:AAAA="),
            ("pkg:golang/fork.example/b@v1.0.1", "h1:BBBB="),
        ];
        assert_eq!(found, expected.map(|(purl, hash)| (purl.to_owned(), hash.to_owned())));
        assert!(modules(b"no program").is_empty());
    }
}
