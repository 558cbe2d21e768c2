//! npm's version ranges: `^1.2`, `~1.2.3`, `1.x || >=2.5.0`, `1.2 - 2.3`.

use semver::{Prerelease, Version};

/// A set of alternatives, each a list of comparators that must all hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Range(Vec<Vec<Comparator>>);

#[derive(Debug, Clone, PartialEq, Eq)]
struct Comparator {
    sign: Sign,
    version: Version,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Sign {
    Less,
    LessOrEqual,
    Equal,
    GreaterOrEqual,
    Greater,
}

/// A version of which trailing numbers may be missing.
struct Partial {
    major: Option<u64>,
    minor: Option<u64>,
    patch: Option<u64>,
    pre: Prerelease,
}

impl Range {
    /// Reads a range; `None` when it is none.
    pub fn parse(text: &str) -> Option<Self> {
        text.split("||")
            .map(|alternative| parse_alternative(alternative.trim()))
            .collect::<Option<_>>()
            .map(Self)
    }

    /// Whether `version` is in the range. A pre-release is in it only where a comparator of the same
    /// alternative names a pre-release of the same three numbers.
    pub fn contains(&self, version: &Version) -> bool {
        self.0.iter().any(|all| within_all(all, version))
    }

    /// Whether some version may be in both.
    pub fn meets(&self, other: &Self) -> bool {
        let mut pairs = self.0.iter().flat_map(|one| other.0.iter().map(move |two| [one, two]));
        pairs.any(|[one, two]| {
            let all = || one.iter().chain(two);
            if let Some(exact) = all().find(|c| c.sign == Sign::Equal) {
                return [one, two].into_iter().all(|all| within_all(all, &exact.version));
            }
            let nothing = all().any(|c| c.sign == Sign::Less && c.version == least(0, 0, 0));
            !nothing && all().all(|low| all().all(|high| low.leaves_room_below(high)))
        })
    }
}

/// Whether a version is in an alternative of a range.
fn within_all(all: &[Comparator], version: &Version) -> bool {
    let same = |c: &Comparator| !c.version.pre.is_empty() && numbers(&c.version) == numbers(version);
    all.iter().all(|c| c.holds(version)) && (version.pre.is_empty() || all.iter().any(same))
}

fn numbers(version: &Version) -> (u64, u64, u64) {
    (version.major, version.minor, version.patch)
}

impl Comparator {
    /// Whether something is left between the two, where one is a bound from below and the other from above.
    fn leaves_room_below(&self, high: &Self) -> bool {
        use Sign::{Greater, GreaterOrEqual, Less, LessOrEqual};
        let order = self.version.cmp_precedence(&high.version);
        match (self.sign, high.sign) {
            (GreaterOrEqual, LessOrEqual) => order.is_le(),
            (Greater | GreaterOrEqual, Less | LessOrEqual) => order.is_lt(),
            _ => true,
        }
    }

