//! Where Maven takes artifacts from: the user's settings, and what the installed program has built in.

use crate::settings::Said;
use config::addresses::{KnownAddress, Origin};
use model::Ecosystem;
use remote::{Address, Login};
use roxmltree::{Document, Node};
use std::io::Read;
use std::path::{Path, PathBuf};
use std::{env, fs};

/// What stands for every repository, or for the one that is always there.
const FOR_ALL: [&str; 4] = ["*", "external:*", "external:http:*,*", "central"];
/// The part of Maven that knows the repository that is always there, and the file that says it.
const BUILT_IN: (&str, &str) = ("maven-model-builder-", "org/apache/maven/model/pom-4.0.0.xml");
/// The largest file of that kind, in bytes.
const LARGEST: u64 = 1 << 20;

/// Reads the user's settings (the settings reference): mirrors, and the logins for them.
pub fn of_user(home: Option<&Path>, said: &mut Said) {
    let Some(file) = home.map(|home| home.join(".m2/settings.xml")) else { return };
    let Ok(text) = fs::read_to_string(&file) else { return };
    read(&text, &file.display().to_string(), said);
}

fn read(text: &str, shown: &str, said: &mut Said) {
    // A file that Maven itself could not read says nothing.
    let Ok(document) = Document::parse(text) else { return };
    let root = document.root_element();
    for mirror in below(root, "mirrors") {
        let (Some(id), Some(of), Some(url)) =
            (text_of(mirror, "id"), text_of(mirror, "mirrorOf"), text_of(mirror, "url"))
        else {
            continue;
        };
        let bound = match FOR_ALL.contains(&of) {
            true => None,
            false if of.contains(['*', ',', '!', ':']) => continue,
            false => Some(of.to_owned()),
        };
        said.address(Ecosystem::MAVEN, bound, url, shown);
        let login = below(root, "servers").find(|server| text_of(*server, "id") == Some(id));
        let named =
            login.and_then(|server| Some((text_of(server, "username")?, text_of(server, "password")?)));
        // What is in braces is encrypted with a password of the user's.
        if let Some((user, password)) = named.filter(|(_, password)| !password.starts_with('{')) {
            let place = url.split_once("//").map_or(url, |(_, place)| place);
            said.logins.push(Login::password(place, user, password));
        }
    }
}

fn below<'a, 'i>(root: Node<'a, 'i>, name: &'static str) -> impl Iterator<Item = Node<'a, 'i>> {
    let part = root.children().find(move |node| node.tag_name().name() == name);
    part.into_iter().flat_map(|part| part.children()).filter(Node::is_element)
}

fn text_of<'a>(node: Node<'a, '_>, name: &str) -> Option<&'a str> {
    let text = node.children().find(|child| child.tag_name().name() == name)?.text()?.trim();
    (!text.is_empty()).then_some(text)
}

/// The default repository of the program on this machine.
pub fn of_program() -> Option<KnownAddress> {
    let path = env::var_os("PATH")?;
    let program = env::split_paths(&path).map(|folder| folder.join("mvn")).find(|file| file.is_file())?;
    let home = program.canonicalize().ok()?.parent()?.parent()?.to_owned();
    let is_one =
        |file: &PathBuf| file.file_name().is_some_and(|n| n.to_string_lossy().starts_with(BUILT_IN.0));
    let files = fs::read_dir(home.join("lib")).ok()?.filter_map(|entry| Some(entry.ok()?.path()));
    let part = files.into_iter().find(is_one)?;
    let mut archive = zip::ZipArchive::new(fs::File::open(part).ok()?).ok()?;
    let mut text = String::new();
    archive.by_name(BUILT_IN.1).ok()?.take(LARGEST).read_to_string(&mut text).ok()?;
    let document = Document::parse(&text).ok()?;
    let url =
        below(document.root_element(), "repositories").find_map(|repository| text_of(repository, "url"))?;
    Some(KnownAddress {
        ecosystem: Ecosystem::MAVEN,
        bound: None,
        address: Address::parse(url, Path::new("/")),
        origin: Origin::Tool,
        detail: "built into mvn".to_owned(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mirrors_are_addresses_and_servers_of_their_ids_are_logins() {
        let text = "<settings><mirrors>
<mirror><id>harbour</id><mirrorOf>*</mirrorOf><url>https://packages.example/maven</url></mirror>
<mirror><id>own</id><mirrorOf>ferry-releases</mirrorOf><url>https://own.example/maven</url></mirror>
<mirror><id>odd</id><mirrorOf>*,!own</mirrorOf><url>https://odd.example/maven</url></mirror>
</mirrors><servers><server><id>harbour</id><username>ada</username><password>hunter2</password></server>
<server><id>own</id><username>ada</username><password>{encrypted}</password></server></servers></settings>";
        let mut said = Said::default();
        read(text, "settings.xml", &mut said);
        let known = said.known.iter().map(|known| (known.bound.as_deref(), known.address.to_string()));
        let expected = [
            (None, "https://packages.example/maven".to_owned()),
            (Some("ferry-releases"), "https://own.example/maven".to_owned()),
        ];
        assert_eq!(known.collect::<Vec<_>>(), expected);
        assert_eq!(said.logins.len(), 1);
    }
}
