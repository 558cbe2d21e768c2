//! What an app asks for: `requirements.txt` with the files that it names, or `pyproject.toml`.

use crate::file_names::{WheelName, file_of, sdist_name_of, version_of};
use crate::index_options::Terms;
use crate::locked::{LockedPackage, Origin};
use crate::need::{Need, need, server_of};
use crate::sdist::SourceFacts;
use crate::target::Target;
use crate::{EXTRAS, GROUPS};
use content::digest::Sha256;
use model::OptionValue;
use model::error::SurveyError;
use model::{BuildpackOptions, Error, Place, Result};
use pep440_rs::{Operator, Version};
use pep508_rs::VersionOrUrl;
use remote::Integrity;
use remote::packages::pypi;
use source::SourceTree;

/// Everything that is asked for, and how.
#[derive(Debug, Default)]
pub(super) struct Asked {
    pub(super) wanted: Vec<Wanted>,
    /// Narrow down what is chosen, and ask for nothing.
    pub(super) constraints: Vec<Wanted>,
    /// Options for all packages.
    pub(super) terms: Terms,
    /// Whether to accept pre-releases.
    pub(super) early: bool,
    /// Whether the app itself is asked for, as a package.
    pub(super) itself: bool,
}

/// One requirement.
#[derive(Debug)]
pub(super) struct Wanted {
    pub(super) need: Need,
    pub(super) hashes: Vec<String>,
    /// Where it comes from, if from no index.
    pub(super) origin: Option<Origin>,
    /// What tells that origin: where a folder of the source is meant, what says its needs.
    pub(super) stands_for: String,
    pub(super) place: Place,
}

/// Files that name each other deeper than this name each other in a circle.
const DEEPEST: usize = 16;

impl Asked {
    /// Reads the requirements in files of the source that `by` names, and in the files that they name.
    pub(super) fn of_files(tree: &SourceTree, files: &[String], by: &str) -> Result<Self> {
        let mut asked = Self::default();
        for file in files {
            asked.read(tree, file, &Place::new(by, None), false, 0)?;
        }
        Ok(asked)
    }

    /// What `[project]` of `pyproject.toml` asks for, and what of its extras and groups is chosen.
    pub(super) fn of_project(text: &str, options: &BuildpackOptions) -> Result<Self> {
        let file = super::PROJECT;
        let document = super::parse_project(text)?;
        let of_tool = || document.get("tool")?.get("poetry")?.get("dependencies");
        let of_project = || document.get("project")?.get("dependencies");
        if of_tool().is_some() && of_project().is_none() {
            return Err(Error::Survey(SurveyError::Unsupported {
                place: Place::find(file, text, "[tool.poetry.dependencies]"),
                what: "a table of packages that is specific to one tool, without that tool's lockfile,"
                    .to_owned(),
                instead: "commit the lockfile, or declare the packages in [project] dependencies",
            }));
        }
        let mut asked = Self::default();
        for line in super::lock::wanted(&document, options.texts(&EXTRAS.key), options.texts(&GROUPS.key)) {
            let place = Place::find(file, text, &line);
            asked.wanted.push(Wanted::of_index(need(&line, &place)?, Vec::new(), place));
        }
        Ok(asked)
    }

    /// What `[packages]` of a `Pipfile` asks for; nothing where there is none.
    pub(super) fn of_pipfile(tree: &SourceTree) -> Result<Option<Self>> {
        let Some(text) = tree.read(super::PIPFILE)? else { return Ok(None) };
        // Errors in the file are reported where it is read for itself.
        let Ok(document) = text.parse::<toml::Table>() else { return Ok(None) };
        let table = document.get("packages").and_then(toml::Value::as_table);
        let need = |(name, value): (&String, &toml::Value)| {
            let range = value.as_str().or_else(|| value.get("version")?.as_str()).unwrap_or("*");
            let is_conditional = value.as_table().is_some_and(|t| t.contains_key("markers"));
            let range = if range == "*" { "" } else { range };
            (!is_conditional).then(|| format!("{name}{range}"))
        };
        let needs: Vec<String> = table.into_iter().flatten().filter_map(need).collect();
        let place = Place::find(super::PIPFILE, &text, "[packages]");
        Ok(Some(Self::of_needs(&needs, &place)?))
    }

    /// Requirements that stand at one place.
    pub(super) fn of_needs(needs: &[String], place: &Place) -> Result<Self> {
        let mut asked = Self::default();
        for text in needs {
            let need = need(text, place)?;
            asked.wanted.push(Wanted::of_index(need, Vec::new(), place.clone()));
        }
        Ok(asked)
    }

