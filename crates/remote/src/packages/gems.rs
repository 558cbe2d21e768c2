//! Registries of gems: the compact index (the RubyGems guides, "Compact Index API"), and folders of gem files.

use crate::address::Address;
use crate::error::{RemoteError, Result};
use crate::fetch::Fetcher;
use std::collections::BTreeMap;

/// A gem that a registry has, in one version for one platform.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Offer {
    /// Version and platform as they are in names of files, as in `1.18.3-x86_64-linux`.
    pub number: String,
    /// What it needs: names with requirements, as in `~> 2.8.2&< 3`.
    pub needs: BTreeMap<String, String>,
    /// SHA-256 of its file in hexadecimal digits, where the registry says it.
    pub sha256: Option<String>,
    /// The supported Ruby versions, as in `>= 3.0`; empty for all.
    pub ruby: String,
}

/// Where the file of a gem is; `full_name` is its name with version and platform.
pub fn file(registry: &Address, full_name: &str) -> Address {
    if let Address::Folder(folder) = registry {
        let flat = folder.join(format!("{full_name}.gem"));
        if flat.is_file() {
            return Address::Folder(flat);
        }
    }
    registry.join(&format!("gems/{full_name}.gem"))
}

/// What a registry has of a gem, as it lists it; nothing withdrawn is in the list.
pub fn offers(fetcher: &Fetcher, registry: &Address, name: &str) -> Result<Vec<Offer>> {
    let address = registry.join(&format!("info/{name}"));
    let bytes = fetcher.get(&address, "text/plain")?;
    let malformed =
        |detail: &str| RemoteError::Malformed { url: address.to_string(), detail: detail.to_owned() };
    let text = String::from_utf8(bytes).map_err(|_| malformed("it is not UTF-8"))?;
    let mut lines = text.lines();
    if lines.by_ref().next().is_some_and(|line| line != "---") {
        return Err(malformed("it is not a list of versions"));
    }
    lines
        .filter(|line| !line.is_empty())
        .map(|line| offer(line).ok_or_else(|| malformed("a line is not a version")))
        .collect()
}

/// `1.13.10 mini_portile2:~> 2.8.0,racc:~> 1.4|checksum:…,ruby:>= 3.0&< 3.5`
fn offer(line: &str) -> Option<Offer> {
    let (number, rest) = line.split_once(' ').unwrap_or((line, ""));
    let (needs, said) = rest.split_once('|').unwrap_or((rest, ""));
    let pair = |text: &str| text.split_once(':').map(|(key, value)| (key.to_owned(), value.to_owned()));
    let needs = needs.split(',').filter(|need| !need.is_empty()).map(pair).collect::<Option<_>>()?;
    let mut offer = Offer { number: number.to_owned(), needs, ..Offer::default() };
    for (key, value) in said.split(',').filter_map(pair) {
        match key.as_str() {
            // What is no SHA-256 is as if nothing were said.
            "checksum" => offer.sha256 = Some(value.to_ascii_lowercase()).filter(|hex| is_sha256(hex)),
            "ruby" => offer.ruby = value,
            _ => {}
        }
    }
    let is_plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_');
    (number.starts_with(|c: char| c.is_ascii_digit()) && number.chars().all(is_plain)).then_some(offer)
}

fn is_sha256(hex: &str) -> bool {
    hex.len() == 64 && hex.chars().all(|c| c.is_ascii_hexdigit())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_the_compact_index_are_read() {
        let needs = "mini_portile2:~> 2.8.0&< 3,racc:~> 1.4";
        let sum = "AB".repeat(32);
        let line = format!("1.13.10-x86_64-linux {needs}|checksum:{sum},ruby:>= 3.0&< 3.5.dev,rubygems:>= 3");
        let offer = offer(&line).unwrap();
        assert_eq!(offer.number, "1.13.10-x86_64-linux");
        assert_eq!(offer.needs["mini_portile2"], "~> 2.8.0&< 3");
        assert_eq!(offer.needs.len(), 2);
        assert_eq!(offer.sha256, Some(sum.to_lowercase()));
        assert_eq!(offer.ruby, ">= 3.0&< 3.5.dev");
        assert_eq!(super::offer("1.0 |checksum:00").unwrap().needs.len(), 0);
        assert_eq!(super::offer("1.0").unwrap(), Offer { number: "1.0".to_owned(), ..Offer::default() });
        for none in ["", "../1 |", "ferry a:b", "1.0 a|", "1/2"] {
            assert!(super::offer(none).is_none(), "{none:?}");
        }
    }

    #[test]
    fn a_folder_of_files_has_them_side_by_side_or_like_a_registry() {
        let folder = tempfile::tempdir().unwrap();
        let registry = Address::Folder(folder.path().to_owned());
        assert_eq!(file(&registry, "fog-1.0"), Address::Folder(folder.path().join("gems/fog-1.0.gem")));
        std::fs::write(folder.path().join("fog-1.0.gem"), "").unwrap();
        assert_eq!(file(&registry, "fog-1.0"), Address::Folder(folder.path().join("fog-1.0.gem")));
    }
}
