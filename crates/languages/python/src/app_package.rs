//! The app itself as a package, where it says that it is one (`[build-system]`, or `.` among the requirements):
//! its modules are found where they lie, and its commands are there, in the way of editable installs
//! (PEP 660). Nothing of it is built, but for a module with its version, which tools write that take the version from
//! the revision; what would have to be compiled is left to `[build]`.

use crate::environment::Environment;
use crate::parse_project;
use crate::wheel;
use content::digest::Sha256;
use content::layer::{Entry, LayerWriter};
use engine::{Action, Step, StepContext};
use engine::{Fingerprint, Recipe};
use model::error::PackageError;
use model::{Error, PackageFact, Result, Role};
use remote::packages::pypi::canonical_name;
use source::SourceTree;
use std::collections::BTreeMap;
use std::io::{self, Cursor, Write};
use toml::{Table, Value};
use zip::write::SimpleFileOptions;

/// Version of the way it is put down; part of the step's key.
const RECIPE: Recipe = Recipe::new("python app itself", 3);
/// The folder of the app in the image.
const APP: &str = "/app";

/// What the app says of itself as a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct OwnPackage {
    name: String,
    version: String,
    /// The folder of the source that its modules lie in.
    modules: String,
    /// The module with its version, which its build would write.
    version_module: Option<String>,
    /// Names with what they stand for, by groups; commands are among them.
    entry_points: BTreeMap<String, BTreeMap<String, String>>,
}

impl OwnPackage {
    /// The app as a package, if it is one; `asked` when its requirements name it.
    pub(super) fn of(tree: &SourceTree, asked: bool) -> Result<Option<Self>> {
        let Some(text) = tree.read(super::PROJECT)? else { return Ok(None) };
        let document = parse_project(&text)?;
        let nothing = Table::new();
        let table = |of: Option<&Value>| of.and_then(Value::as_table).cloned().unwrap_or_default();
        let tools = document.get("tool").and_then(Value::as_table).unwrap_or(&nothing);
        let (project, poetry) = (table(document.get("project")), table(tools.get("poetry")));
        let refuses = |tool: &str, key: &str| {
            tools.get(tool).and_then(|t| t.get(key)).and_then(Value::as_bool) == Some(false)
        };
        let declared = document.contains_key("build-system")
            && !refuses("poetry", "package-mode")
            && !refuses("uv", "package")
            && !refuses("pdm", "distribution");
        let said =
            |key: &str| project.get(key).or(poetry.get(key)).and_then(Value::as_str).map(str::to_owned);
        let Some(name) = said("name").filter(|_| declared || asked) else { return Ok(None) };
        let mut entry_points = BTreeMap::new();
        for (group, of_group) in [
            ("console_scripts", project.get("scripts")),
            ("console_scripts", poetry.get("scripts")),
            ("gui_scripts", project.get("gui-scripts")),
        ] {
            add(&mut entry_points, group, &table(of_group));
        }
        for groups in [table(project.get("entry-points")), table(poetry.get("plugins"))] {
            for (group, of_group) in &groups {
                add(&mut entry_points, group, &table(Some(of_group)));
            }
        }
        // A source as it is published says the version that its build found.
        let published = tree.read("PKG-INFO")?.unwrap_or_default();
        let found = || published.lines().find_map(|line| line.strip_prefix("Version: ")).map(str::to_owned);
        let version = said("version").or_else(found).unwrap_or_else(|| "0".to_owned());
        let modules = modules(tree, tools, &poetry);
        let version_module = version_module(tools).filter(|path| !tree.has(path));
        Ok(Some(Self { name: canonical_name(&name), version, modules, version_module, entry_points }))
    }

    /// Its commands, by name.
    pub(super) fn commands(&self) -> impl Iterator<Item = &str> {
        self.entry_points.get("console_scripts").into_iter().flatten().map(|(name, _)| name.as_str())
    }

    /// The step that puts it into the environment.
    pub(super) fn step(self, environment: &Environment) -> Step {
        let work = Own { package: self, environment: environment.clone() };
        Step::new("python app itself", Role::Support, work)
    }

