//! `resolutions` of a manifest: what the current form of `yarn.lock` has in place of what packages ask for.

use serde_json::Value;

/// The rules, in the order of the manifest.
pub(super) struct Resolutions<'m>(Vec<Rule<'m>>);

/// `name`, `name@range`, or either behind `parent/`, which may have a version of its own.
struct Rule<'m> {
    parent: Option<Named<'m>>,
    meant: Named<'m>,
    instead: &'m str,
}

/// A name, and a version or range.
type Named<'m> = (&'m str, Option<&'m str>);

impl<'m> Resolutions<'m> {
    pub(super) fn of(table: &'m Value) -> Self {
        let rule = |(pattern, instead): (&'m String, &'m Value)| {
            // Every package may be said by folders with stars before its name, too.
            let pattern = pattern.trim_start_matches("**/");
            let (first, rest) = first_of(pattern);
            let instead = instead.as_str()?;
            Some(match rest {
                "" => Rule { parent: None, meant: first, instead },
                rest => {
                    Rule { parent: Some(first), meant: first_of(rest.trim_start_matches("**/")).0, instead }
                }
            })
        };
        Self(table.as_object().into_iter().flatten().filter_map(rule).collect())
    }

    /// What is meant when `parent` (a name and a version) asks for `range` of `name`.
    pub(super) fn meant<'r>(&'r self, parent: (&str, &str), name: &str, range: &'r str) -> &'r str {
        let plain = |range: &'r str| range.strip_prefix("npm:").unwrap_or(range);
        let holds = |rule: &&Rule<'_>| {
            let below = rule.parent.is_none_or(|(name, version)| {
                name == parent.0
                    && version.is_none_or(|version| version.trim_start_matches("npm:") == parent.1)
            });
            let (meant, asked) = rule.meant;
            below
                && meant == name
                && asked.is_none_or(|asked| asked.trim_start_matches("npm:") == plain(range))
        };
        self.0.iter().find(holds).map_or(range, |rule| rule.instead)
    }
}

/// The first of the names that slashes part, and the rest.
fn first_of(pattern: &str) -> (Named<'_>, &str) {
    let scope = if pattern.starts_with('@') { pattern.find('/').map_or(0, |at| at + 1) } else { 0 };
    let end = pattern[scope..].find('/').map_or(pattern.len(), |at| scope + at);
    let (first, rest) = (&pattern[..end], pattern[end..].trim_start_matches('/'));
    match first[scope..].find('@') {
        Some(at) => ((&first[..scope + at], Some(&first[scope + at + 1..])), rest),
        None => ((first, None), rest),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rules_hold_for_a_package_a_range_or_below_a_parent() {
        let table = serde_json::json!({
            "rope": "1.0.0", "@kestrel/bell@^2": "2.1.0", "horn/tin": "npm:tin@3.0.0",
            "@kestrel/horn@4.0.0/@kestrel/tin": "5.0.0", "**/wood": "6.0.0"
        });
        let rules = Resolutions::of(&table);
        for (parent, name, range, meant) in [
            (("any", "1.0.0"), "rope", "^9", "1.0.0"),
            (("any", "1.0.0"), "@kestrel/bell", "npm:^2", "2.1.0"),
            (("any", "1.0.0"), "@kestrel/bell", "npm:^1", "npm:^1"),
            (("horn", "1.0.0"), "tin", "^1", "npm:tin@3.0.0"),
            (("other", "1.0.0"), "tin", "^1", "^1"),
            (("@kestrel/horn", "4.0.0"), "@kestrel/tin", "^1", "5.0.0"),
            (("@kestrel/horn", "4.0.1"), "@kestrel/tin", "^1", "^1"),
            (("any", "1.0.0"), "wood", "^1", "6.0.0"),
        ] {
            assert_eq!(rules.meant(parent, name, range), meant, "{parent:?} {name} {range}");
        }
    }
}
