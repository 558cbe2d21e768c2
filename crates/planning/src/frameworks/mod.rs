//! What is known of frameworks and servers, as a table: which packages tell of them, and how apps
//! made with them are started.

use model::Sign;
use model::{Evidence, Place, ProcessKind, ProcessType, Result};
use source::SourceTree;
use std::collections::BTreeSet;

/// A framework, known by a package that the app declares.
pub struct Framework {
    /// The declared package.
    pub package: &'static str,
    /// A file that an app made with it has; without it, the package alone does not tell.
    pub marker: Option<&'static str>,
    /// What is assigned to the app's object (`Flask(`), for frameworks that have one.
    pub object: Option<&'static str>,
    /// How it is run.
    pub starts: &'static [Start],
}

/// One way to run an app made with a framework.
pub struct Start {
    /// The process type or task.
    pub name: &'static str,
    /// Process or task.
    pub kind: ProcessKind,
    /// A server that must be declared, too.
    pub server: Option<&'static str>,
    /// A file or folder (with a slash at its end) that must be there, too.
    pub with: Option<&'static str>,
    /// `{object}` stands for the app's object, `{module}` for its module.
    pub command: &'static [&'static str],
}

const fn process(
    name: &'static str,
    server: Option<&'static str>,
    command: &'static [&'static str],
) -> Start {
    Start { name, kind: ProcessKind::Process, server, with: None, command }
}

const fn task(name: &'static str, with: Option<&'static str>, command: &'static [&'static str]) -> Start {
    Start { name, kind: ProcessKind::Task, server: None, with, command }
}

/// Frameworks of Node; apps with a start script or an entry file need none of this.
pub const NODE: &[Framework] = &[
    Framework {
        package: "prisma",
        marker: Some("prisma/schema.prisma"),
        object: None,
        starts: &[task("migrate", Some("prisma/migrations/"), &["prisma", "migrate", "deploy"])],
    },
    Framework {
        package: "knex",
        marker: None,
        object: None,
        starts: &[task("migrate", Some("migrations/"), &["knex", "migrate:latest"])],
    },
];

/// uWSGI, speaking HTTP itself, and ending when it is asked to.
const UWSGI: &[&str] =
    &["uwsgi", "--http-socket", ":$PORT", "--module", "{object}", "--master", "--die-on-term"];
const UVICORN: &[&str] = &["uvicorn", "{object}", "--host", "0.0.0.0", "--port", "$PORT"];
const HYPERCORN: &[&str] = &["hypercorn", "{object}", "--bind", "0.0.0.0:$PORT"];

/// A framework of ASGI, whose app is made by `object`.
const fn asgi(package: &'static str, object: &'static str) -> Framework {
    const STARTS: &[Start] =
        &[process("web", Some("uvicorn"), UVICORN), process("web", Some("hypercorn"), HYPERCORN)];
    Framework { package, marker: None, object: Some(object), starts: STARTS }
}

/// Frameworks of Python.
pub const PYTHON: &[Framework] = &[
    Framework {
        package: "django",
        marker: Some("manage.py"),
        object: Some("get_wsgi_application("),
        starts: &[
            process("web", Some("gunicorn"), &["gunicorn", "{object}"]),
            process("web", Some("waitress"), &["waitress-serve", "--listen=*:$PORT", "{object}"]),
            process("web", Some("uwsgi"), UWSGI),
            task("migrate", None, &["python", "manage.py", "migrate"]),
        ],
    },
    Framework {
        package: "flask",
        marker: None,
        object: Some("Flask("),
        starts: &[
            process("web", Some("gunicorn"), &["gunicorn", "{object}"]),
            process("web", Some("waitress"), &["waitress-serve", "--listen=*:$PORT", "{object}"]),
            process("web", Some("uwsgi"), UWSGI),
        ],
    },
    Framework {
        package: "flask-migrate",
        marker: None,
        object: None,
        starts: &[task("migrate", Some("migrations/"), &["flask", "db", "upgrade"])],
    },
    Framework {
        package: "fastapi",
        marker: None,
        object: Some("FastAPI("),
        starts: &[
            process("web", Some("uvicorn"), UVICORN),
            process("web", Some("hypercorn"), HYPERCORN),
            process(
                "web",
                Some("granian"),
                &["granian", "--interface", "asgi", "--host", "0.0.0.0", "--port", "$PORT", "{object}"],
            ),
        ],
    },
    asgi("litestar", "Litestar("),
    asgi("quart", "Quart("),
    asgi("starlette", "Starlette("),
    Framework {
        package: "falcon",
        marker: None,
        object: Some("falcon.App("),
        starts: &[
            process("web", Some("gunicorn"), &["gunicorn", "{object}"]),
            process("web", Some("uwsgi"), UWSGI),
        ],
    },
    Framework {
        package: "celery",
        marker: None,
        object: Some("Celery("),
        starts: &[process("worker", None, &["celery", "--app", "{module}", "worker"])],
    },
    Framework {
        package: "alembic",
        marker: Some("alembic.ini"),
        object: None,
        starts: &[task("migrate", None, &["alembic", "upgrade", "head"])],
    },
];

