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

#[test]
fn init_writes_the_schema_for_editors_and_it_is_never_packed() {
    let program = program();
    program.write("app/index.html", "<title>Tides</title>");
    let _ = program.succeed("init app --yes --schema");
    let text = std::fs::read_to_string(program.path("app/shtetl.toml")).unwrap();
    assert!(text.starts_with("#:schema ./shtetl.schema.json\n"), "{text}");
    let written: Value =
        serde_json::from_slice(&std::fs::read(program.path("app/shtetl.schema.json")).unwrap()).unwrap();
    assert_eq!(written, program.json("schema configuration"));
    let survey = program.succeed("survey app").stdout;
    assert!(survey.contains("source    1 file,"), "{survey}");
}
