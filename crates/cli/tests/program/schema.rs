//! `schema`: what it describes is what there is.

use crate::program;
use serde_json::Value;
use testkit::program::Program;

fn assert_fits(program: &Program, schema: &str, document: &Value) {
    let schema = program.json(&format!("schema {schema}"));
    let validator = jsonschema::validator_for(&schema).unwrap();
    let faults: Vec<_> =
        validator.iter_errors(document).map(|e| format!("{}: {e}", e.instance_path())).collect();
    assert_eq!(faults, Vec::<String>::new());
}

#[test]
fn outputs_fit_their_schemas() {
    let program = program().with_demo();
    for app in ["timetable", "fares", "notices"] {
        assert_fits(&program, "survey", &program.json(&format!("survey {app}")));
        assert_fits(&program, "check", &program.json(&format!("check {app}")));
    }
    let _ = program.succeed("build timetable");
    let record = program.succeed("show timetable --record").stdout;
    assert_fits(&program, "record", &serde_json::from_str(&record).unwrap());
}

#[test]
fn schemas_of_configuration_know_no_other_keys() {
    let program = program();
    for schema in ["configuration", "house-rules", "user-configuration"] {
        let schema = program.json(&format!("schema {schema}"));
        assert!(jsonschema::is_valid(&schema, &serde_json::json!({ "addresses": { "npm": "x" } })));
        assert!(!jsonschema::is_valid(&schema, &serde_json::json!({ "adresses": {} })));
    }
}

#[test]
fn an_unknown_schema_gets_the_nearest_one() {
    insta::assert_snapshot!(program().run("schema configuraton"));
}