const RACKUP: &[&str] = &["bundle", "exec", "rackup", "--host", "0.0.0.0", "--port", "$PORT"];
const PUMA: &[&str] = &["bundle", "exec", "puma", "--bind", "tcp://0.0.0.0:$PORT"];

/// Frameworks of Ruby; the first that fits gives each process.
pub const RUBY: &[Framework] = &[
    Framework {
        package: "rails",
        marker: Some("config/application.rb"),
        object: None,
        starts: &[
            // The server itself: what `rails server` does besides is for those who develop.
            process("web", Some("puma"), PUMA),
            process(
                "web",
                None,
                &["bundle", "exec", "rails", "server", "--binding", "0.0.0.0", "--port", "$PORT"],
            ),
            task("migrate", Some("db/migrate/"), &["bundle", "exec", "rails", "db:migrate"]),
        ],
    },
    Framework {
        package: "sidekiq",
        marker: None,
        object: None,
        starts: &[process("worker", None, &["bundle", "exec", "sidekiq"])],
    },
    Framework {
        package: "solid_queue",
        marker: Some("bin/jobs"),
        object: None,
        starts: &[process("worker", None, &["bin/jobs"])],
    },
    Framework {
        package: "good_job",
        marker: None,
        object: None,
        starts: &[process("worker", None, &["bundle", "exec", "good_job", "start"])],
    },
    Framework {
        package: "puma",
        marker: Some("config.ru"),
        object: None,
        starts: &[process("web", None, PUMA)],
    },
    Framework {
        package: "unicorn",
        marker: Some("config.ru"),
        object: None,
        starts: &[process("web", None, &["bundle", "exec", "unicorn", "--listen", "0.0.0.0:$PORT"])],
    },
    Framework {
        package: "thin",
        marker: Some("config.ru"),
        object: None,
        starts: &[process(
            "web",
            None,
            &["bundle", "exec", "thin", "start", "--address", "0.0.0.0", "--port", "$PORT"],
        )],
    },
    Framework {
        package: "falcon",
        marker: Some("config.ru"),
        object: None,
        starts: &[process(
            "web",
            None,
            &["bundle", "exec", "falcon", "serve", "--bind", "http://0.0.0.0:$PORT"],
        )],
    },
    Framework {
        package: "rackup",
        marker: Some("config.ru"),
        object: None,
        starts: &[process("web", None, RACKUP)],
    },
    Framework {
        package: "rack",
        marker: Some("config.ru"),
        object: None,
        starts: &[process("web", Some("puma"), PUMA), process("web", Some("webrick"), RACKUP)],
    },
];

/// Frameworks whose build makes a server only with an adapter, which their own configuration names: a series of the
/// framework, and the adapter for it. The last one is for all newer series.
const ADAPTERS: [(&str, &str, &str); 2] =
    [("@sveltejs/kit", "2", "@sveltejs/adapter-node@5"), ("@sveltejs/kit", "", "@sveltejs/adapter-node")];

/// The adapter with which the build of a framework makes a server; `wanted` is the framework with the versions of it that
/// will do, as in `fog ^2.1`.
pub fn adapter_for(wanted: &str) -> Option<&'static str> {
    let (package, range) = wanted.split_once(' ').unwrap_or((wanted, ""));
    let series = range.trim_start_matches(['^', '~', '=', 'v']).split('.').next().unwrap_or_default();
    let fits = |of: &str| of.is_empty() || of == series;
    ADAPTERS.iter().find(|(framework, of, _)| *framework == package && fits(of)).map(|(.., adapter)| *adapter)
}

/// The usual server of a framework that needs one.
pub fn server_for(package: &str) -> Option<&'static str> {
    let all = PYTHON.iter().chain(RUBY);
    all.filter(|framework| framework.package == package)
        .flat_map(|framework| framework.starts)
        .find_map(|start| start.server)
}

/// What the frameworks of an app say of how it is run.
#[derive(Default)]
pub struct Known {
    /// The process types.
    pub processes: Vec<ProcessType>,
    /// What speaks for them.
    pub evidence: Vec<Evidence>,
}

