//! The order of versions, whatever their ecosystem: near enough to tell up from down.

use std::cmp::Ordering;

/// Compares number with number and word with word; a word before a number or the end is an earlier version, except for
/// what distributions add.
pub fn compare(a: &str, b: &str) -> Ordering {
    let (mut a, mut b) = (parts(a).into_iter(), parts(b).into_iter());
    loop {
        let order = match (a.next(), b.next()) {
            (None, None) => return Ordering::Equal,
            (Some(part), None) => rank_at_end(&part),
            (None, Some(part)) => rank_at_end(&part).reverse(),
            (Some(Part::Number(a)), Some(Part::Number(b))) => a.cmp(&b),
            (Some(Part::Word(a)), Some(Part::Word(b))) => a.cmp(&b),
            (Some(Part::Number(_)), Some(Part::Word(word))) => rank_at_end(&Part::Word(word)).reverse(),
            (Some(Part::Word(word)), Some(Part::Number(_))) => rank_at_end(&Part::Word(word)),
        };
        if order.is_ne() {
            return order;
        }
    }
}

enum Part {
    Number(u128),
    Word(String),
}

/// Whether what has this part beyond the end of another version is later than that.
fn rank_at_end(part: &Part) -> Ordering {
    match part {
        Part::Number(0) => Ordering::Equal,
        Part::Number(_) => Ordering::Greater,
        Part::Word(word) => match word.as_str() {
            "a" | "alpha" | "b" | "beta" | "rc" | "pre" | "dev" | "snapshot" | "preview" | "m" | "canary"
            | "next" | "~" => Ordering::Less,
            _ => Ordering::Greater,
        },
    }
}

fn parts(version: &str) -> Vec<Part> {
    let mut parts = Vec::new();
    let mut rest = version.trim_start_matches(['v', 'V']);
    while let Some(first) = rest.chars().next() {
        let kind = |c: char| {
            if c.is_ascii_digit() {
                0
            } else if c.is_alphabetic() {
                1
            } else {
                2
            }
        };
        let end = rest.find(|c: char| kind(c) != kind(first)).unwrap_or(rest.len());
        let (run, after) = rest.split_at(end);
        match kind(first) {
            0 => parts.push(Part::Number(run.parse().unwrap_or(u128::MAX))),
            1 => parts.push(Part::Word(run.to_lowercase())),
            _ if run.contains('~') => parts.push(Part::Word("~".to_owned())),
            _ => {}
        }
        rest = after;
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_of_all_ecosystems_are_in_order() {
        for ordered in [
            &["0.9", "1.0.0-alpha.1", "1.0.0-rc.1", "1.0.0", "1.0.1", "1.10.0", "2.0.0"][..],
            &["1.2~rc1-1", "1.2-1", "1.2-1+deb13u1", "1.2-1+deb13u2", "1.2-2"],
            &["1.0a1", "1.0b2", "1.0rc1", "1.0", "1.0.post1"],
            &["v1.9.0", "v1.10.0"],
            &["2.0.0-SNAPSHOT", "2.0.0", "2.0.0.RELEASE"],
        ] {
            for pair in ordered.windows(2) {
                assert_eq!(compare(pair[0], pair[1]), Ordering::Less, "{pair:?}");
                assert_eq!(compare(pair[1], pair[0]), Ordering::Greater, "{pair:?}");
            }
        }
        assert_eq!(compare("1.0", "1.0.0"), Ordering::Equal);
    }
}
