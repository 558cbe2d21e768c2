//! Generators of static pages that are packages of Python.

use model::shell_words::join;
use model::{AppBuild, BuildCommand, Evidence, Finding, Pages, Place, Result};
use source::SourceTree;

/// The files that they are known by.
pub(super) const FILES: [&str; 3] = ["mkdocs.yml", "pelicanconf.py", "conf.py"];

/// A generator: its file, its package, how it builds, and into which folder.
struct Generator {
    file: &'static str,
    /// What the file must have, where its name alone does not tell.
    sign: &'static str,
    name: &'static str,
    build: &'static [&'static str],
    folder: &'static str,
}

const GENERATORS: [Generator; 3] = [
    Generator { file: "mkdocs.yml", sign: "", name: "mkdocs", build: &["mkdocs", "build"], folder: "site" },
    Generator {
        file: "pelicanconf.py",
        sign: "",
        name: "pelican",
        build: &["pelican", "content", "-s", "pelicanconf.py"],
        folder: "output",
    },
    Generator {
        file: "conf.py",
        sign: "extensions",
        name: "sphinx",
        build: &["python", "-m", "sphinx", "-b", "html", ".", "_build/html"],
        folder: "_build/html",
    },
];

/// Adds the build of the generator that the source is for.
pub(super) fn survey(tree: &SourceTree, finding: &mut Finding) -> Result<()> {
    for generator in &GENERATORS {
        let Some(text) = tree.read(generator.file)? else { continue };
        if !text.contains(generator.sign) {
            continue;
        }
        let said = Place::new(generator.file, None);
        let name = generator.name;
        finding.evidence.push(Evidence::speaks_for(said.clone(), name, "a generator of static pages"));
        let run: Vec<String> = generator.build.iter().map(|word| (*word).to_owned()).collect();
        let shown = join(&run);
        let command =
            BuildCommand { run, tools: vec!["python".to_owned()], keep: Vec::new(), fetch: Vec::new() };
        finding.build = Some(AppBuild { command, folder: String::new(), shown, said: said.clone() });
        finding.pages = Some(Pages { folder: generator.folder.to_owned(), single_page: false, said });
        return Ok(());
    }
    Ok(())
}
