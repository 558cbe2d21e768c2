//! Classes of Python whose fields are variables of the environment (`pydantic-settings`, and what is like it).

/// A field: the variable, its line (from 1), and whether the class says what holds without it.
pub(super) type Field = (String, usize, bool);

/// The fields of all such classes of a file.
pub(super) fn fields(text: &str) -> Vec<Field> {
    let lines: Vec<&str> = text.lines().collect();
    let is_class = |line: &&str| line.starts_with("class ") && line.contains("BaseSettings");
    let starts = lines.iter().enumerate().filter(|(_, line)| is_class(line)).map(|(at, _)| at);
    starts.flat_map(|at| of_class(&lines, at)).collect()
}

fn of_class(lines: &[&str], at: usize) -> Vec<Field> {
    let is_inside = |line: &&&str| line.is_empty() || line.starts_with([' ', '\t']);
    let body: Vec<&str> = lines[at + 1..].iter().take_while(is_inside).copied().collect();
    let prefix = body.iter().find_map(|line| quoted_after(line, "env_prefix")).unwrap_or_default();
    let mut found = Vec::new();
    for (number, line) in body.iter().enumerate() {
        let depth = line.len() - line.trim_start().len();
        let Some((name, rest)) = line.trim().split_once(':').filter(|_| matches!(depth, 1 | 2 | 4)) else {
            continue;
        };
        let is_field = !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
        if !is_field || rest.trim().is_empty() || name == "model_config" || rest.contains("ClassVar") {
            continue;
        }
        let may_lack = rest.contains('=') && !rest.contains("Field(...") || rest.contains("None");
        found.push((format!("{prefix}{name}").to_uppercase(), at + number + 2, may_lack));
    }
    found
}

/// The text in quotes that a name in the line is set to.
fn quoted_after(line: &str, name: &str) -> Option<String> {
    let after = line.split_once(name)?.1.trim_start().trim_start_matches(['=', ':', '"', '\'']).trim_start();
    let quote = line.split_once(name)?.1.chars().find(|c| matches!(c, '"' | '\''))?;
    Some(after.trim_start_matches(quote).split(quote).next()?.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_are_variables_and_those_without_a_value_are_needed() {
        let text = "class Settings(BaseSettings):\n    model_config = SettingsConfigDict(env_prefix=\"FERRY_\")\n\n    \
            database_url: str\n    debug: bool = False\n    token: str | None\n    pier: int = Field(...)\n\n    \
            def url(self):\n        tide: int\n\nclass Other(Base):\n    fog: str\n";
        let expected =
            [("DATABASE_URL", 4, false), ("DEBUG", 5, true), ("TOKEN", 6, true), ("PIER", 7, false)];
        let expected: Vec<Field> =
            expected.iter().map(|(name, line, default)| (format!("FERRY_{name}"), *line, *default)).collect();
        assert_eq!(fields(text), expected);
    }
}
