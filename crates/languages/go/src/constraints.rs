//! Build constraints: which files a build for Linux takes (`go help buildconstraint`).

/// Systems and processors that names of files may end with, other than those that images are for.
const FOREIGN: [&str; 28] = [
    "aix",
    "android",
    "darwin",
    "dragonfly",
    "freebsd",
    "illumos",
    "ios",
    "js",
    "netbsd",
    "openbsd",
    "plan9",
    "solaris",
    "wasip1",
    "windows",
    "386",
    "arm",
    "loong64",
    "mips",
    "mips64",
    "mips64le",
    "mipsle",
    "ppc64",
    "ppc64le",
    "riscv64",
    "s390x",
    "sparc64",
    "wasm",
    "zos",
];
/// What holds for every image. Which processor it is for is not known yet: a file for one of them is enough.
const HOLDS: [&str; 5] = ["linux", "unix", "gc", "amd64", "arm64"];

/// Whether a build with `tags` takes the file at `path`.
pub(super) fn takes(path: &str, text: &str, tags: &[String]) -> bool {
    if path.ends_with("_test.go") {
        return false;
    }
    let name = path.rsplit('/').next().unwrap_or(path).trim_end_matches(".go");
    if is_foreign(name) {
        return false;
    }
    let before = text.lines().take_while(|line| !line.starts_with("package "));
    let mut lines = before.map(str::trim);
    match lines.find_map(|line| line.strip_prefix("//go:build ")) {
        Some(constraint) => Expression { rest: constraint, tags }.any().unwrap_or(true),
        None => !text.lines().any(|line| line.trim() == "// +build ignore"),
    }
}

/// Whether a name ends with another system or processor; `windows` itself is taken by every build.
fn is_foreign(name: &str) -> bool {
    let Some((rest, last)) = name.rsplit_once('_') else { return false };
    let before = rest.rsplit_once('_').map_or("", |(_, before)| before);
    FOREIGN.contains(&last) || HOLDS.contains(&last) && FOREIGN.contains(&before)
}

/// A constraint that is read from the left; nothing where it is none.
struct Expression<'t> {
    rest: &'t str,
    tags: &'t [String],
}

impl Expression<'_> {
    fn any(&mut self) -> Option<bool> {
        let mut holds = self.all()?;
        while self.eat("||") {
            holds |= self.all()?;
        }
        Some(holds)
    }

    fn all(&mut self) -> Option<bool> {
        let mut holds = self.one()?;
        while self.eat("&&") {
            holds &= self.one()?;
        }
        Some(holds)
    }

    fn one(&mut self) -> Option<bool> {
        if self.eat("!") {
            return self.one().map(|holds| !holds);
        }
        if self.eat("(") {
            let holds = self.any()?;
            return self.eat(")").then_some(holds);
        }
        let rest = self.rest.trim_start();
        let end = rest.find(|c: char| !(c.is_alphanumeric() || matches!(c, '_' | '.'))).unwrap_or(rest.len());
        let (tag, rest) = rest.split_at(end);
        self.rest = rest;
        let holds = HOLDS.contains(&tag) || tag.starts_with("go1") || self.tags.iter().any(|own| own == tag);
        (!tag.is_empty()).then_some(holds)
    }

    fn eat(&mut self, sign: &str) -> bool {
        let Some(rest) = self.rest.trim_start().strip_prefix(sign) else { return false };
        self.rest = rest;
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_for_other_systems_and_without_their_tags_are_not_taken() {
        let tags = ["harbour".to_owned()];
        for (path, constraint, expected) in [
            ("main.go", "", true),
            ("main.go", "//go:build ignore\n", false),
            ("main.go", "// +build ignore\n", false),
            ("main.go", "//go:build js && wasm\n", false),
            ("main.go", "//go:build (linux || darwin) && !windows\n", true),
            ("main.go", "//go:build go1.22 && harbour\n", true),
            ("main.go", "//go:build amd64 || arm64\n", true),
            ("main.go", "//go:build !linux\n", false),
            ("sail_windows.go", "", false),
            ("sail_linux_arm.go", "", false),
            ("sail_darwin_arm64.go", "", false),
            ("sail_linux_arm64.go", "", true),
            ("windows.go", "", true),
            ("sail_js_helper.go", "", true),
            ("sail_test.go", "", false),
        ] {
            let text = format!("{constraint}\npackage main\n");
            assert_eq!(takes(path, &text, &tags), expected, "{path} {constraint}");
        }
    }
}
