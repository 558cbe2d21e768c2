//! Words of what a source is.

use super::worded::{FAILED, WRONG, Worded, joined, worded};
use model::error::{SurveyError, Undeclared};
use render::words;

pub(super) fn words_of(error: &SurveyError) -> Worded {
    match error {
        SurveyError::Unrecognised { programs, .. } if !programs.is_empty() => Worded {
            details: programs
                .iter()
                .map(|path| format!("  {path} is a program that a rule excludes"))
                .collect(),
            ..worded(
                FAILED,
                "no language recognised",
                format!("in shtetl.toml, under [source]: include = [{:?}]", programs[0]),
            )
        },
        SurveyError::Unrecognised { inside, code: Some(code), .. } if inside.is_empty() => {
            Worded { details: vec![lacks(code)], ..worded(FAILED, "no language recognised", declare(code)) }
        }
        SurveyError::Unrecognised { looked_for, inside, code, .. } => Worded {
            details: match inside.is_empty() {
                true => looked_for
                    .iter()
                    .map(|(name, what)| format!("  {name:<8} looked for {}", what.join(", ")))
                    .collect(),
                false => {
                    let apps = inside.iter().map(|folder| format!("  {folder} is an app"));
                    let at_top = code.iter().filter(|code| !code.file.contains('/')).map(lacks);
                    apps.chain(at_top).collect()
                }
            },
            ..worded(
                FAILED,
                "no language recognised",
                match inside.first() {
                    Some(folder) => {
                        format!("build each app in its own folder: `cd {folder} && shtetl build`")
                    }
                    None => "give the folder of an app; it must contain one of these files".to_owned(),
                },
            )
        },
        SurveyError::Ambiguous { claims } => Worded {
            details: claims
                .iter()
                .map(|(name, places)| {
                    let places: Vec<_> = places.iter().map(words::place).collect();
                    format!("  {name:<8} because of {}", places.join(", "))
                })
                .collect(),
            ..worded(
                FAILED,
                format!("{} all recognise this source", joined(claims.iter().map(|c| c.0.as_str()))),
                format!(
                    "in shtetl.toml, under [buildpacks]: order = [{:?}]; or list both, the main one first",
                    claims.first().map(|c| c.0.as_str()).unwrap_or_default()
                ),
            )
        },
        SurveyError::NoProcess { language } => worded(
            FAILED,
            format!("no start command found ({language})"),
            "in shtetl.toml: [process.web], then run = \"the command\"",
        ),
        SurveyError::NoShell { process, variable, place } => worded(
            FAILED,
            format!(
                "{}the command of {process} needs a shell{}, and the base has none",
                place.as_ref().map(|place| format!("{}: ", words::place(place))).unwrap_or_default(),
                variable.as_ref().map(|name| format!(" for ${name}")).unwrap_or_default()
            ),
            match variable {
                Some(_) => "put the value into the command, or choose a Debian base in [base] from",
                None => "use a command without shell syntax, or choose a Debian base in [base] from",
            },
        ),
        SurveyError::Malformed { place, detail } => {
            worded(WRONG, format!("{}: {detail}", words::place(place)), "")
        }
        SurveyError::Unsupported { place, what, instead } => worded(
            FAILED,
            format!("{}: {what} is not supported by this version", words::place(place)),
            instead.trim(),
        ),
    }
}

fn lacks(code: &Undeclared) -> String {
    format!("  {} is {}, and there is no {}", code.file, code.language, code.manifest)
}

/// How the packages of code are declared.
fn declare(code: &Undeclared) -> String {
    match (&code.packages[..], code.command) {
        ([], Some(command)) => format!("in the app's folder, run `{command}`"),
        ([], None) => format!("write a {}", code.manifest),
        (packages, _) => format!("write a {} with the lines {}", code.manifest, packages.join(", ")),
    }
}