    fn holds(&self, version: &Version) -> bool {
        let order = version.cmp_precedence(&self.version);
        match self.sign {
            Sign::Less => order.is_lt(),
            Sign::LessOrEqual => order.is_le(),
            Sign::Equal => order.is_eq(),
            Sign::GreaterOrEqual => order.is_ge(),
            Sign::Greater => order.is_gt(),
        }
    }
}

fn parse_alternative(text: &str) -> Option<Vec<Comparator>> {
    if let Some((low, high)) = text.split_once(" - ") {
        let (low, high) = (Partial::parse(low.trim())?, Partial::parse(high.trim())?);
        let mut both = vec![at(Sign::GreaterOrEqual, low.floor())];
        both.extend(up_to_and_with(&high));
        return Some(both);
    }
    let mut all = Vec::new();
    // A sign may stand apart from its version: ">= 1.2".
    let mut sign = String::new();
    for word in text.split_whitespace() {
        let digits = word.find(|c: char| !"<>=~^".contains(c)).unwrap_or(word.len());
        sign.push_str(&word[..digits]);
        if digits < word.len() {
            all.extend(comparators(&std::mem::take(&mut sign), &Partial::parse(&word[digits..])?)?);
        }
    }
    sign.is_empty().then_some(all)
}

fn comparators(sign: &str, partial: &Partial) -> Option<Vec<Comparator>> {
    Some(match sign {
        "" | "=" => within(partial, partial.next_unsaid()),
        "^" => within(partial, partial.next_breaking()),
        "~" | "~>" => within(partial, partial.next_minor()),
        ">=" => vec![at(Sign::GreaterOrEqual, partial.floor())],
        "<" => vec![below(partial.floor())],
        ">" => match partial.next_unsaid() {
            Some(next) if !partial.is_whole() => vec![at(Sign::GreaterOrEqual, next)],
            // Above everything there is nothing.
            None if !partial.is_whole() => vec![at(Sign::Less, least(0, 0, 0))],
            _ => vec![at(Sign::Greater, partial.floor())],
        },
        "<=" => up_to_and_with(partial).into_iter().collect(),
        _ => return None,
    })
}

/// From the partial version up to, but without, `end`; one version when nothing is left open.
fn within(partial: &Partial, end: Option<Version>) -> Vec<Comparator> {
    if partial.major.is_none() {
        return Vec::new();
    }
    match end {
        Some(end) => vec![at(Sign::GreaterOrEqual, partial.floor()), below(end)],
        None => vec![at(Sign::Equal, partial.floor())],
    }
}

fn up_to_and_with(partial: &Partial) -> Option<Comparator> {
    if partial.is_whole() {
        return Some(at(Sign::LessOrEqual, partial.floor()));
    }
    partial.next_unsaid().map(below)
}

fn at(sign: Sign, version: Version) -> Comparator {
    Comparator { sign, version }
}

/// Below `end` and below all of its pre-releases, unless it is one itself.
fn below(end: Version) -> Comparator {
    let lowest = if end.pre.is_empty() { least(end.major, end.minor, end.patch) } else { end };
    at(Sign::Less, lowest)
}

/// The lowest pre-release of a version.
fn least(major: u64, minor: u64, patch: u64) -> Version {
    let mut version = Version::new(major, minor, patch);
    version.pre = Prerelease::new("0").unwrap_or_default();
    version
}

/// The largest number of a version: what programs that count in floating point still tell apart.
const LARGEST: u64 = (1 << 53) - 1;

impl Partial {
    fn parse(text: &str) -> Option<Self> {
        let text = text.trim_start_matches(['v', '=']);
        let text = text.split('+').next()?;
        let (plain, pre) = match text.split_once('-') {
            Some((_, "")) => return None,
            Some((plain, pre)) => (plain, Prerelease::new(pre).ok()?),
            None => (text, Prerelease::EMPTY),
        };
        let mut numbers = [None; 3];
        let mut open = false;
        let mut parts = plain.split('.');
        for slot in &mut numbers {
            match parts.next() {
                None | Some("" | "x" | "X" | "*") => open = true,
                Some(_) if open => {}
                Some(digits) => *slot = Some(digits.parse().ok().filter(|number| *number <= LARGEST)?),
            }
        }
        let [major, minor, patch] = numbers;
        parts.next().is_none().then_some(Self { major, minor, patch, pre })
    }

    fn is_whole(&self) -> bool {
        self.patch.is_some()
    }

    /// The lowest version that it can mean.
    fn floor(&self) -> Version {
        let [major, minor, patch] = [self.major, self.minor, self.patch].map(Option::unwrap_or_default);
        Version { pre: self.pre.clone(), ..Version::new(major, minor, patch) }
    }

    /// The first version beyond those that it can mean; `None` when it is whole or open from the start.
    fn next_unsaid(&self) -> Option<Version> {
        match (self.major, self.minor, self.patch) {
            (Some(major), None, _) => Some(Version::new(major + 1, 0, 0)),
            (Some(major), Some(minor), None) => Some(Version::new(major, minor + 1, 0)),
            _ => None,
        }
    }

    /// The first version that may break a user of this one: the leftmost number that is not zero counts.
    fn next_breaking(&self) -> Option<Version> {
        match (self.major?, self.minor, self.patch) {
            (0, Some(0), Some(patch)) => Some(Version::new(0, 0, patch + 1)),
            (0, Some(minor), _) => Some(Version::new(0, minor + 1, 0)),
            (major, ..) => Some(Version::new(major + 1, 0, 0)),
        }
    }

