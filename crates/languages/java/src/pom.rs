//! Project files of Maven (the POM reference), as far as they say what is built and how it starts.

use model::error::SurveyError;
use model::{Error, Place, Result, in_folder};
use roxmltree::{Document, Node};
use source::SourceTree;
use std::collections::BTreeMap;

/// The name of the file.
pub(crate) const POM: &str = "pom.xml";
/// How deep properties may refer to each other.
const DEEPEST: usize = 8;

/// A value with the line that says it.
pub(crate) type Said = (String, u32);

/// A plugin or a dependency.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Item {
    pub artifact: String,
    /// As it is written; empty where something else says it.
    pub version: String,
    pub scope: String,
    pub line: u32,
    /// Values of its configuration, by the name of the innermost element; the first one counts.
    pub settings: BTreeMap<String, Said>,
}

/// One project file.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Pom {
    /// Its path from the root of the source.
    pub file: String,
    /// The folder that it is in.
    pub folder: String,
    pub artifact: String,
    pub packaging: String,
    pub parent: Option<Parent>,
    /// Folders of its modules.
    pub modules: Vec<String>,
    pub properties: BTreeMap<String, Said>,
    pub plugins: Vec<Item>,
    pub dependencies: Vec<Item>,
    /// Dependencies of which it says the version only, for those who have them.
    pub managed: Vec<Item>,
}

/// What a project file inherits from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Parent {
    pub artifact: String,
    pub version: String,
    /// Its folder, where that is in the source.
    pub folder: Option<String>,
}

/// All project files that the one at the root leads to, by folder.
#[derive(Debug, Clone, Default)]
pub(crate) struct Poms(pub BTreeMap<String, Pom>);

impl Poms {
    /// Reads them; nothing where there is none at the root.
    pub fn read(tree: &SourceTree) -> Result<Option<Self>> {
        let mut all = BTreeMap::new();
        let mut pending = vec![String::new()];
        while let Some(folder) = pending.pop() {
            let file = in_folder(&folder, POM);
            if all.contains_key(&folder) {
                continue;
            }
            let Some(text) = tree.read(&file)? else { continue };
            let pom = Pom::parse(&file, &folder, &text)?;
            pending.extend(pom.modules.iter().cloned());
            all.insert(folder, pom);
        }
        Ok((!all.is_empty()).then_some(Self(all)))
    }

    /// A project file with those that it inherits from, itself first.
    pub fn lineage<'p>(&'p self, pom: &'p Pom) -> Vec<&'p Pom> {
        let mut line = vec![pom];
        let folder_of = |pom: &'p Pom| pom.parent.as_ref()?.folder.as_ref();
        while let Some(parent) = line.last().and_then(|pom| self.0.get(folder_of(pom)?)) {
            if line.contains(&parent) {
                break;
            }
            line.push(parent);
        }
        line
    }