    fn read(&mut self, tree: &SourceTree, file: &str, by: &Place, limits: bool, depth: usize) -> Result<()> {
        let malformed = |detail: String| Error::Survey(SurveyError::Malformed { place: by.clone(), detail });
        if depth > DEEPEST {
            return Err(malformed(format!("{file} names itself")));
        }
        let text = tree.read(file)?.ok_or_else(|| malformed(format!("{file} is not in the source")))?;
        let folder = file.rsplit_once('/').map_or("", |(folder, _)| folder);
        for (line, number) in logical_lines(&text) {
            let place = Place::new(file, u32::try_from(number).ok());
            match line.strip_prefix('-') {
                Some(option) => self.option(tree, (option, folder), &place, limits, depth)?,
                None => self.line(tree, (&line, folder), place, limits)?,
            }
        }
        Ok(())
    }

    fn option(
        &mut self,
        tree: &SourceTree,
        (option, folder): (&str, &str),
        place: &Place,
        limits: bool,
        depth: usize,
    ) -> Result<()> {
        let end = option.find([' ', '=']).unwrap_or(option.len());
        let (name, value) = (&option[..end], option[end..].trim_start_matches([' ', '=']).trim());
        // The short form may stand right before its value.
        let (name, value) = match name.chars().next() {
            Some(short @ ('r' | 'c' | 'i' | 'e' | 'f')) if !name.starts_with('-') && name.len() > 1 => {
                (&name[..short.len_utf8()], &option[short.len_utf8()..])
            }
            _ => (name, value),
        };
        let beside =
            || if folder.is_empty() { value.to_owned() } else { plain(&format!("{folder}/{value}")) };
        match name {
            "r" | "-requirement" => self.read(tree, &beside(), place, limits, depth + 1)?,
            "c" | "-constraint" => self.read(tree, &beside(), place, true, depth + 1)?,
            "i" | "-index-url" => self.terms.index = Some(value.to_owned()),
            "-extra-index-url" => self.terms.further.push(value.to_owned()),
            "f" | "-find-links" => {
                self.terms.links.push(if is_url(value) { value.to_owned() } else { beside() })
            }
            "-no-index" => self.terms.no_index = true,
            "-only-binary" => self.terms.only_wheels.add(value),
            "-no-binary" => self.terms.only_sources.add(value),
            "-prefer-binary" => self.terms.prefer_wheels = true,
            "-pre" => self.early = true,
            "-require-hashes" | "-trusted-host" => {}
            "e" | "-editable" => self.line(tree, (value, folder), place.clone(), limits)?,
            _ => {
                let what = format!("the option -{name}");
                let instead = "list the packages and the index that they come from";
                return Err(Error::Survey(SurveyError::Unsupported { place: place.clone(), what, instead }));
            }
        }
        Ok(())
    }

    fn line(
        &mut self,
        tree: &SourceTree,
        (line, folder): (&str, &str),
        place: Place,
        limits: bool,
    ) -> Result<()> {
        let words: Vec<&str> = line.split_whitespace().collect();
        let end = words.iter().position(|w| w.starts_with("--")).unwrap_or(words.len());
        let requirement = words[..end].join(" ");
        // The app itself: its files are in the image, what it needs is in its own manifest.
        let (itself, extras) = requirement.split_at(requirement.find('[').unwrap_or(requirement.len()));
        if matches!(itself, "." | "./") {
            let extras = extras.trim_matches(['[', ']']).split(',').map(|extra| extra.trim().to_owned());
            let extras = extras.filter(|extra| !extra.is_empty()).collect();
            let mut options = BuildpackOptions::default();
            options.set(&EXTRAS.key, OptionValue::AddedTexts(extras));
            let project = tree.read(super::PROJECT)?.unwrap_or_default();
            self.wanted.extend(Self::of_project(&project, &options)?.wanted);
            self.itself = true;
            return Ok(());
        }
        let mut hashes: Vec<String> =
            words[end..].iter().filter_map(|w| w.strip_prefix("--hash=")).map(str::to_owned).collect();
        let wanted = match elsewhere(&requirement) {
            None => Wanted::of_index(need(&requirement, &place)?, hashes, place),
            Some(named) => {
                let fragment = named.at.split_once('#').map_or("", |(_, fragment)| fragment);
                hashes.extend(fragment.strip_prefix("sha256=").map(|hex| format!("sha256:{hex}")));
                Wanted::elsewhere(&named, tree, folder, hashes, place)?
            }
        };
        if limits {
            self.constraints.push(wanted)
        } else {
            self.wanted.push(wanted)
        }
        Ok(())
    }

