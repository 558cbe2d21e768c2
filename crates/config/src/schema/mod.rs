//! JSON Schemas (draft 2020-12) of the configuration files, so that editors complete and check them, and so
//! that the reference in `docs/` can be generated.
//!
//! They describe what `values` reads; a test compares the keys of both.

mod app;
mod key;
mod organisation;
mod town;
mod user;

pub use app::app;
pub use organisation::house_rules;
pub use town::town;
pub use user::user;

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reader::Document;
    use crate::{AppConfig, values};
    use model::{Ecosystem, Fault, KnownNames, OptionSpec};
    use serde_json::Value;

    /// The keys that a table of the schema knows; `place` leads to it from the root.
    fn keys_of(schema: &Value, place: &str) -> Vec<String> {
        let mut keys: Vec<_> =
            schema.pointer(place).unwrap()["properties"].as_object().unwrap().keys().cloned().collect();
        keys.sort();
        keys
    }

    #[test]
    fn the_schema_has_the_keys_that_are_read() {
        let text = "x = 1\n[source]\nx = 1\n[base]\nx = 1\n[buildpacks]\nx = 1\n[buildpacks.node]\nx = 1\n\
            [addresses]\nx = 1\n[process.web]\nx = 1\n[task.migrate]\nx = 1\n[service.tides]\nkind = \"redis\"\nx = 1\n[settings.LEVEL]\nx = 1\n\
            [variant.live]\nx = 1\n";
        let document = Document::parse(text).unwrap_or_else(|_| panic!("valid TOML"));
        let names = KnownNames {
            buildpacks: vec![("node".to_owned(), vec![OptionSpec::VERSION])],
            ecosystems: vec![Ecosystem::NPM],
            ..KnownNames::default()
        };
        values::read(&document, &mut AppConfig::default(), &names);
        let mut tables = 0;
        for complaint in document.done().0 {
            let Fault::UnknownKey { table, known, .. } = complaint.fault else { panic!("{complaint:?}") };
            let place = match table.as_str() {
                "" => String::new(),
                "process.web" => "/properties/process/additionalProperties".to_owned(),
                "task.migrate" => "/properties/task/additionalProperties".to_owned(),
                "service.tides" => "/properties/service/additionalProperties".to_owned(),
                "settings.LEVEL" => "/properties/settings/additionalProperties/anyOf/1".to_owned(),
                "variant.live" => "/properties/variant/additionalProperties".to_owned(),
                table => format!("/properties/{}", table.replace('.', "/properties/")),
            };
            let mut known = known;
            known.sort();
            assert_eq!(keys_of(&app(&names), &place), known, "[{table}]");
            tables += 1;
        }
        assert_eq!(tables, 11);

        let document = Document::parse("x = 1").unwrap_or_else(|_| panic!("valid TOML"));
        values::read_house(&document, &mut AppConfig::default(), &names);
        let [complaint] = &document.done().0[..] else { panic!("one key is wrong") };
        let Fault::UnknownKey { known, .. } = &complaint.fault else { panic!("{complaint:?}") };
        let mut known = known.clone();
        known.sort();
        assert_eq!(keys_of(&house_rules(&names), ""), known);
    }
}
