//! `go.mod` and `go.work` (the Go modules reference, "go.mod files" and "Workspaces").

/// A module in a version, as in `v1.2.3`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct ModuleVersion {
    pub(super) path: String,
    pub(super) version: String,
}

impl ModuleVersion {
    /// Path and version, for people.
    pub(super) fn label(&self) -> String {
        format!("{} {}", self.path, self.version)
    }
}

/// What takes the place of a module.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Replacement {
    Module(ModuleVersion),
    /// A folder, from that of the file.
    Folder(String),
}

/// A replacement, of all versions or of one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Replaced {
    pub(super) path: String,
    pub(super) version: Option<String>,
    pub(super) by: Replacement,
}

/// What a `go.mod` or `go.work` says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct GoMod {
    /// The `go` line.
    pub(super) go: Option<String>,
    /// The `toolchain` line.
    pub(super) toolchain: Option<String>,
    /// Modules that are needed, in no less than these versions.
    pub(super) require: Vec<ModuleVersion>,
    pub(super) replace: Vec<Replaced>,
    pub(super) exclude: Vec<ModuleVersion>,
    /// Folders of modules, in a `go.work`.
    pub(super) uses: Vec<String>,
}

impl GoMod {
    /// Reads the lines that matter; what is not understood is left to the program that complains of it better.
    pub(super) fn parse(text: &str) -> Self {
        let mut found = Self::default();
        let mut block = None;
        for line in text.lines() {
            let line = line.split("//").next().unwrap_or_default().trim();
            let mut words = words(line);
            match (&block, words.first().map(String::as_str)) {
                (_, None) => continue,
                (Some(_), Some(")")) => {
                    block = None;
                    continue;
                }
                (None, Some(verb)) if words.last().is_some_and(|last| last == "(") => {
                    block = Some(verb.to_owned());
                    continue;
                }
                _ => {}
            }
            let verb = match &block {
                Some(verb) => verb.clone(),
                None => words.remove(0),
            };
            found.add(&verb, &words);
        }
        found
    }

    fn add(&mut self, verb: &str, words: &[String]) {
        let module =
            |path: &String, version: &String| ModuleVersion { path: path.clone(), version: version.clone() };
        match (verb, words) {
            ("go", [version]) => self.go = Some(version.clone()),
            ("toolchain", [name]) => self.toolchain = Some(name.clone()),
            ("require", [path, version]) => self.require.push(module(path, version)),
            ("exclude", [path, version]) => self.exclude.push(module(path, version)),
            ("use", [folder]) => self.uses.push(folder.clone()),
            ("replace", _) => {
                let Some(at) = words.iter().position(|word| word == "=>") else { return };
                let (path, version) = match &words[..at] {
                    [path] => (path.clone(), None),
                    [path, version] => (path.clone(), Some(version.clone())),
                    _ => return,
                };
                let by = match &words[at + 1..] {
                    [folder] => Replacement::Folder(folder.clone()),
                    [path, version] => Replacement::Module(module(path, version)),
                    _ => return,
                };
                self.replace.push(Replaced { path, version, by });
            }
            _ => {}
        }
    }

    /// The lines that matter, in one form: what is written around them does not show.
    pub(super) fn canonical(&self) -> String {
        let mut text = format!("go {}\n", self.go.as_deref().unwrap_or_default());
        for (verb, modules) in [("require", &self.require), ("exclude", &self.exclude)] {
            for module in modules {
                text.push_str(&format!("{verb} {} {}\n", module.path, module.version));
            }
        }
        for Replaced { path, version, by } in &self.replace {
            let by = match by {
                Replacement::Module(other) => format!("{} {}", other.path, other.version),
                Replacement::Folder(folder) => folder.clone(),
            };
            text.push_str(&format!("replace {path} {} => {by}\n", version.as_deref().unwrap_or_default()));
        }
        text
    }

    /// What takes the place of a module; the rule for one version is stronger than that for all.
    pub(super) fn replacement(&self, module: &ModuleVersion) -> Option<&Replacement> {
        let of = |version: Option<&String>| {
            let found = self.replace.iter().find(|r| r.path == module.path && r.version.as_ref() == version);
            found.map(|replaced| &replaced.by)
        };
        of(Some(&module.version)).or_else(|| of(None))
    }

    /// Whether all modules that a build can need are among those that are required (Go 1.17 and later).
    pub(super) fn lists_all(&self) -> bool {
        let mut numbers =
            self.go.as_deref().unwrap_or("1.16").split('.').map(|part| part.parse::<u32>().unwrap_or(0));
        (numbers.next().unwrap_or(0), numbers.next().unwrap_or(0)) >= (1, 17)
    }
}

/// The words of a line, without the quotes around them.
fn words(line: &str) -> Vec<String> {
    line.split_whitespace().map(|word| word.trim_matches(['"', '`']).to_owned()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn module(path: &str, version: &str) -> ModuleVersion {
        ModuleVersion { path: path.to_owned(), version: version.to_owned() }
    }

    #[test]
    fn lines_and_blocks_are_read() {
        let text = "module ferry.example/app // a comment\n\ngo 1.22.1\ntoolchain go1.23.0\n\
            require buoy.example/a v1.2.3 // indirect\nrequire (\n\t\"buoy.example/b\" v0.1.0\n)\n\
            replace (\n\tbuoy.example/a => ../a\n\tbuoy.example/b v0.1.0 => fork.example/b v0.1.1\n)\n\
            exclude buoy.example/c v1.0.0\nretract v1.0.1\n";
        let found = GoMod::parse(text);
        assert_eq!((found.go.as_deref(), found.toolchain.as_deref()), (Some("1.22.1"), Some("go1.23.0")));
        assert_eq!(found.require, [module("buoy.example/a", "v1.2.3"), module("buoy.example/b", "v0.1.0")]);
        assert_eq!(found.exclude, [module("buoy.example/c", "v1.0.0")]);
        assert_eq!(found.replacement(&found.require[0]), Some(&Replacement::Folder("../a".to_owned())));
        let fork = Replacement::Module(module("fork.example/b", "v0.1.1"));
        assert_eq!(found.replacement(&found.require[1]), Some(&fork));
        assert_eq!(found.replacement(&module("buoy.example/b", "v0.2.0")), None);
        assert!(found.lists_all());
        assert!(!GoMod::parse("module x\ngo 1.16\n").lists_all());
        assert_eq!(GoMod::parse("go 1.22\nuse (\n\t./a\n\t./b\n)\n").uses, ["./a", "./b"]);
    }
}
