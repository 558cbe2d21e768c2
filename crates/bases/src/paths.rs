//! The paths of an image that is not put down anywhere, with what links lead to.

use std::collections::BTreeMap;

/// So many links are followed from one path.
const MOST_LINKS: usize = 40;

/// Paths from the root of an image.
#[derive(Default)]
pub(super) struct Paths {
    /// Links have a target.
    entries: BTreeMap<String, Option<String>>,
}

impl Paths {
    /// Adds a path; a link with its target.
    pub(super) fn add(&mut self, path: String, target: Option<String>) {
        self.entries.insert(path, target);
    }

    /// Forgets the paths that `stays` does not keep.
    pub(super) fn retain(&mut self, stays: impl Fn(&str) -> bool) {
        self.entries.retain(|path, _| stays(path));
    }

    /// Where `path` leads, links followed; `None` when that is not there.
    pub(super) fn real(&self, path: &str) -> Option<String> {
        let mut pending: Vec<String> = parts(path);
        let mut here: Vec<String> = Vec::new();
        let mut links = 0;
        while let Some(part) = pending.pop() {
            if part == ".." {
                here.pop();
                continue;
            }
            here.push(part);
            if let Some(Some(target)) = self.entries.get(&here.join("/")) {
                links += 1;
                if links > MOST_LINKS {
                    return None;
                }
                match target.starts_with('/') {
                    true => here.clear(),
                    false => drop(here.pop()),
                }
                pending.extend(parts(target));
            }
        }
        let real = here.join("/");
        self.entries.contains_key(&real).then_some(real)
    }
}

/// The parts of a path, the last first.
fn parts(path: &str) -> Vec<String> {
    path.split('/').filter(|p| !p.is_empty() && *p != ".").rev().map(str::to_owned).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_are_followed_as_in_the_image() {
        let mut paths = Paths::default();
        for (path, target) in [
            ("usr/bin", None),
            ("usr/bin/fog2", None),
            ("bin", Some("usr/bin")),
            ("usr/bin/fog", Some("fog2")),
            ("etc/fog", Some("/bin/fog")),
            ("etc/horn", Some("../bin/../bin/fog")),
            ("etc/lost", Some("/nowhere")),
            ("etc/round", Some("round")),
        ] {
            paths.add(path.to_owned(), target.map(str::to_owned));
        }
        for (path, expected) in [
            ("/etc/fog", Some("usr/bin/fog2")),
            ("etc/horn", Some("usr/bin/fog2")),
            ("/bin/./fog", Some("usr/bin/fog2")),
            ("etc/lost", None),
            ("etc/round", None),
            ("bin/none", None),
        ] {
            assert_eq!(paths.real(path).as_deref(), expected, "{path}");
        }
    }
}