    /// The packages for `target`, if every one of them has an exact version and a hash; then nothing has to
    /// be resolved.
    pub(super) fn pinned(&self, target: &Target) -> Result<Option<Vec<LockedPackage>>> {
        let here = self.wanted.iter().filter(|w| target.holds(&w.need.marker, &[]));
        let mut packages: Vec<(LockedPackage, &Place)> = Vec::new();
        for wanted in here {
            let Some(integrity) = Integrity::any_of(wanted.hashes.iter().map(String::as_str)) else {
                return Ok(None);
            };
            let name = pypi::canonical_name(wanted.need.name.as_ref());
            let (version, origin) = match (&wanted.origin, wanted.exact()) {
                (None, Some(version)) => (version, Origin::Index(None)),
                (Some(origin @ (Origin::Url(at) | Origin::Path(at))), _) => {
                    let Some(version) = version_of(&file_of(at)) else { return Ok(None) };
                    (version, origin.clone())
                }
                _ => return Ok(None),
            };
            let (integrity, files) = (Some(integrity), Vec::new());
            let package = LockedPackage {
                name,
                version,
                integrity,
                origin,
                files,
                source: None,
                withdrawn: None,
                wanted_by: Vec::new(),
                needs: Vec::new(),
            };
            packages.push((package, &wanted.place));
        }
        packages.sort_by(|(a, _), (b, _)| a.name.cmp(&b.name));
        if let Some(pair) = packages.windows(2).find(|pair| pair[0].0.name == pair[1].0.name) {
            let detail = format!("{} is listed twice", pair[0].0.name);
            return Err(Error::Survey(SurveyError::Malformed { place: pair[1].1.clone(), detail }));
        }
        Ok(Some(packages.into_iter().map(|(package, _)| package).collect()))
    }

    /// Stands for all that is asked for.
    pub(super) fn digest(&self) -> String {
        let lines = |all: &[Wanted]| -> String {
            all.iter().map(|w| format!("{}{}\n", w.need, w.stands_for)).collect()
        };
        let mut text = format!("{}-\n{}-\n{}", lines(&self.wanted), lines(&self.constraints), self.early);
        let Terms { links, no_index, only_wheels, only_sources, prefer_wheels, .. } = &self.terms;
        // Which index is asked, is not what is asked for.
        let forms = Terms {
            links: links.clone(),
            no_index: *no_index,
            only_wheels: only_wheels.clone(),
            only_sources: only_sources.clone(),
            prefer_wheels: *prefer_wheels,
            ..Terms::default()
        };
        if forms != Terms::default() {
            text.push_str(&format!("{forms:?}"));
        }
        Sha256::of(text.as_bytes()).hex()
    }

    /// The canonical names of everything that is asked for.
    pub(super) fn names(&self) -> impl Iterator<Item = String> {
        self.wanted.iter().map(|w| pypi::canonical_name(w.need.name.as_ref()))
    }

    /// The servers that what is asked for is known to bring.
    pub(super) fn servers(&self) -> impl Iterator<Item = String> {
        self.wanted.iter().filter_map(|wanted| server_of(&wanted.need)).map(str::to_owned)
    }
}

impl Wanted {
    fn of_index(need: Need, hashes: Vec<String>, place: Place) -> Self {
        Self { need, hashes, origin: None, stands_for: String::new(), place }
    }

    /// A requirement that says where its package is, seen from `folder` of the source.
    fn elsewhere(
        named: &Elsewhere<'_>,
        tree: &SourceTree,
        folder: &str,
        hashes: Vec<String>,
        place: Place,
    ) -> Result<Self> {
        let malformed =
            |detail: String| Error::Survey(SurveyError::Malformed { place: place.clone(), detail });
        let origin = Origin::of_text(named.at, folder).map_err(malformed)?;
        let mut stands_for = format!(" {}", origin.pinned());
        if let Origin::Folder(path) = &origin {
            for file in ["pyproject.toml", "setup.cfg", "setup.py"] {
                let text = tree.read(&format!("{path}/{file}"))?.unwrap_or_default();
                stands_for.push_str(&Sha256::of(text.as_bytes()).hex());
            }
        }
        let name = match named.name {
            Some(name) => name.to_owned(),
            None => {
                let found = name_at(&origin, named.at, tree)?;
                found.ok_or_else(|| malformed(format!("add the package's name: NAME @ {}", named.at)))?
            }
        };
        let marker = if named.marker.is_empty() { String::new() } else { format!(" ; {}", named.marker) };
        let need = need(&format!("{name}{}{marker}", named.extras), &place)?;
        Ok(Self { need, hashes, origin: Some(origin), stands_for, place })
    }

