//! How tools find the gateway: each by its own public configuration, none of which is in an image or in a source.

use crate::url;
use model::Ecosystem;

/// The file with Maven's settings, from the root that programs run in.
pub const MAVEN_SETTINGS: &str = "opt/maven-settings.xml";
/// What Maven calls the repository that stands for all others.
pub const MAVEN_MIRROR: &str = "packages";
/// The variable with the address below which each kind of files is.
const VARIABLE: &str = "SHTETL_FETCH";

/// The variables by which tools learn where files of these kinds are.
pub fn environment(kinds: &[String]) -> Vec<(&'static str, String)> {
    let mut env = Vec::new();
    if !kinds.is_empty() {
        env.push((VARIABLE, url("").trim_end_matches('/').to_owned()));
    }
    for kind in kinds {
        let here = url(kind);
        match Ecosystem::of(kind) {
            Ecosystem::NPM => {
                // Yarn from its second series on has names of its own, and asks nobody without TLS unless told.
                env.push(("YARN_NPM_REGISTRY_SERVER", here.trim_end_matches('/').to_owned()));
                env.push(("YARN_UNSAFE_HTTP_WHITELIST", "127.0.0.1".to_owned()));
                env.push(("YARN_ENABLE_TELEMETRY", "false".to_owned()));
                env.push(("npm_config_registry", here));
                // What they ask for would be sent elsewhere, and changes nothing.
                let off = ["npm_config_audit", "npm_config_fund", "npm_config_update_notifier"];
                env.extend(off.map(|name| (name, "false".to_owned())));
            }
            Ecosystem::PYPI => env.push(("PIP_INDEX_URL", here)),
            Ecosystem::GEM => env.push(("BUNDLE_MIRROR__ALL", here)),
            Ecosystem::GO => {
                env.push(("GOPROXY", here.trim_end_matches('/').to_owned()));
                env.push(("GONOSUMDB", "*".to_owned()));
            }
            Ecosystem::MAVEN => env.push(("MAVEN_ARGS", format!("--settings /{MAVEN_SETTINGS}"))),
            _ => {}
        }
    }
    env
}

/// Maven's settings (the settings reference): every repository is the gateway's.
pub fn maven_settings<'k>(kinds: impl DoubleEndedIterator<Item = &'k str>) -> String {
    let mirror = |kind: &str| {
        let (id, of) = match kind.split_once(':') {
            Some((_, id)) => (id, id),
            None => (MAVEN_MIRROR, "*"),
        };
        let url = url(kind);
        format!("<mirror><id>{id}</id><mirrorOf>{of}</mirrorOf><url>{url}</url></mirror>")
    };
    // What fits one repository comes before what fits all.
    let mirrors: String = kinds.rev().map(mirror).collect();
    format!("<settings><mirrors>{mirrors}</mirrors></settings>\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_repository_with_an_address_of_its_own_is_asked_first() {
        assert_eq!(
            maven_settings(["maven", "maven:harbour"].into_iter()),
            "<settings><mirrors><mirror><id>harbour</id><mirrorOf>harbour</mirrorOf>\
             <url>http://127.0.0.1:8099/maven:harbour/</url></mirror>\
             <mirror><id>packages</id><mirrorOf>*</mirrorOf><url>http://127.0.0.1:8099/maven/</url></mirror>\
             </mirrors></settings>\n"
        );
    }

    #[test]
    fn every_kind_is_named_in_the_way_of_its_tools() {
        let env = environment(&["npm".to_owned(), "files:fonts".to_owned()]);
        assert!(env.contains(&("SHTETL_FETCH", "http://127.0.0.1:8099".to_owned())), "{env:?}");
        assert!(env.contains(&("npm_config_registry", "http://127.0.0.1:8099/npm/".to_owned())), "{env:?}");
        let yarn = ("YARN_NPM_REGISTRY_SERVER", "http://127.0.0.1:8099/npm".to_owned());
        assert!(env.contains(&yarn), "{env:?}");
        let gem = ("BUNDLE_MIRROR__ALL", "http://127.0.0.1:8099/gem/".to_owned());
        assert!(environment(&["gem".to_owned()]).contains(&gem));
        assert_eq!(environment(&[]), []);
    }
}
