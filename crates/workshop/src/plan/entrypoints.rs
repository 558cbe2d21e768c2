//! What an image starts: the commands of process types, in the form that the base can carry out.

use crate::survey::Survey;
use model::error::SurveyError;
use model::shell_words::{SHELL, expanded, for_shell, shell_script, variables};
use model::{Error, ProcessType, Result};
use std::collections::BTreeMap;

/// The variable that tells a process which port to listen on.
pub const PORT_VARIABLE: &str = "PORT";

/// By process type.
pub(super) fn of(survey: &Survey, has_shell: bool) -> Result<BTreeMap<String, Vec<String>>> {
    let entrypoint = |process: &ProcessType| {
        let words = match has_shell {
            true => with_shell(process),
            false => without_shell(process, survey)?,
        };
        Ok((process.name.clone(), words))
    };
    survey.processes.iter().map(entrypoint).collect()
}

/// Where there is a shell, it puts in the values at the start, whoever starts the image.
fn with_shell(process: &ProcessType) -> Vec<String> {
    let words = &process.command;
    if variables(words).next().is_none() {
        return plain(words);
    }
    let script = format!("exec {} \"$@\"", for_shell(words));
    vec![SHELL.to_owned(), "-c".to_owned(), script, process.name.clone()]
}

/// Without a shell, the values are those that are known when the image is made.
fn without_shell(process: &ProcessType, survey: &Survey) -> Result<Vec<String>> {
    let missing = |variable: Option<String>| {
        let process = process.name.clone();
        let place =
            survey.processes.iter().find(|known| known.name == process).map(|known| known.said.clone());
        Error::Survey(SurveyError::NoShell { process, variable, place })
    };
    if shell_script(&process.command).is_some() {
        return Err(missing(None));
    }
    let port = process.port.map(|port| port.to_string());
    let value = |name: &str| match name {
        PORT_VARIABLE => port.as_deref(),
        name => {
            let own = process.env.get(name);
            let setting = || survey.settings.get(name)?.value.as_ref();
            own.or_else(setting).map(String::as_str)
        }
    };
    expanded(&process.command, value).map_err(|name| missing(Some(name)))
}

fn plain(words: &[String]) -> Vec<String> {
    expanded(words, |_| None).unwrap_or_else(|_| words.to_vec())
}

#[cfg(test)]
mod tests {
    use super::*;
    use model::{Place, ProcessKind};

    fn web(words: &[&str]) -> ProcessType {
        let place = Place::new("shtetl.toml", None);
        ProcessType { port: Some(9000), ..ProcessType::found("web", ProcessKind::Process, words, place) }
    }

    #[test]
    fn a_shell_puts_in_values_at_the_start_and_passes_arguments_on() {
        assert_eq!(with_shell(&web(&["serve", "it's", "costs$$PORT"])), ["serve", "it's", "costs$PORT"]);
        let words = with_shell(&web(&["serve", "--bind", "0.0.0.0:$PORT", "a b"]));
        assert_eq!(words, ["/bin/sh", "-c", "exec serve --bind 0.0.0.0:\"$PORT\" 'a b' \"$@\"", "web"]);
    }
}