    /// A wheel that only says where the modules are.
    fn wheel(&self) -> io::Result<Vec<u8>> {
        let name = self.name.replace('-', "_");
        let info = format!("{name}-{}.dist-info", self.version);
        let folder = if self.modules.is_empty() { APP.to_owned() } else { format!("{APP}/{}", self.modules) };
        let metadata = format!("Metadata-Version: 2.1\nName: {}\nVersion: {}\n", self.name, self.version);
        let listed = |(name, target): (&String, &String)| format!("{name} = {target}\n");
        let group = |(group, all): (&String, &BTreeMap<String, String>)| {
            format!("[{group}]\n{}", all.iter().map(listed).collect::<String>())
        };
        let files = [
            (format!("{name}.pth"), format!("{folder}\n")),
            (format!("{info}/METADATA"), metadata),
            (
                format!("{info}/WHEEL"),
                "Wheel-Version: 1.0\nRoot-Is-Purelib: true\nTag: py3-none-any\n".to_owned(),
            ),
            (format!("{info}/entry_points.txt"), self.entry_points.iter().map(group).collect()),
        ];
        let record: String = files.iter().map(|(path, _)| format!("{path},,\n")).collect();
        let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
        let plain = SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
        for (path, text) in files.into_iter().chain([(format!("{info}/RECORD"), record)]) {
            archive.start_file(path, plain)?;
            archive.write_all(text.as_bytes())?;
        }
        Ok(archive.finish()?.into_inner())
    }
}

/// Where tools that take the version from the revision are told to write it: a Python file of the source.
fn version_module(tools: &Table) -> Option<String> {
    const PLACES: [(&[&str], &[&str]); 4] = [
        (&["setuptools_scm"], &["version_file", "write_to"]),
        (&["hatch", "build", "hooks", "vcs"], &["version-file"]),
        (&["pdm", "version"], &["write_to"]),
        (&["versioningit", "write"], &["file"]),
    ];
    let said = PLACES.iter().find_map(|(tables, keys)| {
        let mut tables = tables.iter();
        let first = tools.get(*tables.next()?)?;
        let table = tables.try_fold(first, |table, name| table.get(*name))?;
        keys.iter().find_map(|key| table.get(*key)?.as_str())
    })?;
    let is_inside = said.split('/').all(|part| !part.is_empty() && part != "..");
    (said.ends_with(".py") && is_inside).then(|| said.trim_start_matches("./").to_owned())
}

/// What such a module says, by the names that these tools use.
fn version_text(version: &str) -> String {
    // What no version has would have to be escaped.
    let version: String =
        version.chars().filter(|c| c.is_ascii_alphanumeric() || "._+!-".contains(*c)).collect();
    let part = |part: &str| {
        if part.bytes().all(|b| b.is_ascii_digit()) { part.to_owned() } else { format!("{part:?}") }
    };
    let parts: Vec<String> = version.split(['.', '+']).filter(|part| !part.is_empty()).map(part).collect();
    format!(
        "__version__ = version = {version:?}\n__version_tuple__ = version_tuple = ({},)\n\
         __commit_id__ = commit_id = None\n",
        parts.join(", ")
    )
}

/// Adds a group of entry points; a tool may say them as tables.
fn add(all: &mut BTreeMap<String, BTreeMap<String, String>>, group: &str, of_group: &Table) {
    let target = |value: &Value| -> Option<String> {
        let said = value.as_str().or_else(|| value.get("reference").or(value.get("callable"))?.as_str());
        said.map(str::to_owned)
    };
    for (name, value) in of_group {
        if let Some(target) = target(value) {
            all.entry(group.to_owned()).or_default().insert(name.clone(), target);
        }
    }
}

/// The folder that modules lie in: as the tool that builds the package is told, else `src` where there is one.
fn modules(tree: &SourceTree, tools: &Table, poetry: &Table) -> String {
    let of_poetry = || poetry.get("packages")?.as_array()?.iter().find_map(|p| p.get("from")?.as_str());
    let of_setuptools = || {
        let folders = tools.get("setuptools")?.get("package-dir")?;
        folders.get("")?.as_str()
    };
    let has_modules = |folder: &str| {
        let inside = format!("{folder}/");
        tree.files().keys().any(|path| path.starts_with(&inside) && path.ends_with(".py"))
    };
    let said = of_poetry().or_else(of_setuptools).map(|folder| folder.trim_matches(['.', '/']));
    said.or(Some("src")).filter(|folder| has_modules(folder)).unwrap_or_default().to_owned()
}

