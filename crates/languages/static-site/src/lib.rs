//! Static sites: pages that are served as they are.

use engine::support_files;
use engine::support_files::SupportFile;
use model::error::SurveyError;
use model::{
    BuildpackOptions, Claim, Error, Evidence, Finding, Pages, Place, ProcessKind, ProcessType, Result,
    RuntimeWish,
};
use model::{OptionSpec, Takes};
use planning::{Buildpack, Context, Contribution, Resolution, first_present};
use source::SourceTree;

/// The buildpack.
pub struct StaticSite;

/// The folder with the pages.
const DOCROOT: OptionSpec = OptionSpec::new("docroot", Takes::Text, "The folder with the pages");
/// The file server that goes into the image; see there.
const SERVER: &str = include_str!("serve.py");
/// Where it is put, from the root of the image.
const SERVER_PATH: &str = "opt/pages/serve.py";
/// What tells the server that the first page answers every path that is no file.
const SINGLE_PAGE: &str = "--single-page";
/// Folders that may hold the pages; the empty one is the root of the source.
const DOCROOTS: [&str; 9] = ["", "public", "site", "dist", "www", "_site", "htdocs", "html", "docs"];
/// Files that mean that a program serves the pages.
const PROGRAMS: [&str; 6] =
    ["package.json", "requirements.txt", "pyproject.toml", "Gemfile", "composer.json", "go.mod"];

impl Buildpack for StaticSite {
    fn name(&self) -> &str {
        "static"
    }

    fn options(&self) -> Vec<OptionSpec> {
        vec![OptionSpec::VERSION, DOCROOT]
    }

    fn survey(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding> {
        let mut finding =
            Finding::nothing(self.name(), vec!["index.html", "public/index.html", "site/index.html"]);
        let index_of =
            |root: &str| if root.is_empty() { "index.html".to_owned() } else { format!("{root}/index.html") };
        let root = match options.text(&DOCROOT.key) {
            Some(root) => {
                let root = root.trim_matches('/').trim_start_matches("./");
                let root = if root == "." { "" } else { root };
                tree.has(&index_of(root)).then(|| root.to_owned())
            }
            None => DOCROOTS.iter().find(|r| tree.has(&index_of(r))).map(|r| (*r).to_owned()),
        };
        let Some(root) = root else { return Ok(finding) };
        let said = Place::new(index_of(&root), None);
        finding.evidence.push(Evidence::speaks_for(said.clone(), "present", "pages to be served"));
        if let Some(program) = first_present(tree, &PROGRAMS) {
            finding.evidence.push(Evidence::against(
                Place::new(program, None),
                "present",
                "a program serves the pages",
            ));
            // It may be that the program only made them.
            finding.claim = Claim::Part;
        } else {
            finding.claim = Claim::Whole;
        }
        serve_folder(&mut finding, &Pages { folder: root, single_page: false, said });
        Ok(finding)
    }

    fn serve(&self, pages: &Pages, _options: &BuildpackOptions) -> Option<Finding> {
        let mut finding = Finding::nothing(self.name(), vec!["the pages that a build makes"]);
        finding.claim = Claim::Whole;
        let evidence =
            Evidence::speaks_for(pages.said.clone(), &pages.folder, "the build makes pages to be served");
        finding.evidence.push(evidence);
        serve_folder(&mut finding, pages);
        Some(finding)
    }

    fn accepts(&self, _constraint: &str, _version: &str) -> Option<bool> {
        // No source says which file server it wants.
        None
    }

    fn contribute(&self, context: &Context<'_>, _resolution: &Resolution) -> Result<Contribution> {
        let finding = context.finding;
        if finding.processes.is_empty() {
            let docroot = context.options.text(&DOCROOT.key).unwrap_or_default().to_owned();
            return Err(Error::Survey(SurveyError::Malformed {
                place: Place::new(docroot, None),
                detail: "the folder with the pages has no index.html".to_owned(),
            }));
        }
        let server = SupportFile { path: SERVER_PATH, text: SERVER.to_owned(), executable: false };
        Ok(Contribution {
            path: vec![context.runtime()?.bin_folder.clone()],
            env: vec![("PYTHONUNBUFFERED", "1".to_owned()), ("PYTHONDONTWRITEBYTECODE", "1".to_owned())],
            steps: vec![support_files::step("file server", vec![server])],
            ..Contribution::default()
        })
    }
}

/// Adds the server of a folder to a finding.
fn serve_folder(finding: &mut Finding, pages: &Pages) {
    finding.runtime = Some(RuntimeWish { for_app: false, ..RuntimeWish::of("python", None, Vec::new()) });
    let folder = if pages.folder.is_empty() { "/app".to_owned() } else { format!("/app/{}", pages.folder) };
    let server = format!("/{SERVER_PATH}");
    let mut command = vec!["python3", &server, &folder];
    if pages.single_page {
        command.push(SINGLE_PAGE);
    }
    let mut web = ProcessType::found("web", ProcessKind::Process, &command, pages.said.clone());
    web.health = Some("/".to_owned());
    finding.processes.push(web);
}
