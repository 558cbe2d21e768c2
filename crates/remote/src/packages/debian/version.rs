//! The order of versions (Debian Policy Manual, section 5.6.12).

use std::cmp::Ordering;

/// Compares two versions: by epoch, then upstream version, then revision.
pub fn compare(a: &str, b: &str) -> Ordering {
    let ((epoch_a, upstream_a, revision_a), (epoch_b, upstream_b, revision_b)) = (parts(a), parts(b));
    epoch_a
        .cmp(&epoch_b)
        .then_with(|| compare_part(upstream_a, upstream_b))
        .then_with(|| compare_part(revision_a, revision_b))
}

fn parts(version: &str) -> (u64, &str, &str) {
    let (epoch, rest) = version.split_once(':').unwrap_or(("0", version));
    // No revision is the same as the revision 0.
    let (upstream, revision) = rest.rsplit_once('-').unwrap_or((rest, "0"));
    (epoch.parse().unwrap_or(0), upstream, revision)
}

/// Compares by turns what is no digit (letters before other signs, `~` before everything, also the
/// end) and what is (as a number).
fn compare_part(mut a: &str, mut b: &str) -> Ordering {
    loop {
        let (text_a, rest_a) = a.split_at(a.find(|c: char| c.is_ascii_digit()).unwrap_or(a.len()));
        let (text_b, rest_b) = b.split_at(b.find(|c: char| c.is_ascii_digit()).unwrap_or(b.len()));
        let by_text = weights(text_a).cmp(weights(text_b));
        let (number_a, next_a) = number(rest_a);
        let (number_b, next_b) = number(rest_b);
        let order =
            by_text.then_with(|| number_a.len().cmp(&number_b.len())).then_with(|| number_a.cmp(number_b));
        if order.is_ne() || next_a.is_empty() && next_b.is_empty() {
            return order;
        }
        (a, b) = (next_a, next_b);
    }
}

/// Each sign as a number; the end, which is 1, stands behind `~` and before all others.
fn weights(text: &str) -> impl Iterator<Item = u32> + '_ {
    let weight = |sign: char| match sign {
        '~' => 0,
        sign if sign.is_ascii_alphabetic() => u32::from(sign) + 1,
        sign => u32::from(sign) + 256,
    };
    text.chars().map(weight).chain([1])
}

/// The digits at the beginning without leading zeros, and what follows them.
fn number(text: &str) -> (&str, &str) {
    let (digits, rest) = text.split_at(text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len()));
    (digits.trim_start_matches('0'), rest)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_order_is_that_of_the_policy() {
        let ascending = [
            "0~~",
            "0~~a",
            "0~",
            "0",
            "0a",
            "0.1",
            "1.0~rc1-1",
            "1.0-1",
            "1.0-1+b1",
            "1.0-1.1",
            "1.0-2",
            "1.0a-1",
            "1.0+dfsg-1",
            "1.0.1-1",
            "1.2-1",
            "1.10-1",
            "2:0.1-1",
        ];
        for pair in ascending.windows(2) {
            assert_eq!(compare(pair[0], pair[1]), Ordering::Less, "{pair:?}");
        }
        for (a, b) in [("1.0", "1.0-0"), ("1.0", "0:1.0"), ("1.01", "1.1"), ("1.0-1", "1.0-01")] {
            assert_eq!(compare(a, b), Ordering::Equal, "{a} {b}");
        }
    }

    /// The policy's rules, word for word, one sign at a time.
    fn oracle(a: &str, b: &str) -> Ordering {
        let order = |sign: Option<&char>| match sign {
            Some('~') => -1,
            None => 0,
            Some(s) if s.is_ascii_alphabetic() => i64::from(u32::from(*s)),
            Some(s) => i64::from(u32::from(*s)) + 1000,
        };
        let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
        let (mut i, mut j) = (0, 0);
        while i < a.len() || j < b.len() {
            // "First the initial part of each string consisting entirely of non-digit characters is determined."
            loop {
                let left = a.get(i).filter(|s| !s.is_ascii_digit());
                let right = b.get(j).filter(|s| !s.is_ascii_digit());
                if left.is_none() && right.is_none() {
                    break;
                }
                match order(left).cmp(&order(right)) {
                    Ordering::Equal => {}
                    different => return different,
                }
                i += usize::from(left.is_some());
                j += usize::from(right.is_some());
            }
            // "Then the initial part of the remainder which consists entirely of digit characters is determined."
            let (mut left, mut right) = (0_u128, 0_u128);
            while let Some(digit) = a.get(i).and_then(|s| s.to_digit(10)) {
                left = left * 10 + u128::from(digit);
                i += 1;
            }
            while let Some(digit) = b.get(j).and_then(|s| s.to_digit(10)) {
                right = right * 10 + u128::from(digit);
                j += 1;
            }
            match left.cmp(&right) {
                Ordering::Equal => {}
                different => return different,
            }
        }
        Ordering::Equal
    }

    proptest! {
        #[test]
        fn parts_are_compared_as_the_policy_says(a in "[0-9a-c.+~]{0,12}", b in "[0-9a-c.+~]{0,12}") {
            prop_assert_eq!(compare_part(&a, &b), oracle(&a, &b));
            prop_assert_eq!(compare(&a, &b), compare(&b, &a).reverse());
        }
    }
}
