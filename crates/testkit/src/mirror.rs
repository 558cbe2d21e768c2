//! Makes the archives of `demo/mirror/` from their plain sources, and the lockfiles of the demo apps.

use crate::archives::{Files, gem, npm_tarball, sha256_hex, sha512_integrity, wheel, zip_archive};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

/// Every generated file by its path in `demo/`.
pub fn generate(demo: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut out = BTreeMap::new();
    let npm = npm_packages(&demo.join("mirror/sources/npm"), &mut out);
    for (app, places) in [("timetable", &TIMETABLE[..]), ("harbourmap", &HARBOURMAP[..])] {
        out.insert(format!("{app}/package-lock.json"), package_lock(&demo.join(app), places, &npm));
    }
    let requirements = wheels(&demo.join("mirror/sources/pypi"), &mut out);
    out.insert("fares/requirements.txt".to_owned(), requirements.into_bytes());
    gems(&demo.join("mirror/sources/gem"), &mut out);
    dists(&demo.join("mirror/sources/composer"), &mut out);
    out
}

struct NpmPackage {
    manifest: Value,
    integrity: String,
}

fn npm_packages(sources: &Path, out: &mut BTreeMap<String, Vec<u8>>) -> BTreeMap<String, NpmPackage> {
    let mut packages = BTreeMap::new();
    for folder in folders(sources) {
        let files = files_in(&sources.join(&folder));
        let manifest = files.iter().find(|(p, _)| p == "package.json").expect("every package has a manifest");
        let manifest: Value = serde_json::from_slice(&manifest.1).expect("manifests are JSON");
        let (name, version) = (text(&manifest, "name"), text(&manifest, "version"));
        let archive = npm_tarball(&files);
        let base = name.rsplit('/').next().unwrap_or(&name);
        let integrity = sha512_integrity(&archive);
        out.insert(format!("mirror/npm/{name}/-/{base}-{version}.tgz"), archive);
        packages.insert(format!("{name}@{version}"), NpmPackage { manifest, integrity });
    }
    packages
}

/// Where the packages of an app are, which they are, and whether they are for development only.
type Places = [(&'static str, &'static str, bool)];

/// One package is nested because two versions of it are wanted.
const TIMETABLE: [(&str, &str, bool); 8] = [
    ("node_modules/@kestrel/flags", "@kestrel/flags@1.0.0", false),
    ("node_modules/berth", "berth@2.1.0", false),
    ("node_modules/berth/node_modules/knots", "knots@2.0.1", false),
    ("node_modules/kelp", "kelp@0.9.2", false),
    ("node_modules/knots", "knots@1.4.0", false),
    ("node_modules/lamplight", "lamplight@1.1.0", true),
    ("node_modules/tide-table", "tide-table@3.0.0", false),
    ("node_modules/tidewords", "tidewords@1.0.3", false),
];
const HARBOURMAP: [(&str, &str, bool); 1] = [("node_modules/@kestrel/flags", "@kestrel/flags@1.0.0", true)];

/// The lockfile of the app in a folder.
fn package_lock(app: &Path, places: &Places, packages: &BTreeMap<String, NpmPackage>) -> Vec<u8> {
    let manifest = fs::read(app.join("package.json")).expect("the app has a manifest");
    let manifest: Value = serde_json::from_slice(&manifest).expect("manifests are JSON");
    let mut entries = Map::new();
    let mut root = Map::new();
    for key in ["name", "version", "dependencies", "devDependencies", "engines"] {
        if let Some(value) = manifest.get(key) {
            root.insert(key.to_owned(), value.clone());
        }
    }
    entries.insert(String::new(), Value::Object(root));
    for (path, id, development) in places {
        let package = &packages[*id];
        let mut entry = Map::new();
        entry.insert("version".to_owned(), package.manifest["version"].clone());
        entry.insert("integrity".to_owned(), json!(package.integrity));
        if *development {
            entry.insert("dev".to_owned(), json!(true));
        }
        for key in ["license", "dependencies", "bin"] {
            if let Some(value) = package.manifest.get(key) {
                entry.insert(key.to_owned(), value.clone());
            }
        }
        entries.insert((*path).to_owned(), Value::Object(entry));
    }
    let lock = json!({
        "name": manifest["name"], "version": manifest["version"],
        "lockfileVersion": 3, "requires": true, "packages": entries,
    });
    let mut bytes = serde_json::to_vec_pretty(&lock).expect("values serialise");
    bytes.push(b'\n');
    bytes
}

