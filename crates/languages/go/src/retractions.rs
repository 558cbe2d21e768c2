//! Versions that the authors of a module take back, and modules that they gave up (the Go modules reference, "retract
//! directive" and "Deprecation"): taken from the `go.mod` of the newest version.

use crate::modules::Module;
use config::addresses::Addresses;
use engine::StepContext;
use model::Ecosystem;
use remote::packages::go;
use semver::Version;

/// Versions that are taken back, from the first to the last, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Retraction {
    first: Version,
    last: Version,
    reason: String,
}

/// Why the authors of a module do not stand for the version that is used; nothing where they do, or nobody can be asked.
pub(super) fn of(module: &Module, addresses: &Addresses, cx: &StepContext<'_>) -> Option<String> {
    let (path, version) = (&module.module.path, number(&module.module.version)?);
    let proxy = addresses.askable(Ecosystem::GO, path, cx.fetcher)?;
    let newest = go::newest(cx.fetcher, &proxy, path).ok()?;
    let bytes = go::manifest(cx.fetcher, &proxy, path, &newest).ok()?;
    let text = String::from_utf8_lossy(&bytes).into_owned();
    let retracted = retractions(&text).into_iter().find(|r| r.first <= version && version <= r.last);
    match retracted {
        Some(Retraction { reason, .. }) if reason.is_empty() => Some("retracted".to_owned()),
        Some(Retraction { reason, .. }) => Some(format!("retracted: {reason}")),
        None => Some(format!("deprecated: {}", deprecation(&text)?)),
    }
}

fn number(version: &str) -> Option<Version> {
    Version::parse(version.strip_prefix('v')?).ok()
}

/// The `retract` directives of a `go.mod`; the reason is the comment beside or above.
fn retractions(text: &str) -> Vec<Retraction> {
    let mut found = Vec::new();
    let (mut in_block, mut above) = (false, String::new());
    for line in text.lines().map(str::trim) {
        let (code, comment) =
            line.split_once("//").map_or((line, ""), |(code, comment)| (code, comment.trim()));
        let code = code.trim();
        if code.is_empty() {
            // Several lines of a comment are one.
            above = if comment.is_empty() {
                String::new()
            } else {
                format!("{above} {comment}").trim().to_owned()
            };
            continue;
        }
        let what = match code.strip_prefix("retract") {
            Some(rest) if rest.trim() == "(" => {
                in_block = true;
                continue;
            }
            Some(rest) if rest.starts_with([' ', '\t', '[']) => rest.trim(),
            _ if in_block && code != ")" => code,
            _ => {
                in_block = false;
                above.clear();
                continue;
            }
        };
        let reason = if comment.is_empty() { std::mem::take(&mut above) } else { comment.to_owned() };
        let ends: Vec<Version> =
            what.trim_matches(['[', ']']).split(',').filter_map(|version| number(version.trim())).collect();
        if let [first, .., last] | [first @ last] = &ends[..] {
            found.push(Retraction { first: first.clone(), last: last.clone(), reason });
        }
        above.clear();
    }
    found
}

/// What the comment at the module says, where that is given up.
fn deprecation(text: &str) -> Option<&str> {
    let before = text.lines().take_while(|line| !line.starts_with("module "));
    let beside = text.lines().find(|line| line.starts_with("module "));
    let comments = before.chain(beside).filter_map(|line| Some(line.split_once("//")?.1.trim()));
    comments.into_iter().find_map(|comment| Some(comment.strip_prefix("Deprecated:")?.trim()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn retractions_have_ranges_and_reasons() {
        let text = "module buoy.example/a // Deprecated: use b.\n\n// Sinks in fog.\nretract v1.0.1\nretract (\n\tv1.1.0 // Leaks.\n\
            \t[v1.2.0, v1.2.9]\n)\nrequire x.example v1.0.0\n";
        let found: Vec<_> = retractions(text)
            .into_iter()
            .map(|r| (r.first.to_string(), r.last.to_string(), r.reason))
            .collect();
        let expected =
            [("1.0.1", "1.0.1", "Sinks in fog."), ("1.1.0", "1.1.0", "Leaks."), ("1.2.0", "1.2.9", "")];
        let expected = expected.map(|(a, b, c)| (a.to_owned(), b.to_owned(), c.to_owned()));
        assert_eq!(found, expected);
        assert_eq!(deprecation(text), Some("use b."));
        assert_eq!(deprecation("module a\n// Deprecated: no.\n"), None);
    }
}
