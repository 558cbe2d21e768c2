//! Versions of PHP's packages and requirements on them (the Composer documentation, "Versions and constraints").

use pubgrub::Ranges;
use std::fmt;

/// Accepted versions.
pub(super) type Set = Ranges<Version>;

/// The number that stands for all that a branch may become.
const OF_BRANCH: u64 = 9_999_999;
/// How many numbers a version has.
const NUMBERS: usize = 4;

/// How settled a version is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) enum Stability {
    Development,
    Alpha,
    Beta,
    Candidate,
    Stable,
    Patch,
}

impl Stability {
    /// As manifests name it.
    pub(super) fn parse(text: &str) -> Option<Self> {
        Some(match text.to_lowercase().as_str() {
            "dev" => Self::Development,
            "alpha" | "a" => Self::Alpha,
            "beta" | "b" => Self::Beta,
            "rc" => Self::Candidate,
            "" | "stable" => Self::Stable,
            "patch" | "pl" | "p" => Self::Patch,
            _ => return None,
        })
    }
}

/// A version: four numbers, how settled it is, and which of those.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) struct Version {
    numbers: [u64; NUMBERS],
    pub(super) stability: Stability,
    part: u64,
}

impl Version {
    /// Reads a version with its numbers; `None` for the name of a branch, and for what is none.
    pub(super) fn parse(text: &str) -> Option<Self> {
        Self::with_length(text).map(|(version, _)| version)
    }

    /// The same, and how many numbers are given.
    fn with_length(text: &str) -> Option<(Self, usize)> {
        let text = text.trim().split('#').next()?.split('+').next()?.trim();
        let text = text.strip_prefix(['v', 'V']).unwrap_or(text);
        let (numbers, suffix) = match text.find(['-', '_']) {
            Some(at) => (&text[..at], text[at + 1..].to_lowercase()),
            // "1.0beta2"
            None => match text.find(|c: char| c.is_ascii_alphabetic() && c != 'x') {
                Some(at) => (&text[..at], text[at..].to_lowercase()),
                None => (text, String::new()),
            },
        };
        let parts: Vec<&str> = numbers.trim_end_matches('.').split('.').collect();
        let is_branch = suffix == "dev" && parts.last().is_some_and(|part| *part == "x" || *part == "*");
        let said = parts.len() - usize::from(is_branch);
        if said == 0 || said > NUMBERS {
            return None;
        }
        let mut all = [if is_branch { OF_BRANCH } else { 0 }; NUMBERS];
        for (number, part) in all.iter_mut().zip(&parts[..said]) {
            *number = part.parse().ok()?;
        }
        let word_end = suffix.find(|c: char| !c.is_ascii_alphabetic()).unwrap_or(suffix.len());
        let stability = Stability::parse(&suffix[..word_end])?;
        let digits: String = suffix[word_end..].chars().filter(char::is_ascii_digit).collect();
        let version = Self { numbers: all, stability, part: digits.parse().unwrap_or(0) };
        Some((version, said))
    }

    /// What comes before every version with these numbers.
    fn before_all(numbers: [u64; NUMBERS]) -> Self {
        Self { numbers, stability: Stability::Development, part: 0 }
    }

    /// What comes before every version whose number at `place` is higher.
    fn end_of(&self, place: usize) -> Self {
        let mut numbers = [0; NUMBERS];
        numbers[..=place].copy_from_slice(&self.numbers[..=place]);
        numbers[place] = numbers[place].saturating_add(1);
        Self::before_all(numbers)
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [major, minor, patch, more] = self.numbers;
        write!(f, "{major}.{minor}.{patch}")?;
        if more > 0 {
            write!(f, ".{more}")?;
        }
        match self.stability {
            Stability::Stable => return Ok(()),
            // What nobody said, but which a limit includes.
            Stability::Development => return Ok(()),
            Stability::Alpha => f.write_str("-alpha"),
            Stability::Beta => f.write_str("-beta"),
            Stability::Candidate => f.write_str("-RC"),
            Stability::Patch => f.write_str("-p"),
        }?;
        write!(f, "{}", self.part)
    }
}

