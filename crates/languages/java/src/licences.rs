//! Licences of artifacts, as their project files declare them.

use crate::repository::Coordinates;
use content::store::Store;
use engine::StepContext;
use gateway::{Source, provide};
use model::fetched::FetchedAnswer;
use roxmltree::{Document, Node};
use std::collections::BTreeMap;
use std::fs;

/// How far up parents are looked at.
const HIGHEST: usize = 8;

/// The project files of a record.
pub(crate) struct ProjectFiles {
    by_path: BTreeMap<String, FetchedAnswer>,
    sources: Vec<Source>,
}

impl ProjectFiles {
    /// Those among `answers`, which come from `sources`.
    pub fn of(answers: &[FetchedAnswer], sources: &[Source]) -> Self {
        let files = answers.iter().filter(|answer| answer.sha256.is_some() && answer.path.ends_with(".pom"));
        let by_path = files.map(|answer| (answer.path.clone(), answer.clone())).collect();
        Self { by_path, sources: sources.to_vec() }
    }

    /// What an artifact, or the nearest of its parents that says it, declares.
    pub fn licence(&self, of: &Coordinates, store: &Store, cx: &StepContext<'_>) -> Option<String> {
        let Coordinates { group, artifact, version, .. } = of;
        let mut path = path_of(group, artifact, version);
        for _ in 0..HIGHEST {
            let text = self.text(&path, store, cx)?;
            let document = Document::parse(&text).ok()?;
            let project = document.root_element();
            let declared = declared(project);
            if declared.is_some() {
                return declared;
            }
            let parent = child(project, "parent")?;
            let value = |name| child(parent, name)?.text().map(str::trim);
            path = path_of(value("groupId")?, value("artifactId")?, value("version")?);
        }
        None
    }

    fn text(&self, path: &str, store: &Store, cx: &StepContext<'_>) -> Option<String> {
        let answer = self.by_path.get(path)?;
        let source = self.sources.iter().find(|source| source.kind == answer.from)?;
        let (digest, _) = provide(answer, &source.address, cx.fetcher, store).ok()?;
        fs::read_to_string(store.blob_path(digest)).ok()
    }
}

fn path_of(group: &str, artifact: &str, version: &str) -> String {
    format!("{}/{artifact}/{version}/{artifact}-{version}.pom", group.replace('.', "/"))
}

/// The names under `licenses`; several are a choice (the POM reference, "Licenses").
fn declared(project: Node<'_, '_>) -> Option<String> {
    let all = child(project, "licenses")?.children().filter(|node| node.tag_name().name() == "license");
    let names = all.filter_map(|licence| child(licence, "name")?.text().map(str::trim));
    let names: Vec<&str> = names.filter(|name| !name.is_empty()).collect();
    (!names.is_empty()).then(|| names.join(" OR "))
}

fn child<'a, 'i>(node: Node<'a, 'i>, name: &str) -> Option<Node<'a, 'i>> {
    node.children().find(|child| child.tag_name().name() == name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_names_that_a_project_file_gives_are_declared() {
        let of = |text: &str| declared(Document::parse(text).unwrap().root_element());
        let two = "<project><licenses><license><name> MIT </name></license>\
                   <license><name>EPL 2.0</name></license></licenses></project>";
        assert_eq!(of(two).as_deref(), Some("MIT OR EPL 2.0"));
        assert_eq!(of("<project><licenses/></project>"), None);
    }
}
