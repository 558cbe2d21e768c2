//! Static sites: pages that are served as they are.
#![forbid(unsafe_code)]

mod page_files;
mod server;

use engine::Step;
use model::error::SurveyError;
use model::{
    BuildpackOptions, Claim, Error, Evidence, Finding, Pages, Place, ProcessKind, ProcessType, Result, Role,
    RuntimeWish,
};
use model::{OptionSpec, Takes};
use page_files::PageFiles;
use planning::{APP_FILES, BUILD_COMMAND, Buildpack, Context, Contribution, Resolution, first_present};
use source::SourceTree;

/// The buildpack.
pub struct StaticSite;

/// The folder that holds the index page.
const DOCROOT: OptionSpec = OptionSpec::new("docroot", Takes::Text, "The folder that holds the index page");
/// Whether the first page answers for all.
const SINGLE_PAGE: OptionSpec = OptionSpec::new(
    "single-page",
    Takes::Truth,
    "Whether the first page answers every path that has no file",
);
/// Fields of every answer.
const HEADERS: OptionSpec =
    OptionSpec::new("headers", Takes::AddedTexts, "Header fields of every answer, as in \"Name: value\"");
/// Folders that may hold the pages; the empty one is the root of the source.
const DOCROOTS: [&str; 9] = ["", "public", "site", "dist", "www", "_site", "htdocs", "html", "docs"];
/// Files that mean that a program serves the pages.
const PROGRAMS: [&str; 6] =
    ["package.json", "requirements.txt", "pyproject.toml", "Gemfile", "composer.json", "go.mod"];

impl Buildpack for StaticSite {
    fn name(&self) -> &str {
        "static"
    }

    fn about(&self) -> &str {
        "Static pages, served by nginx"
    }

    fn options(&self) -> Vec<OptionSpec> {
        vec![OptionSpec::VERSION, DOCROOT, SINGLE_PAGE, HEADERS]
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
        serve_folder(
            &mut finding,
            Pages { folder: root, single_page: options.is_set(&SINGLE_PAGE.key), said },
        );
        Ok(finding)
    }

    fn serve(&self, pages: &Pages, options: &BuildpackOptions) -> Option<Finding> {
        let mut finding = Finding::nothing(self.name(), vec!["the pages that a build makes"]);
        finding.claim = Claim::Whole;
        let evidence =
            Evidence::speaks_for(pages.said.clone(), &pages.folder, "the build makes pages to be served");
        finding.evidence.push(evidence);
        let single_page = options.truth(&SINGLE_PAGE.key).unwrap_or(pages.single_page);
        serve_folder(&mut finding, Pages { single_page, ..pages.clone() });
        Some(finding)
    }

    fn accepts(&self, _constraint: &str, _version: &str) -> Option<bool> {
        // No source says which file server it wants.
        None
    }

    fn contribute(&self, context: &Context<'_>, _resolution: &Resolution) -> Result<Contribution> {
        let finding = context.finding;
        let Some(pages) = &finding.serves else {
            let docroot = context.options.text(&DOCROOT.key).unwrap_or_default().to_owned();
            return Err(Error::Survey(SurveyError::Malformed {
                place: Place::new(docroot, None),
                detail: "the folder with the pages has no index.html".to_owned(),
            }));
        };
        let headers = server::headers(context.options.texts(&HEADERS.key))?;
        let runtime = context.runtime()?;
        if runtime.name != server::NGINX {
            return Ok(Contribution {
                path: vec![runtime.bin_folder.clone()],
                env: vec![("PYTHONUNBUFFERED", "1".to_owned()), ("PYTHONDONTWRITEBYTECODE", "1".to_owned())],
                steps: vec![server::python(&headers)],
                ..Contribution::default()
            });
        }
        let page_files = PageFiles { folder: pages.folder.clone(), single_page: pages.single_page };
        let page_files = Step::new("page files", Role::Built, page_files);
        Ok(Contribution {
            steps: vec![
                server::nginx(&headers),
                Step { reads: vec![APP_FILES, BUILD_COMMAND], ..page_files },
            ],
            ..Contribution::default()
        })
    }
}

/// Adds the server of a folder to a finding.
fn serve_folder(finding: &mut Finding, pages: Pages) {
    let wish = RuntimeWish::of(server::NGINX, None, Vec::new());
    finding.runtime = Some(RuntimeWish { for_app: false, elsewhere: Some(server::PYTHON), ..wish });
    let folder = if pages.folder.is_empty() { "/app".to_owned() } else { format!("/app/{}", pages.folder) };
    let mut command = vec![server::PROGRAM, &folder];
    if pages.single_page {
        command.push(server::SINGLE_PAGE);
    }
    let mut web = ProcessType::found("web", ProcessKind::Process, &command, pages.said.clone());
    web.health = Some("/".to_owned());
    finding.processes.push(web);
    finding.serves = Some(pages);
}