/// The least settled version that a requirement of the app lets in; `None` where it says nothing of it.
pub(super) fn wanted_stability(requirement: &str) -> Option<Stability> {
    let of_one = |text: &str| {
        let (version, flag) =
            text.split_once('@').map_or((text, None), |(version, flag)| (version, Some(flag)));
        let version = version.trim_start_matches(|c: char| "<>=!~^ ".contains(c));
        let said = flag.map(|flag| flag.split('#').next().unwrap_or_default()).and_then(Stability::parse);
        let own = || Version::parse(version).map(|version| version.stability);
        let branch = version.starts_with("dev-").then_some(Stability::Development);
        said.or(branch).or_else(own).filter(|stability| *stability < Stability::Stable)
    };
    requirement.split(['|', ',', ' ']).filter_map(of_one).min()
}

/// The versions that a requirement allows, as in `^2.1 || 1.5.*`; `None` for what is no requirement. Names of branches
/// allow nothing.
pub(super) fn allowed(requirement: &str) -> Option<Set> {
    let mut all = Set::empty();
    for alternative in requirement.split('|').map(str::trim).filter(|text| !text.is_empty()) {
        all = all.union(&all_of(alternative)?);
    }
    (!requirement.trim().is_empty()).then_some(all)
}

/// What meets all of the requirements, which commas or spaces divide.
fn all_of(text: &str) -> Option<Set> {
    if let Some((from, to)) = text.split_once(" - ") {
        let (from, (to, said)) = (Version::parse(from)?, Version::with_length(to)?);
        let to = match said < 3 {
            true => Set::strictly_lower_than(to.end_of(said - 1)),
            false => Set::lower_than(to),
        };
        return Some(Set::higher_than(lower(from)).intersection(&to));
    }
    let mut all = Set::full();
    let mut operator = String::new();
    for word in text.split([',', ' ']).filter(|word| !word.is_empty()) {
        // The operator may stand by itself.
        if word.chars().all(|c| "<>=!~^".contains(c)) {
            operator = word.to_owned();
            continue;
        }
        // "dev-main as 1.0" is a wish of the app alone.
        if word == "as" {
            break;
        }
        all = all.intersection(&one(&format!("{operator}{word}"))?);
        operator.clear();
    }
    operator.is_empty().then_some(all)
}

/// A limit without a word is that of everything with its numbers.
fn lower(version: Version) -> Version {
    match version.stability {
        Stability::Stable => Version::before_all(version.numbers),
        _ => version,
    }
}

