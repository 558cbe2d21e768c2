//! The loader's list of shared libraries (`/etc/ld.so.cache`), which programs search for libraries by a part of their
//! names, as Python's `ctypes.util.find_library` does. Loading needs no list, and what is not in it is found all the same.
//!
//! The form is the GNU C library's, version 1.1 (`sysdeps/generic/dl-cache.h` of its source): a head, entries
//! with the places of two texts each, the texts. Numbers are little-endian on both processors.

use crate::debian::unpack::Unpacked;
use engine::Recipe;
use std::cmp::Ordering;
use std::collections::BTreeSet;

/// Where the list is.
pub(super) const PATH: &str = "etc/ld.so.cache";
/// Version of the list; part of the keys of layers that have one.
pub(super) const RECIPE: Recipe = Recipe::new("list of libraries", 2);
const MAGIC: &[u8; 20] = b"glibc-ld.so.cache1.1";
const LITTLE_ENDIAN: u8 = 2;
const HEAD: usize = 48;
const ENTRY: usize = 24;

/// Debian's names of processors with their folders of libraries, and how entries say the processor.
const PROCESSORS: [(&str, &str, u32); 2] =
    [("amd64", "usr/lib/x86_64-linux-gnu/", 0x0303), ("arm64", "usr/lib/aarch64-linux-gnu/", 0x0a03)];

/// The list of the libraries that programs load of these packages; nothing, when there are none.
pub(super) fn list(packages: &[&Unpacked], architecture: &str) -> Option<Vec<u8>> {
    let (_, folder, flags) = PROCESSORS.into_iter().find(|(name, ..)| *name == architecture)?;
    let own = |path: &str| -> Option<String> {
        let name = path.strip_prefix(folder)?;
        (!name.contains('/') && name.starts_with("lib") && name.contains(".so")).then(|| name.to_owned())
    };
    let links = packages.iter().flat_map(|package| &package.links);
    // A library is loaded under the name of the link to its file, if there is one.
    let behind: BTreeSet<&str> = links.clone().map(|(_, target)| target.as_str()).collect();
    let files = packages.iter().flat_map(|package| &package.files).filter_map(|path| own(path));
    let files = files.filter(|name| !behind.contains(name.as_str()));
    let mut names: Vec<String> = links.filter_map(|(path, _)| own(path)).chain(files).collect();
    names.sort_by(|a, b| order(b.as_bytes(), a.as_bytes()));
    names.dedup();
    (!names.is_empty()).then(|| written(&names, folder, flags))
}

fn written(names: &[String], folder: &str, flags: u32) -> Vec<u8> {
    let number = |number: usize| u32::try_from(number).unwrap_or(u32::MAX).to_le_bytes();
    let (mut entries, mut texts) = (Vec::new(), Vec::new());
    for name in names {
        // The name is the end of the path.
        let path = HEAD + ENTRY * names.len() + texts.len();
        texts.extend(format!("/{folder}{name}\0").bytes());
        entries.extend(flags.to_le_bytes());
        entries.extend(number(path + 1 + folder.len()));
        entries.extend(number(path));
        // No least version of the kernel, and no extensions of the processor.
        entries.extend([0; 12]);
    }
    let mut list = MAGIC.to_vec();
    list.extend(number(names.len()));
    list.extend(number(texts.len()));
    list.push(LITTLE_ENDIAN);
    list.resize(HEAD, 0);
    list.extend(entries);
    list.extend(texts);
    list
}

/// How the loader compares names: runs of digits by their value, and before everything that is none.
fn order(a: &[u8], b: &[u8]) -> Ordering {
    let digits = |text: &[u8]| text.iter().take_while(|byte| byte.is_ascii_digit()).count();
    match (digits(a), digits(b)) {
        (0, 0) => match (a.split_first(), b.split_first()) {
            (Some((first, a)), Some((second, b))) if first == second => order(a, b),
            (first, second) => first.map(|(byte, _)| byte).cmp(&second.map(|(byte, _)| byte)),
        },
        (0, _) => Ordering::Less,
        (_, 0) => Ordering::Greater,
        (first, second) => {
            let value =
                |digits: &[u8]| std::str::from_utf8(digits).ok().and_then(|text| text.parse::<u64>().ok());
            value(&a[..first]).cmp(&value(&b[..second])).then_with(|| order(&a[first..], &b[second..]))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn libraries_are_listed_under_the_names_that_programs_load_the_last_first() {
        let folder = "usr/lib/x86_64-linux-gnu/";
        let mut package = Unpacked::default();
        for file in ["libhorn.so.2.0.1", "libhorn.so.10", "fog/libfog.so.1", "libbell-1.so", "libbell.a"] {
            package.files.insert(format!("{folder}{file}"));
        }
        package.files.insert("usr/share/libdoc.so".to_owned());
        package.links.insert(format!("{folder}libhorn.so.2"), "libhorn.so.2.0.1".to_owned());
        let list = list(&[&package], "amd64").unwrap();
        let number = |at: usize| u32::from_le_bytes(list[at..at + 4].try_into().unwrap()) as usize;
        let text = |at: usize| {
            let end = list[at..].iter().position(|byte| *byte == 0).unwrap();
            String::from_utf8(list[at..at + end].to_vec()).unwrap()
        };
        assert_eq!(&list[..20], b"glibc-ld.so.cache1.1");
        let entries: Vec<(usize, String, String)> = (0..number(20))
            .map(|entry| HEAD + ENTRY * entry)
            .map(|at| (number(at), text(number(at + 4)), text(number(at + 8))))
            .collect();
        let expected = |name: &str| (0x0303, name.to_owned(), format!("/{folder}{name}"));
        assert_eq!(entries, ["libhorn.so.10", "libhorn.so.2", "libbell-1.so"].map(expected));
        assert_eq!(list.len(), HEAD + ENTRY * number(20) + number(24));
        assert!(super::list(&[&package], "arm64").is_none());
    }
}
