//! Scores of CVSS 3.0 and 3.1 vectors (FIRST, *CVSS v3.1 specification document*, section 7.1: base metrics).

/// The base score of a vector such as `CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H`, from 0.0 to 10.0; nothing for other
/// versions and for what is no vector.
pub(crate) fn base_score(vector: &str) -> Option<f64> {
    let rest = vector.strip_prefix("CVSS:3.1/").or_else(|| vector.strip_prefix("CVSS:3.0/"))?;
    let metric = |name: &str| rest.split('/').find_map(|one| one.strip_prefix(name)?.strip_prefix(':'));
    let changes_scope = match metric("S")? {
        "C" => true,
        "U" => false,
        _ => return None,
    };
    let reach = match metric("AV")? {
        "N" => 0.85,
        "A" => 0.62,
        "L" => 0.55,
        "P" => 0.2,
        _ => return None,
    };
    let complexity = match metric("AC")? {
        "L" => 0.77,
        "H" => 0.44,
        _ => return None,
    };
    let privileges = match (metric("PR")?, changes_scope) {
        ("N", _) => 0.85,
        ("L", false) => 0.62,
        ("L", true) => 0.68,
        ("H", false) => 0.27,
        ("H", true) => 0.5,
        _ => return None,
    };
    let interaction = match metric("UI")? {
        "N" => 0.85,
        "R" => 0.62,
        _ => return None,
    };
    let mut kept = 1.0;
    for name in ["C", "I", "A"] {
        kept *= match metric(name)? {
            "H" => 1.0 - 0.56,
            "L" => 1.0 - 0.22,
            "N" => 1.0,
            _ => return None,
        };
    }
    let lost: f64 = 1.0 - kept;
    let impact = match changes_scope {
        true => 7.52 * (lost - 0.029) - 3.25 * (lost - 0.02).powi(15),
        false => 6.42 * lost,
    };
    if impact <= 0.0 {
        return Some(0.0);
    }
    let ease = 8.22 * reach * complexity * privileges * interaction;
    let sum = if changes_scope { 1.08 * (impact + ease) } else { impact + ease };
    Some(round_up(sum.min(10.0)))
}

/// To one decimal, upwards, as appendix A of the specification does it.
fn round_up(score: f64) -> f64 {
    let whole = (score * 100_000.0).round();
    match (whole % 10_000.0).abs() < f64::EPSILON {
        true => whole / 100_000.0,
        false => ((whole / 10_000.0).floor() + 1.0) / 10.0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn vectors_have_the_scores_of_the_specification() {
        for (vector, expected) in [
            ("CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H", Some(9.8)),
            ("CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:C/C:H/I:H/A:H", Some(10.0)),
            ("CVSS:3.0/AV:N/AC:L/PR:N/UI:R/S:C/C:L/I:L/A:N", Some(6.1)),
            ("CVSS:3.1/AV:L/AC:L/PR:L/UI:N/S:U/C:H/I:H/A:H", Some(7.8)),
            ("CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:N/I:N/A:H", Some(7.5)),
            ("CVSS:3.1/AV:N/AC:H/PR:N/UI:N/S:U/C:L/I:N/A:N", Some(3.7)),
            ("CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:N/I:N/A:N", Some(0.0)),
            ("CVSS:4.0/AV:N/AC:L", None),
            ("CVSS:3.1/AV:X/AC:L/PR:N/UI:N/S:U/C:N/I:N/A:H", None),
            ("high", None),
        ] {
            assert_eq!(base_score(vector), expected, "{vector}");
        }
    }
}
