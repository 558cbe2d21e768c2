//! Declared licences as expressions of SPDX.

use spdx::{Expression, Licensee, ParseMode};

/// What a package declares.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Licence {
    /// An expression (SPDX specification 2.3, annex D).
    Expression(String),
    /// Words that are none.
    Name(String),
}

/// Names that are not SPDX's own and mean a licence without doubt: Debian's (`debian/copyright`, machine-readable format 1.0)
/// and usual words.
const OTHER_NAMES: [(&str, &str); 24] = [
    ("Apache 2", "Apache-2.0"),
    ("Apache 2.0", "Apache-2.0"),
    ("Apache License 2.0", "Apache-2.0"),
    ("Apache License, Version 2.0", "Apache-2.0"),
    ("Apache Software License", "Apache-2.0"),
    ("Apache-2", "Apache-2.0"),
    ("The Apache License, Version 2.0", "Apache-2.0"),
    ("The Apache Software License, Version 2.0", "Apache-2.0"),
    ("BSD-2-clause", "BSD-2-Clause"),
    ("BSD-3-clause", "BSD-3-Clause"),
    ("BSD 3-Clause", "BSD-3-Clause"),
    ("BSD 3-Clause License", "BSD-3-Clause"),
    ("Eclipse Public License v2.0", "EPL-2.0"),
    ("EPL 2.0", "EPL-2.0"),
    ("Expat", "MIT"),
    ("GPL-2", "GPL-2.0-only"),
    ("GPL-2+", "GPL-2.0-or-later"),
    ("GPL-3", "GPL-3.0-only"),
    ("GPL-3+", "GPL-3.0-or-later"),
    ("LGPL-2.1", "LGPL-2.1-only"),
    ("LGPL-2.1+", "LGPL-2.1-or-later"),
    ("MIT License", "MIT"),
    ("The MIT License", "MIT"),
    ("The MIT License (MIT)", "MIT"),
];

impl Licence {
    /// Reads what a package declares.
    pub fn of(declared: &str) -> Self {
        let declared = declared.trim();
        let known = OTHER_NAMES.iter().find(|(name, _)| name.eq_ignore_ascii_case(declared));
        let text = known.map_or(declared, |(_, expression)| expression);
        let text = text.replace(" or ", " OR ").replace(" and ", " AND ").replace(" with ", " WITH ");
        match Expression::parse_mode(&text, LENIENT) {
            // Old names are written as they are today.
            Ok(_) => Self::Expression(Expression::canonicalize(&text).ok().flatten().unwrap_or(text)),
            Err(_) => Self::Name(declared.to_owned()),
        }
    }
}

/// Whether a text is a licence of SPDX, by its identifier.
pub fn is_one(text: &str) -> bool {
    Licensee::parse(text).is_ok()
}

/// Whether what a package declares can be had under allowed licences alone.
pub fn is_allowed(declared: &str, allowed: &[String]) -> bool {
    let Licence::Expression(text) = Licence::of(declared) else { return false };
    let allowed: Vec<Licensee> = allowed.iter().filter_map(|one| Licensee::parse(one).ok()).collect();
    let expression = Expression::parse_mode(&text, LENIENT);
    expression.is_ok_and(|expression| {
        expression.evaluate(|wanted| allowed.iter().any(|licence| licence.satisfies(wanted)))
    })
}

/// What is taken for an expression: old names too, but no words that only resemble one.
const LENIENT: ParseMode = ParseMode {
    allow_unknown: false,
    allow_deprecated: true,
    allow_imprecise_license_names: false,
    allow_postfix_plus_on_gpl: true,
    allow_slash_as_or_operator: false,
};

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_of_several_licences_is_enough_and_all_of_several_are_needed() {
        let allowed = ["MIT".to_owned(), "BSD-3-Clause".to_owned()];
        for declared in ["MIT", "Expat", "MIT OR GPL-3.0-only", "MIT AND BSD-3-Clause"] {
            assert!(is_allowed(declared, &allowed), "{declared}");
        }
        for declared in ["GPL-3.0-only", "MIT AND GPL-3.0-only", "see LICENSE", ""] {
            assert!(!is_allowed(declared, &allowed), "{declared}");
        }
        assert!(is_one("MIT") && !is_one("my own"));
    }

    #[test]
    fn licences_become_expressions_where_they_are_without_doubt() {
        for (declared, expected) in [
            ("MIT", "MIT"),
            ("(MIT OR Apache-2.0)", "(MIT OR Apache-2.0)"),
            ("MIT or Apache-2.0", "MIT OR Apache-2.0"),
            ("Expat", "MIT"),
            ("GPL-2+", "GPL-2.0-or-later"),
            ("GPL-2.0+", "GPL-2.0-or-later"),
            ("Apache 2.0", "Apache-2.0"),
        ] {
            assert_eq!(Licence::of(declared), Licence::Expression(expected.to_owned()), "{declared}");
        }
        for declared in ["public-domain", "see LICENSE", "BSD", "BSD-3-clause-Cambridge with exception", ""] {
            assert_eq!(Licence::of(declared), Licence::Name(declared.to_owned()));
        }
    }
}
