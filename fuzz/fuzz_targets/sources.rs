//! Everything that an app's folder may say: manifests, lockfiles of all tools, configuration, code, dotfiles.
#![no_main]

use config::Choice;
use content::store::Store;
use libfuzzer_sys::fuzz_target;
use source::Asked;
use std::fs;
use std::sync::OnceLock;
use workshop::buildpacks::Buildpacks;

/// A file with other files that lead to its being read.
const FILES: [(&str, &[(&str, &str)]); 45] = [
    ("package.json", &[]),
    ("package-lock.json", &[("package.json", "{\"dependencies\":{\"pier\":\"1\"}}")]),
    ("npm-shrinkwrap.json", &[("package.json", "{\"dependencies\":{\"pier\":\"1\"}}")]),
    ("yarn.lock", &[("package.json", "{\"dependencies\":{\"pier\":\"1\"}}")]),
    ("pnpm-lock.yaml", &[("package.json", "{\"dependencies\":{\"pier\":\"1\"}}")]),
    ("pnpm-workspace.yaml", &[("package.json", "{\"dependencies\":{\"pier\":\"1\"}}")]),
    ("bun.lock", &[("package.json", "{\"dependencies\":{\"pier\":\"1\"}}")]),
    (".nvmrc", &[("package.json", "{}")]),
    (".tool-versions", &[("package.json", "{}")]),
    (".npmrc", &[("package.json", "{}")]),
    ("server.js", &[("package.json", "{\"scripts\":{\"start\":\"node server.js\"}}")]),
    ("index.mjs", &[("package.json", "{\"scripts\":{\"start\":\"node index.mjs\"}}")]),
    ("vite.config.ts", &[("package.json", "{\"scripts\":{\"build\":\"vite build\"},\"devDependencies\":{\"vite\":\"5\"}}")]),
    ("angular.json", &[("package.json", "{\"dependencies\":{\"@angular/core\":\"17\"}}")]),
    ("requirements.txt", &[("app.py", "")]),
    ("pyproject.toml", &[("app.py", "")]),
    ("uv.lock", &[("pyproject.toml", "[project]\nname=\"a\"\ndependencies=[\"horn\"]")]),
    ("poetry.lock", &[("pyproject.toml", "[tool.poetry]\nname=\"a\"\n[tool.poetry.dependencies]\nhorn=\"1\"")]),
    ("pdm.lock", &[("pyproject.toml", "[project]\nname=\"a\"\ndependencies=[\"horn\"]")]),
    ("pylock.toml", &[("pyproject.toml", "[project]\nname=\"a\"\ndependencies=[\"horn\"]")]),
    ("Pipfile", &[("app.py", "")]),
    ("Pipfile.lock", &[("Pipfile", "[packages]\nhorn=\"*\"")]),
    ("setup.py", &[]),
    ("setup.cfg", &[("setup.py", "")]),
    ("app.py", &[("requirements.txt", "flask\ngunicorn\n")]),
    ("manage.py", &[("requirements.txt", "django\ngunicorn\n")]),
    (".python-version", &[("app.py", "")]),
    ("runtime.txt", &[("app.py", "")]),
    ("Gemfile", &[]),
    ("Gemfile.lock", &[("Gemfile", "gem 'rack'")]),
    ("config.ru", &[("Gemfile", "")]),
    ("composer.json", &[("index.php", "")]),
    ("composer.lock", &[("composer.json", "{\"require\":{\"a/b\":\"1\"}}")]),
    ("index.php", &[]),
    ("pom.xml", &[]),
    ("build.gradle", &[]),
    ("go.mod", &[]),
    ("shtetl.toml", &[("index.html", "")]),
    ("shtetl.lock", &[("index.html", "")]),
    (".gitignore", &[("index.html", "")]),
    ("go.sum", &[("go.mod", "module quay\n\ngo 1.24\n\nrequire example.test/horn v1.0.0\n"), ("main.go", "package main\n")]),
    ("main.go", &[("go.mod", "module quay\n\ngo 1.24\n")]),
    ("development.ini", &[("setup.py", "setup(name='quay', install_requires=['pyramid'])")]),
    ("server.py", &[("requirements.txt", "flask\n")]),
    ("src/main/java/Main.java", &[]),
];

fn store() -> &'static Store {
    static STORE: OnceLock<Store> = OnceLock::new();
    STORE.get_or_init(|| Store::open(&std::env::temp_dir().join("shtetl-fuzz-store")).unwrap())
}

fuzz_target!(|bytes: &[u8]| {
    let Some((first, bytes)) = bytes.split_first() else { return };
    let (name, others) = FILES[usize::from(*first) % FILES.len()];
    let folder = tempfile::tempdir().unwrap();
    for (other, text) in others {
        fs::write(folder.path().join(other), text).unwrap();
    }
    fs::create_dir_all(folder.path().join(name).parent().unwrap()).unwrap();
    fs::write(folder.path().join(name), bytes).unwrap();
    let asked = Asked::of(folder.path());
    let choice = Choice { rules: None, variant: None, values: Vec::new() };
    let _ = workshop::app::look(&asked, &choice, &Buildpacks::built_in(), store(), 1);
});