/// The step's work.
struct Own {
    package: OwnPackage,
    environment: Environment,
}

impl Action for Own {
    fn fingerprint(&self) -> Fingerprint {
        let Self { package, environment } = self;
        let OwnPackage { name, version, modules, version_module, entry_points } = package;
        let values = [
            ("package", format!("{name} {version} in {modules:?}")),
            ("entry points", format!("{entry_points:?}")),
            ("version module", version_module.clone().unwrap_or_default()),
        ];
        Fingerprint::of(RECIPE)
            .with_recipe(wheel::RECIPE)
            .values("app", values)
            .input("runtime", environment.parts())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, _cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let label = format!("{} {}", self.package.name, self.package.version);
        let bad = |detail: String| Error::Package(PackageError::Damaged { package: label.clone(), detail });
        let wheel = self.package.wheel().map_err(|error| bad(error.to_string()))?;
        self.environment.add_wheel(layer, &Sha256::of(&wheel), &label, Cursor::new(wheel))?;
        if let Some(path) = &self.package.version_module {
            let (path, text) = (format!("{}/{path}", &APP[1..]), version_text(&self.package.version));
            layer.part::<Error>(|tar| {
                for (at, _) in path.match_indices('/') {
                    tar.entry(&Entry::folder(&path[..at]))?;
                }
                Ok(tar.file(&Entry::file(&path, text.len() as u64, false), &mut text.as_bytes())?)
            })?;
        }
        Ok(Vec::new())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    fn own(project: &str, files: &[&str]) -> Option<OwnPackage> {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join("pyproject.toml"), project).unwrap();
        for file in files {
            fs::create_dir_all(folder.path().join(file).parent().unwrap()).unwrap();
            fs::write(folder.path().join(file), "").unwrap();
        }
        let opened = testkit::tree::tree_of(folder.path());
        OwnPackage::of(&opened, false).unwrap()
    }

    #[test]
    fn an_app_with_a_build_system_is_a_package_of_its_own() {
        let system = "[build-system]\nrequires = ['hatchling']\n";
        let project =
            "[project]\nname = 'Fares_App'\nversion = '1.4'\n[project.scripts]\nfares = 'fares.cli:main'\n";
        let found = own(&format!("{project}{system}"), &["src/fares/__init__.py"]).unwrap();
        assert_eq!(
            (found.name.as_str(), found.version.as_str(), found.modules.as_str()),
            ("fares-app", "1.4", "src")
        );
        assert_eq!(found.commands().collect::<Vec<_>>(), ["fares"]);
        let poetry = "[tool.poetry]\nname = 'fares'\npackages = [{ include = 'fares', from = 'lib' }]\n\
            [tool.poetry.scripts]\nfares = { reference = 'fares.cli:main', type = 'console' }\n";
        let found = own(&format!("{poetry}{system}"), &["lib/fares/cli.py"]).unwrap();
        assert_eq!((found.version.as_str(), found.modules.as_str()), ("0", "lib"));
        assert_eq!(found.entry_points["console_scripts"]["fares"], "fares.cli:main");
        assert_eq!(own(project, &["src/fares/__init__.py"]), None);
        let scm = "[tool.setuptools_scm]\nversion_file = 'src/fares/_version.py'\n";
        let found = own(&format!("{project}{system}{scm}"), &["src/fares/__init__.py"]).unwrap();
        assert_eq!(found.version_module.as_deref(), Some("src/fares/_version.py"));
        let there = ["src/fares/__init__.py", "src/fares/_version.py"];
        assert_eq!(own(&format!("{project}{system}{scm}"), &there).unwrap().version_module, None);
        let outside = "[tool.hatch.build.hooks.vcs]\nversion-file = '../_version.py'\n";
        assert_eq!(own(&format!("{project}{system}{outside}"), &[]).unwrap().version_module, None);
        assert_eq!(own(&format!("{project}{system}[tool.uv]\npackage = false\n"), &[]), None);
    }

    #[test]
    fn a_version_is_written_as_the_tools_write_it() {
        let text = version_text("2.47.0.dev1");
        assert!(text.contains("version = \"2.47.0.dev1\"\n"), "{text}");
        assert!(text.contains("version_tuple = (2, 47, 0, \"dev1\",)\n"), "{text}");
    }
}
