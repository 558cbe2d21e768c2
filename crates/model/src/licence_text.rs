//! Licences by what their texts say: for packages that declare theirs only by the text that they bring.

/// Phrases that only one licence has, in words apart by single spaces, with its identifier (SPDX). The first one that fits
/// counts: those that others are made from come last.
const PHRASES: [(&str, &str); 12] = [
    ("gnu affero general public license version 3", "AGPL-3.0-only"),
    ("gnu lesser general public license version 3", "LGPL-3.0-only"),
    ("gnu lesser general public license version 2.1", "LGPL-2.1-only"),
    ("gnu general public license version 3", "GPL-3.0-only"),
    ("gnu general public license version 2", "GPL-2.0-only"),
    ("mozilla public license version 2.0", "MPL-2.0"),
    ("apache license version 2.0", "Apache-2.0"),
    ("eclipse public license - v 2.0", "EPL-2.0"),
    ("this is free and unencumbered software released into the public domain", "Unlicense"),
    ("permission to use, copy, modify, and/or distribute this software for any purpose", "ISC"),
    ("permission to use, copy, modify, and distribute this software for any purpose", "ISC"),
    ("permission is hereby granted, free of charge, to any person obtaining a copy", "MIT"),
];
/// What the licences of BSD begin with, and the condition that only the longer one has.
const BSD: &str = "redistribution and use in source and binary forms, with or without modification";
const NO_ENDORSEMENT: &str = "to endorse or promote products derived from";
/// Names of files that hold a licence.
const FILES: [&str; 6] = ["LICENSE", "LICENSE.txt", "LICENSE.md", "LICENCE", "COPYING", "License"];

/// Whether a file of this name, at the top of a package, holds its licence.
pub fn is_licence_file(name: &str) -> bool {
    FILES.contains(&name)
}

/// The identifier of the licence that a text is.
pub fn identifier(text: &str) -> Option<&'static str> {
    let plain =
        |c: char| if c.is_whitespace() || c == '*' || c == '#' { ' ' } else { c.to_ascii_lowercase() };
    let words: String = text.chars().map(plain).collect();
    let words = words.split(' ').filter(|word| !word.is_empty()).collect::<Vec<_>>().join(" ");
    let words = words.replace("license, version", "license version");
    if words.contains(BSD) {
        return Some(if words.contains(NO_ENDORSEMENT) { "BSD-3-Clause" } else { "BSD-2-Clause" });
    }
    PHRASES.iter().find(|(phrase, _)| words.contains(phrase)).map(|(_, identifier)| *identifier)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_known_however_their_lines_are_broken() {
        let bsd = "Redistribution and use in source and binary\nforms, with or without\nmodification, are permitted";
        let longer = format!(
            "{bsd}\n * Neither the name may be used to endorse or\n   promote products derived from it"
        );
        for (text, expected) in [
            ("                Apache License\n           Version 2.0, January 2004\n", Some("Apache-2.0")),
            ("Licensed under the Apache License, Version 2.0", Some("Apache-2.0")),
            ("Permission is hereby granted, free of charge, to any\nperson obtaining a copy of", Some("MIT")),
            ("Mozilla Public License Version 2.0\n====", Some("MPL-2.0")),
            (bsd, Some("BSD-2-Clause")),
            (longer.as_str(), Some("BSD-3-Clause")),
            ("All rights reserved.", None),
        ] {
            assert_eq!(identifier(text), expected, "{text}");
        }
    }
}