    /// The value of a property, with the file that says it.
    pub fn property<'p>(&'p self, pom: &'p Pom, name: &str) -> Option<(String, Place)> {
        let said = self.lineage(pom).into_iter().find_map(|pom| Some((pom, pom.properties.get(name)?)));
        let (of, (value, line)) = said?;
        Some((self.filled(pom, value, DEEPEST)?, Place::new(of.file.as_str(), Some(*line))))
    }

    /// A value of a plugin's configuration, with the file that says it.
    pub fn plugin_value<'p>(&'p self, pom: &'p Pom, plugin: &str, name: &str) -> Option<(String, Place)> {
        let said = self.lineage(pom).into_iter().find_map(|pom| {
            let plugin = pom.plugins.iter().find(|item| item.artifact == plugin)?;
            Some((pom, plugin.settings.get(name)?))
        });
        let (of, (value, line)) = said?;
        Some((self.filled(pom, value, DEEPEST)?, Place::new(of.file.as_str(), Some(*line))))
    }

    /// A plugin that builds this project, with its place.
    pub fn plugin<'p>(&'p self, pom: &'p Pom, artifact: &str) -> Option<Place> {
        self.lineage(pom).into_iter().find_map(|pom| {
            let item = pom.plugins.iter().find(|item| item.artifact == artifact)?;
            Some(Place::new(pom.file.as_str(), Some(item.line)))
        })
    }

    /// A dependency that the project has when it runs, by a beginning of its name.
    pub fn dependency<'p>(&'p self, pom: &'p Pom, beginning: &str) -> Option<(&'p str, Place)> {
        self.lineage(pom).into_iter().find_map(|pom| {
            let is_one = |item: &&Item| item.artifact.starts_with(beginning) && item.scope != "test";
            let item = pom.dependencies.iter().find(is_one)?;
            Some((item.artifact.as_str(), Place::new(pom.file.as_str(), Some(item.line))))
        })
    }

    /// The version of a framework whose artifacts begin so: that of the parent, the list of versions, or the artifact that
    /// the project files name.
    pub fn version(&self, pom: &Pom, beginning: &str) -> Option<String> {
        self.lineage(pom).into_iter().find_map(|of| {
            let parent = of.parent.iter().map(|parent| (&parent.artifact, &parent.version));
            let items = of.managed.iter().chain(&of.dependencies).map(|item| (&item.artifact, &item.version));
            let mut named = parent.chain(items);
            let (_, version) =
                named.find(|(artifact, version)| artifact.starts_with(beginning) && !version.is_empty())?;
            self.filled(pom, version, DEEPEST)
        })
    }

    /// The text with its properties put in; nothing where one is not known.
    fn filled(&self, pom: &Pom, text: &str, deepest: usize) -> Option<String> {
        let Some((before, rest)) = text.split_once("${") else { return Some(text.to_owned()) };
        let (name, after) = rest.split_once('}')?;
        let value = match name {
            "project.artifactId" | "artifactId" => pom.artifact.clone(),
            _ => {
                let of = self.lineage(pom).into_iter().find_map(|pom| pom.properties.get(name))?;
                self.filled(pom, &of.0, deepest.checked_sub(1)?)?
            }
        };
        self.filled(pom, &format!("{before}{value}{after}"), deepest.checked_sub(1)?)
    }
}

impl Pom {
    /// Reads the text of a project file.
    pub fn parse(file: &str, folder: &str, text: &str) -> Result<Self> {
        let malformed = |error: roxmltree::Error| {
            let place = Place::new(file, Some(error.pos().row));
            Error::Survey(SurveyError::Malformed { place, detail: error.to_string() })
        };
        let document = Document::parse(text).map_err(malformed)?;
        let root = document.root_element();
        let value = |name: &str| text_of(root, name).unwrap_or_default();
        let parent = child(root, "parent").map(|parent| {
            let path = text_of(parent, "relativePath").unwrap_or_else(|| format!("../{POM}"));
            let path = path.strip_suffix(POM).unwrap_or(&path).trim_end_matches('/').to_owned();
            let value = |name| text_of(parent, name).unwrap_or_default();
            Parent { artifact: value("artifactId"), version: value("version"), folder: joined(folder, &path) }
        });
        let modules = children(child(root, "modules")).filter_map(|node| joined(folder, node.text()?.trim()));
        let properties = children(child(root, "properties"))
            .map(|node| (node.tag_name().name().to_owned(), said(node)))
            .collect();
        let build = child(root, "build");
        let plugins = build.and_then(|build| child(build, "plugins"));
        let managed = child(root, "dependencyManagement").and_then(|managed| child(managed, "dependencies"));
        Ok(Self {
            file: file.to_owned(),
            folder: folder.to_owned(),
            artifact: value("artifactId"),
            packaging: Some(value("packaging")).filter(|p| !p.is_empty()).unwrap_or_else(|| "jar".to_owned()),
            parent,
            modules: modules.collect(),
            properties,
            plugins: children(plugins).map(item).collect(),
            dependencies: children(child(root, "dependencies")).map(item).collect(),
            managed: children(managed).map(item).collect(),
        })
    }
}

fn child<'a, 'i>(node: Node<'a, 'i>, name: &str) -> Option<Node<'a, 'i>> {
    node.children().find(|child| child.tag_name().name() == name)
}

fn children<'a, 'i>(node: Option<Node<'a, 'i>>) -> impl Iterator<Item = Node<'a, 'i>> {
    node.into_iter().flat_map(|node| node.children()).filter(Node::is_element)
}

