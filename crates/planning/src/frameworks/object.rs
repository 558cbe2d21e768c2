//! The object of an app that a server is given, found in its code.

use model::{Place, Result};
use source::SourceTree;
use std::cell::OnceCell;

/// The object of an app: `app` in `harbour.main`.
pub(super) struct AppObject {
    pub(super) module: String,
    pub(super) name: String,
    /// Whether `name` is a function that makes the object.
    pub(super) is_factory: bool,
    pub(super) place: Place,
}

/// How deep app objects are looked for, in folders.
const DEEPEST: usize = 3;

/// Names of scripts that are most likely the app, where several could be.
const SCRIPTS: [&str; 4] = ["app", "main", "streamlit_app", "Home"];

/// Functions that make the app's object.
const FACTORIES: [&str; 8] = [
    "create_app",
    "make_app",
    "get_app",
    "build_app",
    "create_application",
    "make_application",
    "get_application",
    "app_factory",
];

/// The files of a language, the least deep first; each is read once, and only when it is needed.
pub(super) struct Sources<'t> {
    tree: &'t SourceTree,
    ending: &'static str,
    files: Vec<(&'t str, OnceCell<Option<String>>)>,
}

impl<'t> Sources<'t> {
    /// Those of a tree whose names end with `ending`.
    pub(super) fn of(tree: &'t SourceTree, ending: &'static str) -> Self {
        let mut files: Vec<&str> =
            tree.files().keys().map(String::as_str).filter(|f| f.ends_with(ending)).collect();
        files.retain(|f| f.matches('/').count() <= DEEPEST && !source::is_for_tests(f));
        files.sort_by_key(|f| (fills_data(f), f.matches('/').count(), *f));
        Self { tree, ending, files: files.into_iter().map(|file| (file, OnceCell::new())).collect() }
    }

    /// Finds `name = Call(` at the beginning of a line, or in a function that makes the app, the least deep file first.
    /// Where a file calls such a function for its own object, that object is meant.
    pub(super) fn object(&self, call: &str) -> Result<Option<AppObject>> {
        let Some(found) = self.made_by(call)? else { return Ok(None) };
        if !found.is_factory {
            return Ok(Some(found));
        }
        let called = self.made_by(&format!("{}(", found.name))?;
        for one in called.into_iter().chain([found]) {
            if !one.is_factory || !self.needs_arguments(&one)? {
                return Ok(Some(one));
            }
        }
        Ok(None)
    }

    /// The file of the app that has a line which begins with `start`; one with a telling name first.
    pub(super) fn script(&self, start: &str) -> Result<Option<AppObject>> {
        let is_named = |file: &str| SCRIPTS.iter().any(|name| file.strip_suffix(self.ending) == Some(name));
        let (named, others): (Vec<_>, Vec<_>) = self.files.iter().partition(|(file, _)| is_named(file));
        for (file, text) in named.into_iter().chain(others) {
            let Some(text) = self.text(file, text)? else { continue };
            if let Some(at) = text.lines().position(|line| line.starts_with(start)) {
                let place = Place::new(*file, u32::try_from(at + 1).ok());
                let (module, name) = ((*file).to_owned(), String::new());
                return Ok(Some(AppObject { module, name, is_factory: false, place }));
            }
        }
        Ok(None)
    }

    fn made_by(&self, call: &str) -> Result<Option<AppObject>> {
        for (file, text) in &self.files {
            let Some(text) = self.text(file, text)? else { continue };
            if let Some(found) = made_by(file, text, call, self.ending) {
                return Ok(Some(found));
            }
        }
        Ok(None)
    }

    /// Whether a function that makes an object cannot be called without arguments.
    fn needs_arguments(&self, object: &AppObject) -> Result<bool> {
        let own = self.files.iter().find(|(file, _)| *file == object.place.file);
        let Some((file, text)) = own else { return Ok(false) };
        let begins = format!("def {}(", object.name);
        let text = self.text(file, text)?.unwrap_or_default();
        let Some((_, rest)) = text.split_once(&begins) else { return Ok(false) };
        let parameters = rest.split(')').next().unwrap_or_default();
        let required = |one: &str| !one.is_empty() && !one.contains('=') && !one.starts_with('*');
        Ok(parameters.split(',').map(str::trim).any(required))
    }