    /// The version, if only one is accepted.
    pub(super) fn exact(&self) -> Option<Version> {
        let Some(VersionOrUrl::VersionSpecifier(specifiers)) = &self.need.version_or_url else { return None };
        let [one] = &specifiers[..] else { return None };
        matches!(one.operator(), Operator::Equal | Operator::ExactEqual).then(|| one.version().clone())
    }
}

/// A requirement that says where its package is.
struct Elsewhere<'t> {
    name: Option<&'t str>,
    /// In brackets, or empty.
    extras: &'t str,
    at: &'t str,
    marker: &'t str,
}

/// `NAME[EXTRA] @ URL ; MARKER`, or only a URL or path with what may stand after it.
fn elsewhere(text: &str) -> Option<Elsewhere<'_>> {
    let (whole, marker) = text.split_once(" ;").or(text.split_once("; ")).unwrap_or((text, ""));
    let (whole, marker) = (whole.trim(), marker.trim());
    let is_name = |name: &str| name.chars().all(|c| c.is_alphanumeric() || "-_.[], ".contains(c));
    if let Some((name, at)) = whole.split_once('@').filter(|(name, _)| is_name(name)) {
        let (name, extras) = name.trim().split_at(name.find('[').unwrap_or(name.trim().len()));
        return Some(Elsewhere { name: Some(name.trim()), extras, at: at.trim(), marker });
    }
    let is_url = ["git+", "https://", "http://", "file:"].iter().any(|scheme| whole.starts_with(scheme));
    let is_path =
        whole.starts_with(['.', '/']) || [".whl", ".tar.gz", ".zip"].iter().any(|e| whole.ends_with(e));
    if !is_url && !is_path {
        return None;
    }
    let (at, extras) = match whole.find('[').filter(|_| whole.ends_with(']')) {
        Some(bracket) => whole.split_at(bracket),
        None => (whole, ""),
    };
    Some(Elsewhere { name: None, extras, at, marker })
}

/// The name of the package at an origin, as far as it can be told without fetching anything.
fn name_at(origin: &Origin, at: &str, tree: &SourceTree) -> Result<Option<String>> {
    let of_file = |file: &str| {
        let wheel = WheelName::parse(file).map(|wheel| wheel.project);
        wheel.or_else(|| sdist_name_of(file).map(|(name, _)| name))
    };
    Ok(match origin {
        Origin::Url(at) | Origin::Path(at) => of_file(&file_of(at)),
        Origin::Folder(path) => SourceFacts::of_folder(&tree.root().join(path))?.name,
        Origin::Commit { .. } => {
            let (_, fragment) = at.split_once('#').unwrap_or(("", ""));
            fragment.split('&').find_map(|part| part.strip_prefix("egg=")).map(str::to_owned)
        }
        Origin::Index(_) => None,
    })
}

fn is_url(text: &str) -> bool {
    text.starts_with("https://") || text.starts_with("http://")
}

/// A path without steps back.
fn plain(path: &str) -> String {
    remote::without_steps_back(std::path::Path::new(path)).display().to_string()
}

/// Lines without comments, those that end in a backslash joined, each with its first number (from 1).
fn logical_lines(text: &str) -> Vec<(String, usize)> {
    let mut lines = Vec::new();
    let mut open: Option<(String, usize)> = None;
    for (index, line) in text.lines().enumerate() {
        let comment = if line.starts_with('#') { Some(0) } else { line.find(" #") };
        let line = comment.map_or(line, |at| &line[..at]).trim();
        let (part, goes_on) = match line.strip_suffix('\\') {
            Some(part) => (part, true),
            None => (line, false),
        };
        let (whole, _) = open.get_or_insert_with(|| (String::new(), index + 1));
        whole.push_str(part);
        whole.push(' ');
        if !goes_on {
            lines.extend(open.take());
        }
    }
    lines.extend(open);
    lines.into_iter().map(|(l, n)| (l.trim().to_owned(), n)).filter(|(l, _)| !l.is_empty()).collect()
}
