//! Versions of gems and requirements on them (RubyGems: `Gem::Version`, `Gem::Requirement`).

use pubgrub::Ranges;
use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};

/// Accepted versions.
pub(super) type Set = Ranges<GemVersion>;

/// A part of a version. Words come before numbers: `1.0.a` is before `1.0`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Part {
    Word(String),
    Number(u128),
}

/// A version, compared part by part; zeros at the end do not count.
#[derive(Debug, Clone)]
pub(super) struct GemVersion {
    text: String,
    parts: Vec<Part>,
}

impl GemVersion {
    /// Reads a version; `None` for what is none.
    pub(super) fn parse(text: &str) -> Option<Self> {
        let text = text.trim();
        let is_plain = |c: char| c.is_ascii_alphanumeric() || c == '.' || c == '-';
        let is_one = text.starts_with(|c: char| c.is_ascii_digit()) && text.chars().all(is_plain);
        let is_split = text.split(['.', '-']).all(|part| !part.is_empty());
        (is_one && is_split).then(|| Self { text: text.to_owned(), parts: parts_of(text) })
    }

    /// Whether it comes before a release.
    pub(super) fn is_early(&self) -> bool {
        self.parts.iter().any(|part| matches!(part, Part::Word(_)))
    }

    /// The numbers before the first word, with at least so many.
    fn numbers(&self) -> Vec<u128> {
        let numbers = self.text.split(['.', '-']).map_while(|part| part.parse().ok());
        numbers.collect()
    }

    /// The first version that `~>` this one does not allow: before everything of the next series.
    fn end_of_series(&self) -> Self {
        let mut numbers = self.numbers();
        if numbers.len() > 1 {
            numbers.pop();
        }
        if let Some(last) = numbers.last_mut() {
            *last = last.saturating_add(1);
        }
        let next: Vec<String> = numbers.iter().map(u128::to_string).collect();
        // No word of a version is before it.
        let text = format!("{}.A", next.join("."));
        Self { parts: parts_of(&text), text }
    }

    /// The parts that count: numbers without zeros at the end, then words likewise.
    fn counting(&self) -> Vec<&Part> {
        let words =
            self.parts.iter().position(|part| matches!(part, Part::Word(_))).unwrap_or(self.parts.len());
        let (numbers, words) = self.parts.split_at(words);
        let without_zeros = |parts: &[Part]| {
            parts.iter().rposition(|part| *part != Part::Number(0)).map_or(0, |last| last + 1)
        };
        numbers[..without_zeros(numbers)].iter().chain(&words[..without_zeros(words)]).collect()
    }
}

/// Runs of digits and of letters; a dash stands for `.pre.`.
fn parts_of(text: &str) -> Vec<Part> {
    let text = text.replace('-', ".pre.");
    let mut parts = Vec::new();
    for piece in text.split('.') {
        let mut rest = piece;
        while let Some(first) = rest.chars().next() {
            let is_digit = first.is_ascii_digit();
            let end = rest.find(|c: char| c.is_ascii_digit() != is_digit).unwrap_or(rest.len());
            let (run, after) = rest.split_at(end);
            parts.push(match is_digit {
                true => Part::Number(run.parse().unwrap_or(u128::MAX)),
                false => Part::Word(run.to_owned()),
            });
            rest = after;
        }
    }
    parts
}

impl Ord for GemVersion {
    fn cmp(&self, other: &Self) -> Ordering {
        const ZERO: Part = Part::Number(0);
        let (own, others) = (self.counting(), other.counting());
        let part = |parts: &[&Part], at: usize| parts.get(at).map_or(ZERO, |part| (*part).clone());
        let pairs = (0..own.len().max(others.len())).map(|at| part(&own, at).cmp(&part(&others, at)));
        pairs.into_iter().find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
    }
}

impl PartialOrd for GemVersion {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for GemVersion {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for GemVersion {}

impl Hash for GemVersion {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.counting().hash(state);
    }
}

impl fmt::Display for GemVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

/// The versions that requirements allow, as in `~> 2.1` or `>= 1, != 1.5`; `None` for what is no requirement.
pub(super) fn allowed<'a>(requirements: impl IntoIterator<Item = &'a str>) -> Option<Set> {
    let mut all = Set::full();
    for one in requirements.into_iter().flat_map(|text| text.split([',', '&'])) {
        let one = one.trim();
        let operator = one.find(|c: char| !matches!(c, '=' | '!' | '<' | '>' | '~')).unwrap_or(one.len());
        let version = GemVersion::parse(&one[operator..])?;
        let set = match &one[..operator] {
            "" | "=" => Set::singleton(version),
            "!=" => Set::singleton(version).complement(),
            ">" => Set::strictly_higher_than(version),
            "<" => Set::strictly_lower_than(version),
            ">=" => Set::higher_than(version),
            "<=" => Set::lower_than(version),
            "~>" => Set::between(version.clone(), version.end_of_series()),
            _ => return None,
        };
        all = all.intersection(&set);
    }
    Some(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn version(text: &str) -> GemVersion {
        GemVersion::parse(text).unwrap()
    }

    #[test]
    fn versions_are_ordered_as_rubygems_orders_them() {
        let ordered = [
            "0.9",
            "1.0.a",
            "1.0.a.2",
            "1.0.b1",
            "1.0.b10",
            "1.0.rc1",
            "1",
            "1.0.1",
            "1.2",
            "1.10",
            "2.0.0.pre1",
            "2",
        ];
        for pair in ordered.windows(2) {
            assert!(version(pair[0]) < version(pair[1]), "{pair:?}");
        }
        for (one, other) in [("1", "1.0.0"), ("1.0.a", "1.a"), ("1.0-1", "1.0.pre.1"), ("1.0.a.0", "1.a")] {
            assert_eq!(version(one), version(other));
        }
        for none in ["", "a", "1..2", "1.", "1/2", "1.2 3", "../1"] {
            assert!(GemVersion::parse(none).is_none(), "{none:?}");
        }
    }

    #[test]
    fn requirements_allow_what_rubygems_allows() {
        let cases = [
            ("~> 2.1", "2.1 2.9.9 2.1.0", "2.0 3.0 3.0.a 2.1.a"),
            ("~> 2.1.3", "2.1.3 2.1.99", "2.2 2.1.2 2.2.0.beta"),
            ("~> 2", "2 2.9", "3 1.9"),
            ("~> 2.0.a", "2.0 2.0.b 2.9", "3"),
            ("= 1.5", "1.5 1.5.0", "1.5.1"),
            ("1.5", "1.5", "1.6"),
            ("!= 1.5", "1.4", "1.5.0"),
            (">= 1, < 3", "1 2.9", "0.9 3"),
            ("> 1", "1.0.1", "1.0"),
            ("<= 2", "2.0", "2.0.1"),
        ];
        for (text, good, bad) in cases {
            let set = allowed([text]).unwrap();
            assert!(good.split(' ').all(|good| set.contains(&version(good))), "{text}: {good}");
            assert!(!bad.split(' ').any(|bad| set.contains(&version(bad))), "{text}: {bad}");
        }
        for none in ["~~> 1", ">= ", "ferry", "=> 1"] {
            assert!(allowed([none]).is_none(), "{none}");
        }
    }
}
