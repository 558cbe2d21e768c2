//! The keys of a configuration file as tables in Markdown, from the file's JSON Schema.

use serde_json::Value;
use std::fmt::Write;

/// What stands for the names that an author chooses.
const NAME: &str = "NAME";

/// A section for each table of the file, the file's own keys first. `leave_out` has top-level keys that are
/// described elsewhere.
pub fn tables(schema: &Value, leave_out: &[&str]) -> String {
    let mut text = String::new();
    describe(schema, &[], leave_out, &mut text);
    text
}

fn describe(table: &Value, path: &[&str], leave_out: &[&str], text: &mut String) {
    let keys: Vec<(&str, &Value)> =
        properties(table).filter(|(name, _)| !path.is_empty() || !leave_out.contains(name)).collect();
    if !path.is_empty() {
        let _ = write!(text, "\n### `[{}]`\n\n{}\n", path.join("."), about(table));
    }
    let rows: Vec<String> =
        keys.iter().filter(|(_, key)| inner_table(key).is_none()).map(|(name, key)| row(name, key)).collect();
    let rows: Vec<String> = rows.into_iter().chain(free_keys(table)).collect();
    if !rows.is_empty() {
        text.push_str("\n| key | value | default | |\n| --- | --- | --- | --- |\n");
        text.push_str(&rows.concat());
    }
    for (name, key) in keys {
        if let Some((inner, chosen)) = inner_table(key) {
            let longer = [path, &[name][..], if chosen { &[NAME] } else { &[] }].concat();
            describe(inner, &longer, leave_out, text);
        }
    }
    let forms = table["additionalProperties"]["anyOf"].as_array().into_iter().flatten();
    for form in forms.filter(|form| form["properties"].is_object()) {
        describe(form, &[path, &[NAME]].concat(), leave_out, text);
    }
}

fn properties(table: &Value) -> impl Iterator<Item = (&str, &Value)> {
    table["properties"].as_object().into_iter().flatten().map(|(name, key)| (name.as_str(), key))
}

/// The table that a key holds, and whether it is under a name that the author chooses.
fn inner_table(key: &Value) -> Option<(&Value, bool)> {
    let each = &key["additionalProperties"];
    if each["properties"].is_object() {
        return Some((each, true));
    }
    let holds_one = key["properties"].is_object()
        || each["anyOf"]
            .as_array()
            .is_some_and(|forms| forms.iter().any(|form| form["properties"].is_object()));
    holds_one.then_some((key, false))
}

/// Rows for keys that the author names.
fn free_keys(table: &Value) -> Vec<String> {
    let each = &table["additionalProperties"];
    let any = (each["anyOf"].is_array()).then(|| row(NAME, each));
    let patterns = table["patternProperties"].as_object().into_iter().flatten();
    any.into_iter().chain(patterns.map(|(_, key)| row("KIND:NAME", key))).collect()
}

fn row(name: &str, key: &Value) -> String {
    let default = key.get("default").map(code).unwrap_or_default();
    let example =
        key["examples"].get(0).map(|example| format!("; example: {}", code(example))).unwrap_or_default();
    format!("| `{name}` | {} | {default} | {}{example} |\n", kind(key), about(key).replace('|', "\\|"))
}

/// A value as TOML has it.
fn code(value: &Value) -> String {
    format!("`{}`", toml_text(value))
}

fn toml_text(value: &Value) -> String {
    match value {
        Value::Array(items) => format!("[{}]", items.iter().map(toml_text).collect::<Vec<_>>().join(", ")),
        Value::Object(keys) => {
            let pairs: Vec<String> =
                keys.iter().map(|(key, value)| format!("{key} = {}", toml_text(value))).collect();
            format!("{{ {} }}", pairs.join(", "))
        }
        plain => plain.to_string(),
    }
}

fn about(key: &Value) -> &str {
    key["description"].as_str().unwrap_or_default()
}

/// What kind of value a key takes.
fn kind(key: &Value) -> String {
    if let Some(words) = key["enum"].as_array() {
        return words.iter().map(code).collect::<Vec<_>>().join(", ");
    }
    if let Some(forms) = key["anyOf"].as_array() {
        let mut kinds: Vec<String> = forms.iter().map(kind).collect();
        kinds.dedup();
        return kinds.join(" or ");
    }
    if let Some(value) = key.get("const") {
        return code(value);
    }
    match key["type"].as_str() {
        Some("array") if key["items"]["enum"].is_array() => format!("list of {}", kind(&key["items"])),
        Some("array") => "list".to_owned(),
        Some("integer") => "number".to_owned(),
        Some("boolean") => "true or false".to_owned(),
        Some("object") => "table".to_owned(),
        _ if key["format"] == "date" => "date".to_owned(),
        _ => "text".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn every_table_has_a_section_and_every_key_a_row() {
        let tide = json!({ "type": "object", "properties": {
            "port": { "description": "The port", "type": "integer", "default": 8080 },
        } });
        let schema = json!({ "properties": {
            "name": { "description": "The name", "type": "string", "examples": ["timetable"] },
            "tide": { "description": "Tides", "type": "object", "additionalProperties": tide },
            "other": { "description": "Elsewhere", "type": "string" },
        } });
        let text = tables(&schema, &["other"]);
        assert!(text.contains("| `name` | text |  | The name; example: `\"timetable\"` |\n"), "{text}");
        assert!(text.contains("\n### `[tide.NAME]`\n"), "{text}");
        assert!(text.contains("| `port` | number | `8080` | The port |\n"), "{text}");
        assert!(!text.contains("Elsewhere"), "{text}");
    }
}