/// Applies `table` to an app that declares `packages` in `manifest`; sources end with `ending`.
pub fn apply(
    table: &[Framework],
    tree: &SourceTree,
    packages: &BTreeSet<String>,
    manifest: &Place,
    ending: &str,
) -> Result<Known> {
    let mut known = Known::default();
    for framework in table.iter().filter(|f| packages.contains(f.package)) {
        if framework.marker.is_some_and(|file| !tree.has(file)) {
            continue;
        }
        let object = match framework.object {
            Some(call) => match find_object(tree, call, ending)? {
                Some(object) => Some(object),
                None => continue,
            },
            None => None,
        };
        let place = object.as_ref().map_or_else(|| manifest.clone(), |o| o.place.clone());
        known.evidence.push(Evidence::speaks_for(place.clone(), framework.package, "the framework"));
        for start in framework.starts {
            let with =
                start.with.is_none_or(|w| tree.has(w) || tree.files().keys().any(|f| f.starts_with(w)));
            let server = start.server.is_none_or(|s| packages.contains(s));
            if with && server && !known.processes.iter().any(|p| p.name == start.name) {
                known.processes.push(found(start, object.as_ref(), &place));
            }
        }
        let servers: Vec<_> = framework.starts.iter().filter_map(|s| s.server).collect();
        if !servers.is_empty() && !known.processes.iter().any(|p| p.name == "web") {
            let tells = format!("it needs a server, and none is declared ({})", servers.join(", "));
            let missing = Evidence::against(place, framework.package, tells);
            known.evidence.push(missing.as_sign(Sign::NoServer));
        }
    }
    Ok(known)
}

fn found(start: &Start, object: Option<&AppObject>, place: &Place) -> ProcessType {
    let (module, name) = object.map_or(("", ""), |o| (o.module.as_str(), o.name.as_str()));
    let word = |w: &&str| w.replace("{object}", &format!("{module}:{name}")).replace("{module}", module);
    let words: Vec<String> = start.command.iter().map(word).collect();
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    ProcessType::found(start.name, start.kind, &words, place.clone())
}

/// The object of an app: `app` in `harbour.main`.
struct AppObject {
    module: String,
    name: String,
    place: Place,
}

/// How deep app objects are looked for, in folders.
const DEEPEST: usize = 3;

/// Functions that make the app's object.
const FACTORIES: [&str; 2] = ["create_app", "make_app"];

/// Finds `name = Call(` at the beginning of a line, or in a function that makes the app, the least
/// deep file first.
fn find_object(tree: &SourceTree, call: &str, ending: &str) -> Result<Option<AppObject>> {
    let mut files: Vec<&String> = tree.files().keys().filter(|f| f.ends_with(ending)).collect();
    files.retain(|f| f.matches('/').count() <= DEEPEST && !source::is_for_tests(f));
    files.sort_by_key(|f| (f.matches('/').count(), f.as_str()));
    for file in files {
        // A source that is not text has no object.
        let Some(text) = tree.read_text(file)? else { continue };
        let mut factory = None;
        for (number, line) in text.lines().enumerate() {
            let place = || Place::new(file.as_str(), u32::try_from(number + 1).ok());
            let module = || file.trim_end_matches(ending).trim_end_matches("/__init__").replace('/', ".");
            if let Some(name) = line.strip_prefix("def ").and_then(|l| l.split('(').next()) {
                factory = FACTORIES.contains(&name).then_some(name);
            }
            let Some((name, value)) = line.split_once('=') else { continue };
            let value = value.trim_start();
            if !value.starts_with(call) && !value.split('.').next_back().is_some_and(|v| v.starts_with(call))
            {
                continue;
            }
            // `app: Flask = Flask(…)`
            let name = name.split(':').next().unwrap_or(name).trim_end();
            if !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_') {
                return Ok(Some(AppObject { module: module(), name: name.to_owned(), place: place() }));
            }
            if let Some(factory) = factory.filter(|_| line.starts_with(' ')) {
                return Ok(Some(AppObject {
                    module: module(),
                    name: format!("{factory}()"),
                    place: place(),
                }));
            }
        }
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_adapter_fits_the_series_of_its_framework() {
        assert_eq!(adapter_for("@sveltejs/kit ^2.63.0"), Some("@sveltejs/adapter-node@5"));
        assert_eq!(adapter_for("@sveltejs/kit ~2"), Some("@sveltejs/adapter-node@5"));
        assert_eq!(adapter_for("@sveltejs/kit ^3.0.0"), Some("@sveltejs/adapter-node"));
        assert_eq!(adapter_for("@sveltejs/kit"), Some("@sveltejs/adapter-node"));
        assert_eq!(adapter_for("express ^5"), None);
    }
}
