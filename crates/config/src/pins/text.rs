//! Pins as the text of `shtetl.lock`.

use super::{Pins, ResolvedPackage};
use model::error::SurveyError;
use model::fetched::FetchedAnswer;
use model::pins::{ImagePin, PackagePin, PinnedSet};
use model::{Error, Place, Result, files};
use std::fmt::Write;

impl Pins {
    /// The text of the file: one line per package, so that a change shows as what it is.
    pub fn text(&self) -> Result<String> {
        let mut text = String::from(
            "# Everything this app takes from outside, pinned. Commit this file; `shtetl build --update` moves the pins.\n",
        );
        let mut line = |content: std::fmt::Arguments<'_>| {
            // Writing to a text cannot fail.
            let _ = text.write_fmt(content);
            text.push('\n');
        };
        line(format_args!("version = {}", self.version));
        line(format_args!("base = {}", quoted(&self.base)));
        if !self.suites.is_empty() {
            line(format_args!("\n[suites]"));
        }
        for (name, pin) in &self.suites {
            let (date, sha256) = (quoted(&pin.date), quoted(&pin.sha256));
            line(format_args!("{name} = {{ date = {date}, sha256 = {sha256} }}"));
        }
        for (platform, sets) in &self.platforms {
            for (name, set) in sets {
                line(format_args!("\n[platforms.{}.{name}]\n{}", quoted(platform), lines(set)));
            }
        }
        for (platform, set) in &self.build {
            line(format_args!("\n[build.{}]\n{}", quoted(platform), lines(set)));
        }
        for (platform, runtimes) in &self.runtimes {
            line(format_args!("\n[runtimes.{}]", quoted(platform)));
            for (name, exact) in runtimes {
                let [package, version, integrity] =
                    [&exact.package, &exact.version, &exact.integrity].map(|t| quoted(t));
                line(format_args!(
                    "{name} = {{ package = {package}, version = {version}, integrity = {integrity} }}"
                ));
            }
        }
        for (platform, ImagePin { manifest, runtimes }) in &self.images {
            line(format_args!("\n[images.{}]", quoted(platform)));
            line(format_args!("manifest = {}", quoted(manifest)));
            for (name, carried) in runtimes {
                let [version, program, said] =
                    [&carried.version, &carried.program, &carried.said].map(|t| quoted(t));
                line(format_args!(
                    "runtimes.{name} = {{ version = {version}, program = {program}, said = {said} }}"
                ));
            }
        }
        for (kind, hashes) in &self.hashes {
            line(format_args!("\n[hashes.{}]", quoted(kind)));
            for (package, hash) in hashes {
                line(format_args!("{} = {}", quoted(package), quoted(hash)));
            }
        }
        for (language, sets) in &self.resolved {
            for (target, set) in sets {
                let packages = set.packages.iter().map(package_line).collect::<Result<String>>()?;
                line(format_args!(
                    "\n[resolved.{language}.{}]\nasked = {}\npackages = [\n{packages}]",
                    quoted(target),
                    quoted(&set.asked)
                ));
            }
        }
        for (step, set) in &self.fetched {
            let answers: String = set.answers.iter().map(answer_line).collect();
            line(format_args!(
                "\n[fetched.{}]\nasked = {}\nanswers = [\n{answers}]",
                quoted(step),
                quoted(&set.asked)
            ));
        }
        Ok(text)
    }
}

/// A resolved package as a line.
fn package_line(package: &ResolvedPackage) -> Result<String> {
    let value = toml::Value::try_from(package).map_err(|error| {
        let detail = format!("{} cannot be pinned: {error}", package.name);
        Error::Survey(SurveyError::Malformed { place: Place::new(files::PINS, None), detail })
    })?;
    Ok(format!("  {value},\n"))
}

/// What one path led to, as a line.
fn answer_line(answer: &FetchedAnswer) -> String {
    let (from, path) = (quoted(&answer.from), quoted(&answer.path));
    match &answer.sha256 {
        Some(sha256) => {
            let (size, sha256) = (answer.size, quoted(sha256));
            format!("  {{ from = {from}, path = {path}, size = {size}, sha256 = {sha256} }},\n")
        }
        None => format!("  {{ from = {from}, path = {path} }},\n"),
    }
}

/// The lines of a set, one per package.
fn lines(set: &PinnedSet) -> String {
    let asked: Vec<String> = set.asked.iter().map(|name| quoted(name)).collect();
    let packages: String = set.packages.iter().map(|package| format!("  {},\n", inline(package))).collect();
    format!("asked = [{}]\npackages = [\n{packages}]", asked.join(", "))
}

fn inline(package: &PackagePin) -> String {
    let [name, version, architecture, file, sha256] =
        [&package.name, &package.version, &package.architecture, &package.file, &package.sha256]
            .map(|t| quoted(t));
    let security = if package.security { ", security = true" } else { "" };
    format!(
        "{{ name = {name}, version = {version}, architecture = {architecture}, file = {file}, size = {}, sha256 = {sha256}{security} }}",
        package.size
    )
}

fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}
