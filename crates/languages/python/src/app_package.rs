//! The app itself as a package, where it says that it is one (`[build-system]`, or `.` among the requirements):
//! its modules are found where they lie, and its commands are there, in the way of editable installs
//! (PEP 660). Nothing of it is built; what would have to be compiled is left to `[build]`.

use crate::environment::Environment;
use crate::parse_project;
use crate::wheel;
use content::digest::Sha256;
use content::layer::LayerWriter;
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
const RECIPE: Recipe = Recipe::new("python app itself", 2);
/// The folder of the app in the image.
const APP: &str = "/app";

/// What the app says of itself as a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct OwnPackage {
    name: String,
    version: String,
    /// The folder of the source that its modules lie in.
    modules: String,
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
        let version = said("version").unwrap_or_else(|| "0".to_owned());
        let modules = modules(tree, tools, &poetry);
        Ok(Some(Self { name: canonical_name(&name), version, modules, entry_points }))
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
        let Self { package: OwnPackage { name, version, modules, entry_points }, environment } = self;
        let values = [
            ("package", format!("{name} {version} in {modules:?}")),
            ("entry points", format!("{entry_points:?}")),
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
        assert_eq!(own(&format!("{project}{system}[tool.uv]\npackage = false\n"), &[]), None);
    }
}