    fn next_minor(&self) -> Option<Version> {
        match (self.major?, self.minor) {
            (major, Some(minor)) => Some(Version::new(major, minor + 1, 0)),
            (major, None) => Some(Version::new(major + 1, 0, 0)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// Where the notations of npm and of Rust's packages mean the same: an independent reader agrees.
        #[test]
        fn whole_versions_with_signs_mean_what_another_reader_makes_of_them(
            parts in proptest::collection::vec((0..8_usize, 0..3_u64, 0..3_u64, 0..3_u64), 1..3),
            version in (0..4_u64, 0..3_u64, 0..3_u64),
        ) {
            let signs = ["^", "~", ">=", ">", "<=", "<", "=", "^"];
            let part = |(sign, a, b, c): &(usize, u64, u64, u64)| format!("{}{a}.{b}.{c}", signs[*sign]);
            let parts: Vec<String> = parts.iter().map(part).collect();
            let version = Version::new(version.0, version.1, version.2);
            let other = semver::VersionReq::parse(&parts.join(", ")).unwrap().matches(&version);
            prop_assert_eq!(Range::parse(&parts.join(" ")).unwrap().contains(&version), other, "{:?}", parts);
        }
    }

    #[test]
    fn numbers_beyond_what_there_can_be_are_no_ranges() {
        assert!(Range::parse("^9007199254740991").is_some());
        for text in [
            "9007199254740992",
            "18446744073709551615",
            "~1.18446744073709551615",
            "^0.0.18446744073709551615",
        ] {
            assert!(Range::parse(text).is_none(), "{text}");
        }
    }

    #[test]
    fn ranges_contain_what_their_authors_mean() {
        for (range, inside, outside) in [
            ("^1.2.3", &["1.2.3", "1.9.0"][..], &["1.2.2", "2.0.0", "2.0.0-rc.1", "1.4.0-beta"][..]),
            ("^0.2.3", &["0.2.3", "0.2.9"], &["0.3.0", "0.2.2"]),
            ("^0.0.3", &["0.0.3"], &["0.0.4"]),
            ("^0.x", &["0.0.0", "0.9.1"], &["1.0.0"]),
            ("~1.2", &["1.2.0", "1.2.9"], &["1.3.0", "1.1.9"]),
            (">= 18", &["18.0.0", "22.1.0"], &["17.9.9"]),
            (">18", &["19.0.0"], &["18.9.0"]),
            ("<=1.2", &["1.2.9", "0.1.0"], &["1.3.0"]),
            ("1.2 - 2.3", &["1.2.0", "2.3.9"], &["2.4.0", "1.1.0"]),
            ("18.x || ^20.5 || >=22 <23", &["18.1.0", "20.6.0", "22.9.9"], &["19.0.0", "20.4.0", "23.0.0"]),
            ("", &["0.0.1", "9.0.0"], &["1.0.0-rc.1"]),
            ("*", &["3.0.0"], &[]),
            ("^2.0.0-rc.1", &["2.0.0-rc.2", "2.1.0"], &["2.1.0-rc.1", "2.0.0-beta"]),
            ("v20.20.2", &["20.20.2"], &["20.20.3"]),
            ("=1", &["1.0.0", "1.7.0"], &["2.0.0"]),
        ] {
            let parsed = Range::parse(range).unwrap_or_else(|| panic!("{range} was not read"));
            let contains = |text: &&str| parsed.contains(&Version::parse(text).unwrap());
            assert!(inside.iter().all(contains), "{range} should contain {inside:?}");
            assert!(!outside.iter().any(contains), "{range} should not contain any of {outside:?}");
        }
        for wrong in ["latest", ">>1", "1.2.3.4", "^", "workspace:*", "1.2.3-"] {
            assert!(Range::parse(wrong).is_none(), "{wrong} was read as a range");
        }
    }

    /// What npm's own reader says: see `trials/version-ranges`.
    #[test]
    fn ranges_mean_what_npm_makes_of_them() {
        let differs = |line: &&str| {
            let mut fields = line.split('\t');
            let mut field = || fields.next().unwrap();
            let (range, version, expected) = (field(), field(), field() == "in");
            let own = Range::parse(range).map(|r| r.contains(&Version::parse(version).unwrap()));
            own != Some(expected)
        };
        let different: Vec<&str> = include_str!("ranges.tsv").lines().filter(differs).collect();
        assert!(different.is_empty(), "{} differ:\n{}", different.len(), different.join("\n"));
    }

    /// What npm's own reader says: see `trials/version-ranges`.
    #[test]
    fn ranges_meet_where_npm_says() {
        let differs = |line: &&str| {
            let fields: Vec<&str> = line.split('\t').collect();
            let [one, other] = [fields[0], fields[1]].map(|range| Range::parse(range).unwrap());
            one.meets(&other) != (fields[2] == "meet") || other.meets(&one) != one.meets(&other)
        };
        let different: Vec<&str> = include_str!("range-pairs.tsv").lines().filter(differs).collect();
        assert!(different.is_empty(), "{} differ:\n{}", different.len(), different.join("\n"));
    }
}