fn text_of(node: Node<'_, '_>, name: &str) -> Option<String> {
    Some(child(node, name)?.text().unwrap_or_default().trim().to_owned())
}

fn said(node: Node<'_, '_>) -> Said {
    let line = node.document().text_pos_at(node.range().start).row;
    (node.text().unwrap_or_default().trim().to_owned(), line)
}

fn item(node: Node<'_, '_>) -> Item {
    let is_value = |inner: &Node<'_, '_>| inner.is_element() && !inner.children().any(|n| n.is_element());
    let mut settings = BTreeMap::new();
    let named = ["configuration", "executions"].into_iter().filter_map(|name| child(node, name));
    for value in named.flat_map(|part| part.descendants()).filter(is_value) {
        settings.entry(value.tag_name().name().to_owned()).or_insert_with(|| said(value));
    }
    Item {
        artifact: text_of(node, "artifactId").unwrap_or_default(),
        version: text_of(node, "version").unwrap_or_default(),
        scope: text_of(node, "scope").unwrap_or_default(),
        line: said(node).1,
        settings,
    }
}

/// A folder seen from another one; nothing where it is outside of the source.
fn joined(folder: &str, path: &str) -> Option<String> {
    let mut parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()?),
            // A module may be named by its file.
            POM => {}
            part => parts.push(part),
        }
    }
    Some(parts.join("/"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn poms(files: &[(&str, &str)]) -> Poms {
        let folder = tempfile::tempdir().unwrap();
        for (path, text) in files {
            let path = folder.path().join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        }
        Poms::read(&testkit::tree::tree_of(folder.path())).unwrap().unwrap()
    }

    #[test]
    fn modules_inherit_properties_and_plugins() {
        let parent = "<project><artifactId>fleet</artifactId><packaging>pom</packaging>
<properties><java.version>${its.java}</java.version><its.java>21</its.java></properties>
<modules><module>pier</module><module>../outside</module></modules>
<build><plugins><plugin><artifactId>maven-shade-plugin</artifactId><executions><execution><configuration>
<transformers><transformer><mainClass>ferry.Main</mainClass></transformer></transformers>
</configuration></execution></executions></plugin></plugins></build></project>";
        let pier = "<project xmlns=\"http://maven.example/POM/4.0.0\">
<parent><artifactId>fleet</artifactId></parent><artifactId>pier</artifactId>
<dependencies><dependency><artifactId>horn</artifactId><scope>test</scope></dependency>
<dependency><artifactId>horn-web</artifactId></dependency></dependencies></project>";
        let poms = poms(&[("pom.xml", parent), ("pier/pom.xml", pier)]);
        let pier = &poms.0["pier"];
        assert_eq!(poms.0.keys().collect::<Vec<_>>(), ["", "pier"]);
        let place = Place::new("pom.xml", Some(2));
        assert_eq!(poms.property(pier, "java.version"), Some(("21".to_owned(), place)));
        assert_eq!(poms.plugin(pier, "maven-shade-plugin"), Some(Place::new("pom.xml", Some(4))));
        let main = poms.plugin_value(pier, "maven-shade-plugin", "mainClass").unwrap();
        assert_eq!(main, ("ferry.Main".to_owned(), Place::new("pom.xml", Some(5))));
        assert_eq!(poms.dependency(pier, "horn"), Some(("horn-web", Place::new("pier/pom.xml", Some(4)))));
    }

    #[test]
    fn properties_that_lead_in_a_circle_or_nowhere_are_none() {
        let text = "<project><properties><a>${b}</a><b>${a}</b><c>${none}</c></properties></project>";
        let poms = poms(&[("pom.xml", text)]);
        assert_eq!([poms.property(&poms.0[""], "a"), poms.property(&poms.0[""], "c")], [None, None]);
    }

    #[test]
    fn what_is_no_xml_is_told_with_its_line() {
        let error = Pom::parse("pom.xml", "", "<project>\n<a></project>").unwrap_err();
        let Error::Survey(SurveyError::Malformed { place, .. }) = error else { panic!("{error}") };
        assert_eq!(place, Place::new("pom.xml", Some(2)));
    }
}
