//! What a registry asks for before it answers, and how that is given: nothing, a password (RFC 7617), or
//! a token (RFC 6750) that another server gives out.

use super::credentials::{CredentialFiles, Login, Secret};
use super::reference::{Reference, is_loopback};
use crate::error::{RemoteError, Result};
use crate::fetch::Fetcher;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::io::Read;

/// A token is no longer than this, in bytes.
const LONGEST_TOKEN: u64 = 1 << 20;

#[derive(Deserialize)]
struct Token {
    token: Option<String>,
    access_token: Option<String>,
}

/// What one wants to be let in for.
#[derive(Clone, Copy)]
pub(super) struct Wanted<'a> {
    pub(super) reference: &'a Reference,
    /// Scopes of a token, as in `repository:NAME:pull`; those of the challenge where there are none.
    pub(super) scopes: &'a [String],
}

/// The value of the header `Authorization` that answers the registry's challenges; `None` when there is
/// nothing to answer with. With it comes where credentials were found.
pub(super) fn answer(
    fetcher: &Fetcher,
    credentials: &CredentialFiles,
    wanted: Wanted<'_>,
    challenges: &[String],
) -> Result<(Option<String>, Option<String>)> {
    let Wanted { reference, .. } = wanted;
    let login = credentials.login(&reference.host, &reference.repository)?;
    let found = login.as_ref().map(|login| login.found.clone());
    for challenge in challenges {
        let (scheme, parameters) = challenge.split_once(' ').unwrap_or((challenge, ""));
        let parameters = parameters_of(parameters);
        if scheme.eq_ignore_ascii_case("bearer") {
            let token = token(fetcher, wanted, login.as_ref(), &parameters)?;
            return Ok((Some(format!("Bearer {token}")), found));
        }
        if scheme.eq_ignore_ascii_case("basic")
            && let Some(Login { secret: Secret::Password(password), .. }) = &login
        {
            return Ok((Some(basic(password)), found));
        }
    }
    Ok((None, found))
}

fn basic(password: &str) -> String {
    format!("Basic {}", STANDARD.encode(password))
}

/// Gets a token.
fn token(
    fetcher: &Fetcher,
    Wanted { reference, scopes }: Wanted<'_>,
    login: Option<&Login>,
    parameters: &BTreeMap<String, String>,
) -> Result<String> {
    let malformed = |detail: &str| RemoteError::Malformed {
        url: reference.url(""),
        detail: format!("it requires a token, but {detail}"),
    };
    let realm = parameters.get("realm").ok_or_else(|| malformed("does not say where to get one"))?;
    let plain = realm.strip_prefix("http://").map(|rest| rest.split('/').next().unwrap_or(rest));
    if plain.is_some_and(|host| !is_loopback(host) && host != reference.host) {
        return Err(malformed("names a server without TLS"));
    }
    let usual = format!("repository:{}:pull", reference.repository);
    let said = parameters.get("scope").unwrap_or(&usual);
    // A challenge may name several in one.
    let own = scopes.iter().map(String::as_str);
    let all: Vec<&str> = if scopes.is_empty() { said.split(' ').collect() } else { own.collect() };
    let mut query: Vec<_> = all.into_iter().map(|scope| ("scope", scope)).collect();
    query.extend(parameters.get("service").map(|service| ("service", service.as_str())));
    fetcher.with_retry(|| {
        let answer = match login.map(|login| &login.secret) {
            Some(Secret::Identity(token)) => {
                let mut form = vec![("grant_type", "refresh_token"), ("client_id", "shtetl")];
                form.push(("refresh_token", token));
                // There, they are one field (RFC 6749, section 3.3).
                let scope = query.iter().filter(|(name, _)| *name == "scope").map(|(_, scope)| *scope);
                let scope = scope.collect::<Vec<_>>().join(" ");
                form.push(("scope", &scope));
                form.extend(query.iter().filter(|(name, _)| *name != "scope"));
                fetcher.send_form(realm, &form)?
            }
            secret => {
                let pairs: Vec<_> =
                    query.iter().map(|(name, value)| format!("{name}={}", encoded(value))).collect();
                let sign = if realm.contains('?') { '&' } else { '?' };
                let url = format!("{realm}{sign}{}", pairs.join("&"));
                let header = secret.and_then(|secret| match secret {
                    Secret::Password(password) => Some(basic(password)),
                    Secret::Identity(_) => None,
                });
                let headers: Vec<_> = header.iter().map(|value| ("Authorization", value.as_str())).collect();
                fetcher.ask(&url, &headers)?
            }
        };
        if matches!(answer.status(), 400 | 401 | 403) {
            return Err(denied(reference, realm, login.map(|login| login.found.clone())));
        }
        let mut text = Vec::new();
        let mut answer = answer.successful(realm)?;
        let read = answer.body().take(LONGEST_TOKEN).read_to_end(&mut text);
        read.map_err(|e| RemoteError::Unreachable { url: realm.clone(), detail: e.to_string() })?;
        let token: Option<Token> = serde_json::from_slice(&text).ok();
        let token = token.and_then(|token| token.token.or(token.access_token));
        token.filter(|token| !token.is_empty()).ok_or_else(|| malformed("the answer has none"))
    })
}

/// That the registry does not let this user have it.
pub(super) fn denied(reference: &Reference, url: &str, credentials: Option<String>) -> RemoteError {
    RemoteError::Denied { url: url.to_owned(), host: reference.host.clone(), credentials }
}

/// The parameters of a challenge (RFC 9110, section 11.2): `name="value"` with commas between.
fn parameters_of(text: &str) -> BTreeMap<String, String> {
    let mut parameters = BTreeMap::new();
    let mut rest = text.trim();
    while let Some((name, after)) = rest.split_once('=') {
        let name = name.trim_matches([',', ' ']).to_lowercase();
        let (value, left) = match after.strip_prefix('"') {
            Some(quoted) => quoted.split_once('"').unwrap_or((quoted, "")),
            None => after.split_once(',').unwrap_or((after, "")),
        };
        parameters.insert(name, value.to_owned());
        rest = left;
    }
    parameters
}

/// Percent-encoding of a value in a query (RFC 3986, section 2.1).
fn encoded(text: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._~:/".contains(&byte);
    text.bytes().map(|b| if plain(b) { char::from(b).to_string() } else { format!("%{b:02X}") }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn challenges_are_taken_apart() {
        let found = parameters_of(
            r#"realm="https://auth.example/token", service=registry,scope="repository:a:pull,push""#,
        );
        assert_eq!(found["realm"], "https://auth.example/token");
        assert_eq!(found["service"], "registry");
        assert_eq!(found["scope"], "repository:a:pull,push");
        assert_eq!(encoded("repository:a b:pull"), "repository:a%20b:pull");
    }
}
