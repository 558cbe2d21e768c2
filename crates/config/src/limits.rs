//! What house rules demand of every app: what it may be made of, what it has to say, and for which app something else holds
//! for now.

use crate::reader::{Table, Value, with_table};
use crate::running_values::read_size;
use jiff::civil::Date;
use std::collections::BTreeMap;

/// Demands of house rules; nothing that is empty demands anything.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct HouseLimits {
    /// `[allow] bases`: patterns of bases.
    pub bases: Vec<String>,
    /// `[allow] registries`: servers that images go to, and that bases and packages come from where the app says so.
    pub registries: Vec<String>,
    /// `[allow] licences`: identifiers of SPDX; `undeclared` for packages that declare none.
    pub licences: Vec<String>,
    /// `[allow] buildpacks`.
    pub buildpacks: Vec<String>,
    /// `[allow] image-size`: the most bytes of the layers of an image.
    pub largest_image: Option<u64>,
    /// `[require] settings`: settings that an app must declare.
    pub settings: Vec<String>,
    /// `[require] support-days`: for how many days bases and runtimes must still be supported.
    pub support_days: Option<u32>,
    /// `[exception.APP]`.
    pub exceptions: BTreeMap<String, HouseException>,
}

/// Rules that do not hold for an app for now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HouseException {
    /// The codes of the rules.
    pub rules: Vec<String>,
    /// Why.
    pub reason: String,
    /// The last day.
    pub until: Date,
}

/// The codes of the rules that exceptions can name.
pub const HOUSE_RULES: [&str; 7] = [
    "house-base",
    "house-buildpack",
    "house-licence",
    "house-registry",
    "house-setting",
    "house-size",
    "house-support",
];

/// What stands among licences for packages that declare none.
pub const UNDECLARED: &str = "undeclared";

impl HouseLimits {
    /// Whether a server may be used: it fits one of the patterns, or there are none.
    pub fn may_use(&self, server: &str) -> bool {
        let glob = |pattern: &String| globset::Glob::new(pattern).ok();
        self.registries.is_empty()
            || self.registries.iter().filter_map(glob).any(|glob| glob.compile_matcher().is_match(server))
    }

    /// Whether a rule holds for an app on a day.
    pub fn holds(&self, rule: &str, app: &str, today: Date) -> bool {
        let exception = self.exceptions.get(app).filter(|exception| exception.until >= today);
        !exception.is_some_and(|exception| exception.rules.iter().any(|named| named == rule))
    }
}

pub(super) fn read_limits(root: &Table<'_, '_>, limits: &mut HouseLimits) {
    let texts = |table: &Table<'_, '_>, key: &str| {
        table.value(key).and_then(|value| value.strings()).unwrap_or_default()
    };
    with_table(root, "allow", |table| {
        limits.bases = texts(table, "bases");
        limits.registries = texts(table, "registries");
        limits.licences = texts(table, "licences");
        if let Some(value) = table.value("licences") {
            let wrong =
                limits.licences.iter().find(|text| *text != UNDECLARED && !model::licence::is_one(text));
            if let Some(text) = wrong {
                value.bad(format!(
                    "{text:?} is not an SPDX licence expression; {UNDECLARED:?} is for packages that declare none"
                ));
            }
        }
        limits.buildpacks = texts(table, "buildpacks");
        limits.largest_image =
            table.value("image-size").and_then(|value| read_size(&value, &value.string()?));
    });
    with_table(root, "require", |table| {
        limits.settings = texts(table, "settings");
        limits.support_days = table.value("support-days").and_then(|value| value.number("a number of days"));
    });
    if let Some(table) = root.value("exception").and_then(|value| value.table()) {
        for (app, _, value) in table.each() {
            limits.exceptions.extend(read_exception(&value).map(|exception| (app.to_owned(), exception)));
        }
    }
}

fn read_exception(value: &Value<'_, '_>) -> Option<HouseException> {
    let table = value.table()?;
    let (rules, reason, until) = (table.value("rules"), table.value("reason"), table.value("until"));
    table.done();
    let (Some(rules), Some(reason), Some(until)) = (rules, reason, until) else {
        value.bad(
            "needs rules, a reason and an expiry date: rules = [\"house-licence\"], reason = \"…\", until = \"2027-03-31\""
                .to_owned(),
        );
        return None;
    };
    let named = rules.strings()?;
    if let Some(unknown) = named.iter().find(|rule| !HOUSE_RULES.contains(&rule.as_str())) {
        rules.bad(format!("{unknown:?} must be one of {}", HOUSE_RULES.join(", ")));
    }
    let (reason, text) = (reason.string()?, until.string()?);
    match text.parse() {
        Ok(until) => Some(HouseException { rules: named, reason, until }),
        Err(_) => {
            until.bad("must be a day, as in \"2027-03-31\"".to_owned());
            None
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reader::Document;

    fn read(text: &str) -> (HouseLimits, usize) {
        let document = Document::parse(text).unwrap_or_else(|_| panic!("valid TOML"));
        let mut limits = HouseLimits::default();
        let root = document.root();
        read_limits(&root, &mut limits);
        root.done();
        (limits, document.done().0.len())
    }

    #[test]
    fn an_exception_ends_with_its_last_day() {
        let (limits, complaints) = read(
            "[allow]\nlicences = [\"MIT\", \"undeclared\"]\nimage-size = \"1MB\"\n[require]\nsupport-days = 90\n\
             [exception.fares]\nrules = [\"house-size\"]\nreason = \"photos\"\nuntil = \"2026-12-31\"\n",
        );
        assert_eq!((complaints, limits.largest_image, limits.support_days), (0, Some(1_000_000), Some(90)));
        let day = |text: &str| text.parse().unwrap();
        assert!(!limits.holds("house-size", "fares", day("2026-12-31")));
        assert!(limits.holds("house-size", "fares", day("2027-01-01")));
        assert!(limits.holds("house-size", "tides", day("2026-12-01")));
        assert!(limits.holds("house-base", "fares", day("2026-12-01")));
    }

    #[test]
    fn what_makes_no_sense_is_refused() {
        let text = "[allow]\nlicences = [\"my own\"]\n[exception.a]\nrules = [\"house-sise\"]\nreason = \"x\"\nuntil = \"soon\"\n\
                    [exception.b]\nreason = \"y\"\n";
        assert_eq!(read(text).1, 4);
    }
}