/// Wheels with an index page for each project (PEP 503); gives the requirements that lock them.
fn wheels(sources: &Path, out: &mut BTreeMap<String, Vec<u8>>) -> String {
    let mut requirements = String::from("# Exact versions with their hashes.\n");
    for folder in folders(sources) {
        let (project, version) = folder.split_once('-').expect("folders are named PROJECT-VERSION");
        let mut files = files_in(&sources.join(&folder));
        let mut take = |name: &str| {
            let found = files.iter().position(|(p, _)| p == name).map(|at| files.remove(at).1);
            String::from_utf8(found.unwrap_or_default()).expect("metadata is UTF-8")
        };
        let (metadata, entry_points) = (take("METADATA"), take("entry_points.txt"));
        let archive = wheel(project, version, &files, &metadata, &entry_points);
        let (name, hash) = (format!("{project}-{version}-py3-none-any.whl"), sha256_hex(&archive));
        let page = format!(
            "<!DOCTYPE html>\n<title>{project}</title>\n<a href=\"{name}#sha256={hash}\" \
             data-requires-python=\"&gt;=3.9\">{name}</a>\n"
        );
        out.insert(format!("mirror/pypi/{project}/index.html"), page.into_bytes());
        out.insert(format!("mirror/pypi/{project}/{name}"), archive);
        requirements.push_str(&format!("{project}=={version} \\\n    --hash=sha256:{hash}\n"));
    }
    requirements
}

/// Gem files, and the lockfile of `bookings`.
fn gems(sources: &Path, out: &mut BTreeMap<String, Vec<u8>>) {
    let (mut specs, mut checksums) = (String::new(), String::new());
    for folder in folders(sources) {
        let (name, version) = folder.rsplit_once('-').expect("folders are named NAME-VERSION");
        let files = files_in(&sources.join(&folder));
        let texts: Vec<(&str, &str)> = files
            .iter()
            .map(|(path, bytes)| (path.as_str(), std::str::from_utf8(bytes).expect("sources are UTF-8")))
            .collect();
        let archive = gem(name, version, "licenses:\n- MIT\n", &texts);
        specs.push_str(&format!("    {name} ({version})\n"));
        checksums.push_str(&format!("  {name} ({version}) sha256={}\n", sha256_hex(&archive)));
        out.insert(format!("mirror/gem/{name}-{version}.gem"), archive);
    }
    // A gem for development only, which no image needs.
    let lock = format!(
        "GEM\n  remote: https://gems.kestrel.example/\n  specs:\n{specs}    lookout (0.2.0)\n\nPLATFORMS\n  ruby\n\n\
         DEPENDENCIES\n  berths (~> 1.3)\n  lookout\n\nCHECKSUMS\n{checksums}"
    );
    out.insert("bookings/Gemfile.lock".to_owned(), lock.into_bytes());
}

/// Archives of packages of PHP, and the lockfile of `depot`.
fn dists(sources: &Path, out: &mut BTreeMap<String, Vec<u8>>) {
    let mut packages = Vec::new();
    for folder in folders(sources) {
        let (_, version) = folder.rsplit_once('-').expect("folders are named VENDOR-NAME-VERSION");
        let files = files_in(&sources.join(&folder));
        let manifest = files.iter().find(|(path, _)| path == "composer.json").expect("every package has one");
        let mut entry: Value = serde_json::from_slice(&manifest.1).expect("manifests are JSON");
        let inside = files.iter().map(|(path, bytes)| (format!("{folder}/{path}"), bytes.clone()));
        out.insert(format!("mirror/composer/{folder}.zip"), zip_archive(&inside.collect()));
        entry["version"] = json!(version);
        entry["type"] = json!("library");
        entry["license"] = json!(["MIT"]);
        entry["dist"] = json!({ "type": "zip", "url": format!("https://packages.kestrel.example/{folder}.zip"), "shasum": "" });
        packages.push(entry);
    }
    let lock = json!({ "content-hash": "", "packages": packages, "packages-dev": [], "platform": { "php": ">=8.1" } });
    let mut bytes = serde_json::to_vec_pretty(&lock).expect("values serialise");
    bytes.push(b'\n');
    out.insert("depot/composer.lock".to_owned(), bytes);
}

fn text(manifest: &Value, key: &str) -> String {
    manifest[key].as_str().expect("manifests have names and versions").to_owned()
}

fn folders(parent: &Path) -> Vec<String> {
    let entries = fs::read_dir(parent).expect("the sources are there").flatten();
    let mut names: Vec<String> = entries.filter_map(|e| e.file_name().into_string().ok()).collect();
    names.sort();
    names
}

fn files_in(root: &Path) -> Files {
    let mut files = Vec::new();
    let mut pending = vec![root.to_owned()];
    while let Some(folder) = pending.pop() {
        for entry in fs::read_dir(&folder).expect("the sources are there").flatten() {
            let path = entry.path();
            if path.is_dir() {
                pending.push(path);
            } else {
                let name =
                    path.strip_prefix(root).expect("it was found there").to_string_lossy().into_owned();
                files.push((name, fs::read(&path).expect("the sources can be read")));
            }
        }
    }
    files.sort();
    files
}
