//! What Bundler's and Composer's own files and variables say: logins, and a mirror for all gems.

use crate::settings::Said;
use model::Ecosystem;
use remote::Login;
use serde_json::Value;
use std::path::Path;
use std::{env, fs};

/// How Bundler's variables and the keys of its file begin.
const BUNDLE: &str = "BUNDLE_";

/// Reads what the user's Bundler and Composer read.
pub fn of_user(home: Option<&Path>, said: &mut Said) {
    let variables = env::vars_os()
        .filter_map(|(name, value)| Some((name.into_string().ok()?, value.into_string().ok()?)));
    bundler(variables, "the environment", said);
    let named = env::var_os("BUNDLE_USER_CONFIG").map(Into::into);
    if let Some(file) = named.or_else(|| Some(home?.join(".bundle/config")))
        && let Ok(text) = fs::read_to_string(&file)
    {
        bundler(lines(&text), &file.display().to_string(), said);
    }
    if let Ok(text) = env::var("COMPOSER_AUTH") {
        composer(&text, said);
    }
    let own = env::var_os("COMPOSER_HOME").map(|folder| Path::new(&folder).join("auth.json"));
    let in_home =
        home.iter().flat_map(|home| [".config/composer", ".composer"].map(|folder| home.join(folder)));
    for file in own.into_iter().chain(in_home.map(|folder| folder.join("auth.json"))) {
        if let Ok(text) = fs::read_to_string(file) {
            composer(&text, said);
        }
    }
}

/// `BUNDLE_GEMS__KESTREL__EXAMPLE: "user:password"`, a line each.
fn lines(text: &str) -> impl Iterator<Item = (String, String)> {
    let pair = |line: &str| {
        let (key, value) = line.split_once(": ")?;
        Some((key.trim().to_owned(), value.trim().trim_matches(['"', '\'']).to_owned()))
    };
    text.lines().filter_map(pair).collect::<Vec<_>>().into_iter()
}

/// Logins by host, and the mirror that stands for all sources.
fn bundler(said_by: impl Iterator<Item = (String, String)>, shown: &str, said: &mut Said) {
    for (key, value) in said_by {
        let Some(name) = key.strip_prefix(BUNDLE) else { continue };
        // Bundler writes a dash as three, and a dot as two underscores.
        let name = name.replace("___", "-").replace("__", ".").to_lowercase();
        if name == "mirror.all" {
            said.address(Ecosystem::GEM, None, &value, shown);
        }
        let is_host =
            name.contains('.') && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '-'));
        if is_host && !name.starts_with("mirror.") && !name.starts_with("build.") && !value.is_empty() {
            let (user, password) = value.split_once(':').unwrap_or((&value, ""));
            said.logins.push(Login::password(&name, user, password));
        }
    }
}

/// Composer's `auth.json` (the Composer documentation, "Authentication for privately hosted packages").
fn composer(text: &str, said: &mut Said) {
    let auth: Value = serde_json::from_str(text).unwrap_or_default();
    for (host, login) in auth["http-basic"].as_object().into_iter().flatten() {
        if let (Some(user), Some(password)) = (login["username"].as_str(), login["password"].as_str()) {
            said.logins.push(Login::password(host, user, password));
        }
    }
    for (host, token) in auth["bearer"].as_object().into_iter().flatten() {
        said.logins.extend(token.as_str().map(|token| Login::token(host, token)));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn logins_and_the_mirror_of_bundler_are_read() {
        let text = "---\nBUNDLE_GEMS__KESTREL___SOUND__EXAMPLE: \"ada:horn\"\nBUNDLE_TOKENS__EXAMPLE: fog\nBUNDLE_JOBS: \"4\"\n\
            BUNDLE_BUILD__NOKOGIRI: \"--use\"\nBUNDLE_MIRROR__ALL: \"https://mirror.example\"\n\
            BUNDLE_MIRROR__HTTPS://GEMS__EXAMPLE/: \"https://other.example\"\n";
        let mut said = Said::default();
        bundler(lines(text), "a file", &mut said);
        assert_eq!(
            said.logins,
            [
                Login::password("gems.kestrel-sound.example", "ada", "horn"),
                Login::password("tokens.example", "fog", "")
            ]
        );
        let known: Vec<String> = said.known.iter().map(|known| known.address.to_string()).collect();
        assert_eq!(known, ["https://mirror.example"]);
    }

    #[test]
    fn logins_of_composer_are_read_and_other_texts_mean_nothing() {
        let mut said = Said::default();
        composer(
            r#"{"http-basic":{"packages.example":{"username":"ada","password":"horn"}},"bearer":{"b.example":"fog"}}"#,
            &mut said,
        );
        assert_eq!(
            said.logins,
            [Login::password("packages.example", "ada", "horn"), Login::token("b.example", "fog")]
        );
        for text in ["", "[]", "{\"bearer\":7}", "{\"http-basic\":{\"a\":{}}}"] {
            let mut said = Said::default();
            composer(text, &mut said);
            assert_eq!(said.logins, []);
        }
    }
}
