//! The object of an app that a server is given, found in its code.

use model::{Place, Result};
use source::SourceTree;

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

/// Finds `name = Call(` at the beginning of a line, or in a function that makes the app, the least
/// deep file first. Where a file calls such a function for its own object, that object is meant.
pub(super) fn find_object(tree: &SourceTree, call: &str, ending: &str) -> Result<Option<AppObject>> {
    let texts = texts(tree, ending)?;
    let Some(found) = texts.iter().find_map(|(file, text)| made_by(file, text, call, ending)) else {
        return Ok(None);
    };
    if !found.is_factory {
        return Ok(Some(found));
    }
    let calls = format!("{}(", found.name);
    let called = texts.iter().find_map(|(file, text)| made_by(file, text, &calls, ending));
    Ok(called
        .filter(|called| !called.is_factory || !called.needs_arguments(&texts, ending))
        .or_else(|| (!found.needs_arguments(&texts, ending)).then_some(found)))
}

/// The file of the app that has a line which begins with `start`; one with a telling name first.
pub(super) fn find_script(tree: &SourceTree, start: &str, ending: &str) -> Result<Option<AppObject>> {
    let mut texts = texts(tree, ending)?;
    let is_named = |file: &str| {
        ["app", "main", "streamlit_app", "Home"].iter().any(|name| file == format!("{name}{ending}"))
    };
    texts.sort_by_key(|(file, _)| !is_named(file));
    Ok(texts.iter().find_map(|(file, text)| {
        let at = text.lines().position(|line| line.starts_with(start))?;
        let place = Place::new(*file, u32::try_from(at + 1).ok());
        Some(AppObject { module: (*file).to_owned(), name: String::new(), is_factory: false, place })
    }))
}

/// The files of a language, the least deep first.
fn texts<'t>(tree: &'t SourceTree, ending: &str) -> Result<Vec<(&'t str, String)>> {
    let mut files: Vec<&str> =
        tree.files().keys().map(String::as_str).filter(|f| f.ends_with(ending)).collect();
    files.retain(|f| f.matches('/').count() <= DEEPEST && !source::is_for_tests(f));
    files.sort_by_key(|f| (fills_data(f), f.matches('/').count(), *f));
    let mut texts = Vec::new();
    for file in files {
        // A source that is not text has no object.
        texts.extend(tree.read_text(file)?.map(|text| (file, text)));
    }
    Ok(texts)
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

    /// Whether the function that makes it cannot be called without arguments.
    fn needs_arguments(&self, texts: &[(&str, String)], ending: &str) -> bool {
        let own = texts.iter().find(|(file, _)| {
            file.trim_end_matches(ending).trim_end_matches("/__init__").replace('/', ".") == self.module
        });
        let begins = format!("def {}(", self.name);
        let Some((_, rest)) = own.and_then(|(_, text)| text.split_once(&begins)) else { return false };
        let parameters = rest.split(')').next().unwrap_or_default();
        let required = |one: &str| !one.is_empty() && !one.contains('=') && !one.starts_with('*');
        parameters.split(',').map(str::trim).any(required)
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