    /// The text of a file; a source that is not text has no object.
    fn text<'s>(&self, file: &str, kept: &'s OnceCell<Option<String>>) -> Result<Option<&'s str>> {
        if let Some(text) = kept.get() {
            return Ok(text.as_deref());
        }
        let text = self.tree.read_text(file)?;
        Ok(kept.get_or_init(|| text).as_deref())
    }
}

/// Whether a file is a script that prepares data or tests something, for which it makes an app of its own.
fn fills_data(file: &str) -> bool {
    let name = file.rsplit('/').next().unwrap_or(file);
    ["test", "conftest", "seed", "populate", "fill", "init_", "create_"]
        .iter()
        .any(|start| name.starts_with(start))
}

/// What a file makes by `call`.
fn made_by(file: &str, text: &str, call: &str, ending: &str) -> Option<AppObject> {
    let mut factory = None;
    for (number, line) in text.lines().enumerate() {
        let object = |name: &str, is_factory| AppObject {
            module: file.trim_end_matches(ending).trim_end_matches("/__init__").replace('/', "."),
            name: name.to_owned(),
            is_factory,
            place: Place::new(file, u32::try_from(number + 1).ok()),
        };
        if let Some(name) = defined(line) {
            factory = FACTORIES.contains(&name).then_some(name);
        }
        let is_call = |value: &str| {
            let called = value.split_inclusive('(').next().unwrap_or(value);
            value.starts_with(call)
                || called.rsplit_once(call).is_some_and(|(before, _)| before.ends_with('.'))
        };
        let returns = line.trim_start().strip_prefix("return ").is_some_and(is_call);
        let assigned = line.split_once('=').filter(|(_, value)| is_call(value.trim_start()));
        // `app: Flask = Flask(…)`
        let name = assigned.map(|(name, _)| name.split(':').next().unwrap_or(name).trim_end());
        let is_name =
            |name: &&str| !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
        if let Some(name) = name.filter(is_name) {
            return Some(object(name, false));
        }
        if let Some(factory) = factory.filter(|_| line.starts_with(' ') && (assigned.is_some() || returns)) {
            return Some(object(factory, true));
        }
    }
    None
}

/// The function that a line at the top begins.
fn defined(line: &str) -> Option<&str> {
    line.strip_prefix("def ")?.split('(').next()
}

impl AppObject {
    /// How `server` is told of it: the name, and an option that it needs for functions that make the object.
    pub(super) fn given_to(&self, server: &str) -> (String, &'static str) {
        match server {
            _ if !self.is_factory => (self.name.clone(), ""),
            "uvicorn" | "granian" | "sanic" => (self.name.clone(), "--factory"),
            "waitress-serve" => (self.name.clone(), "--call"),
            _ => (format!("{}()", self.name), ""),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(text: &str, call: &str) -> Option<(String, bool)> {
        made_by("harbour/site.py", text, call, ".py")
            .map(|o| (format!("{}:{}", o.module, o.name), o.is_factory))
    }

    #[test]
    fn objects_and_the_functions_that_make_them_are_found() {
        for (text, expected) in [
            ("app = Flask(__name__)\n", Some(("harbour.site:app", false))),
            ("app: Flask = flask.Flask(__name__)\n", Some(("harbour.site:app", false))),
            (
                "def create_app(test=None):\n    app = Flask(__name__)\n",
                Some(("harbour.site:create_app", true)),
            ),
            ("def make_app():\n    return Flask(__name__)\n", Some(("harbour.site:make_app", true))),
            ("def helper():\n    app = Flask(__name__)\n", None),
            ("# app is no Flask()\n", None),
        ] {
            let expected = expected.map(|(object, factory)| (object.to_owned(), factory));
            assert_eq!(found(text, "Flask("), expected, "{text}");
        }
    }
}