fn one(text: &str) -> Option<Set> {
    let text = text.split('@').next()?.trim();
    let at = text.find(|c: char| !"<>=!~^".contains(c)).unwrap_or(text.len());
    let (operator, version) = text.split_at(at);
    if version.is_empty() || matches!(version, "*" | "x" | "X" | "*.*") {
        return operator.is_empty().then(Set::full);
    }
    if version.starts_with("dev-") {
        return Some(Set::empty());
    }
    if let Some(series) = version.strip_suffix(".*").or_else(|| version.strip_suffix(".x")) {
        let series = series.trim_end_matches(".*").trim_end_matches(".x");
        let (first, said) = Version::with_length(series)?;
        let end = first.end_of(said - 1);
        return match operator {
            "" | "=" | "==" | "~" | "^" => Some(Set::between(lower(first), end)),
            ">=" => Some(Set::higher_than(lower(first))),
            "<" => Some(Set::strictly_lower_than(lower(first))),
            "!=" => Some(Set::between(lower(first), end).complement()),
            _ => None,
        };
    }
    let (version, said) = Version::with_length(version)?;
    Some(match operator {
        "" | "=" | "==" => Set::singleton(version),
        "!=" | "<>" => Set::singleton(version).complement(),
        ">" => Set::strictly_higher_than(version),
        "<=" => Set::lower_than(version),
        ">=" => Set::higher_than(lower(version)),
        "<" => Set::strictly_lower_than(lower(version)),
        // The last number that is said may rise.
        "~" => Set::between(lower(version.clone()), version.end_of(said.saturating_sub(2))),
        // The first number that is not 0 stays.
        "^" => {
            let place = version.numbers.iter().position(|number| *number > 0).unwrap_or(said).min(said - 1);
            Set::between(lower(version.clone()), version.end_of(place))
        }
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn version(text: &str) -> Version {
        Version::parse(text).unwrap_or_else(|| panic!("{text}"))
    }

    #[test]
    fn versions_are_in_the_order_of_their_numbers_and_of_how_settled_they_are() {
        let ordered = [
            "1.0.0-dev",
            "1.0.0-alpha1",
            "1.0.0-alpha2",
            "v1.0.0-beta1",
            "1.0RC1",
            "1.0.0-RC2",
            "1.0",
            "1.0.0-p1",
            "1.0.1",
            "1.0.1.5",
            "1.2",
            "1.10",
            "1.x-dev",
            "2.0",
            "2021.4",
        ];
        let read: Vec<Version> = ordered.iter().map(|text| version(text)).collect();
        assert!(read.is_sorted(), "{read:?}");
        assert_eq!(version("v2.1"), version("2.1.0.0"));
        for text in ["dev-main", "", "1.2.3.4.5", "one", "1.0-whatever"] {
            assert_eq!(Version::parse(text), None, "{text}");
        }
    }

    #[test]
    fn requirements_allow_what_composer_lets_them() {
        for (requirement, yes, no) in [
            ("^1.2", &["1.2", "1.2.0-beta1", "1.99"][..], &["1.1.9", "2.0.0-alpha1", "2.0"][..]),
            ("^0.3", &["0.3", "0.3.9"], &["0.4"]),
            ("^0.0.3", &["0.0.3"], &["0.0.4"]),
            ("^0", &["0.1", "0.9"], &["1.0"]),
            ("~1.2", &["1.2", "1.9"], &["1.1", "2.0"]),
            ("~1.2.3", &["1.2.3", "1.2.9"], &["1.2.2", "1.3"]),
            ("~1", &["1.0", "1.9"], &["2.0"]),
            ("1.2.*", &["1.2.0", "1.2.7"], &["1.3"]),
            ("1.2 - 2.0", &["1.2", "2.0.9"], &["2.1"]),
            ("1.2.0 - 2.0.0", &["2.0.0"], &["2.0.1"]),
            (">=1.0 <1.1 || >=1.2", &["1.0", "1.2", "9"], &["1.1"]),
            (">= 1.0, != 1.5", &["1.0", "1.6"], &["1.5"]),
            ("1.0", &["1.0.0", "v1.0"], &["1.0.1", "1.0-beta"]),
            ("^1.0|^2.0", &["1.5", "2.5"], &["3"]),
            ("*", &["0", "99"], &[]),
            ("^2.0@dev", &["2.1"], &["3"]),
            ("dev-main", &[], &["1.0"]),
        ] {
            let set = allowed(requirement).unwrap_or_else(|| panic!("{requirement}"));
            yes.iter().for_each(|text| assert!(set.contains(&version(text)), "{requirement} allows {text}"));
            no.iter().for_each(|text| assert!(!set.contains(&version(text)), "{requirement} refuses {text}"));
        }
        for text in ["", "^", "whatever", ">*"] {
            assert_eq!(allowed(text), None, "{text}");
        }
    }

    #[test]
    fn an_app_may_ask_for_what_is_not_settled_yet() {
        for (requirement, expected) in [
            ("^1.0", None),
            ("^1.0@dev", Some(Stability::Development)),
            ("@beta", Some(Stability::Beta)),
            ("2.0.0-RC1", Some(Stability::Candidate)),
            ("dev-main", Some(Stability::Development)),
            ("^1.0 || 2.0-alpha1", Some(Stability::Alpha)),
        ] {
            assert_eq!(wanted_stability(requirement), expected, "{requirement}");
        }
    }
}
