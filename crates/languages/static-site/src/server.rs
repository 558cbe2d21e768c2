//! The web servers that go into images: nginx where the base has it, else a script on Python's standard library.

use engine::Step;
use engine::support_files::{self, SupportFile};
use model::error::ConfigError;
use model::{Error, Result};

/// The runtimes that serve pages.
pub(crate) const NGINX: &str = "nginx";
pub(crate) const PYTHON: &str = "python";
/// The program that serves a folder, in the image: the same whichever runtime there is.
pub(crate) const PROGRAM: &str = "/opt/pages/serve";
/// What tells it that the first page answers every path that has no file.
pub(crate) const SINGLE_PAGE: &str = "--single-page";
/// The name of the step.
const STEP: &str = "web server";

/// A header field of every answer: its name and its value.
pub(crate) type Header = (String, String);

/// Fields that every answer has; one that is configured takes the place of its namesake.
const USUAL: [(&str, &str); 1] = [("X-Content-Type-Options", "nosniff")];

/// The header fields of every answer, from how they are written in the configuration.
pub(crate) fn headers(configured: &[String]) -> Result<Vec<Header>> {
    let mut all: Vec<Header> =
        USUAL.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
    for written in configured {
        let field = written.split_once(':').map(|(name, value)| (name.trim(), value.trim()));
        let is_name =
            |name: &str| !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-');
        let field = field.filter(|(name, value)| is_name(name) && !value.contains(char::is_control));
        let Some((name, value)) = field else {
            return Err(Error::Config(ConfigError::NotHeader { text: written.clone() }));
        };
        all.retain(|(known, _)| !known.eq_ignore_ascii_case(name));
        all.push((name.to_owned(), value.to_owned()));
    }
    Ok(all)
}

/// The step that puts the configuration of nginx into the image, and the program that starts it.
pub(crate) fn nginx(headers: &[Header]) -> Step {
    let mut answers = include_str!("answers.conf").to_owned();
    for (name, value) in headers {
        // A dollar sign would begin a variable.
        let value = value.replace('\\', "\\\\").replace('"', "\\\"").replace('$', "${dollar}");
        answers += &format!("add_header {name} \"{value}\" always;\n");
    }
    let file = |path, text: &str, executable| SupportFile { path, text: text.to_owned(), executable };
    let files = vec![
        file("opt/pages/serve", include_str!("serve.sh"), true),
        file("opt/pages/site.conf", include_str!("site.conf"), false),
        file("opt/pages/answers.conf", &answers, false),
    ];
    support_files::step(STEP, files)
}

/// The step that puts the script into the image.
pub(crate) fn python(headers: &[Header]) -> Step {
    let mut text = String::new();
    for (name, value) in headers {
        text += &format!("{name}: {value}\n");
    }
    let script = include_str!("serve.py").to_owned();
    let files = vec![
        SupportFile { path: "opt/pages/serve", text: script, executable: true },
        SupportFile { path: "opt/pages/headers", text, executable: false },
    ];
    support_files::step(STEP, files)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn configured_headers_are_added_and_take_the_place_of_usual_ones() {
        let written = ["x-content-type-options: none".to_owned(), "Link: </a>; rel=\"next\"".to_owned()];
        let all = headers(&written).unwrap();
        let expected = [("x-content-type-options", "none"), ("Link", "</a>; rel=\"next\"")];
        assert_eq!(all, expected.map(|(name, value)| (name.to_owned(), value.to_owned())));
        for wrong in ["no colon", "two words: x", ": x", "A: b\nC: d"] {
            assert!(headers(&[wrong.to_owned()]).is_err(), "{wrong:?}");
        }
    }
}
