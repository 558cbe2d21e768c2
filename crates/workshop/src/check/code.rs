//! Rules that read the code itself.

use crate::check::imports::reached_files;
use crate::check::{Found, Subject, error, warning};
use model::{Place, Result};
use source::is_for_tests;

/// A call that begins to listen.
struct Listen {
    ending: &'static str,
    call: &'static str,
    /// What the port follows, inside the call's line; the first argument when empty.
    port: &'static str,
}

const LISTENS: &[Listen] = &[
    Listen { ending: ".js", call: ".listen(", port: "" },
    Listen { ending: ".mjs", call: ".listen(", port: "" },
    Listen { ending: ".cjs", call: ".listen(", port: "" },
    Listen { ending: ".py", call: ".run(", port: "port=" },
    Listen { ending: ".go", call: "ListenAndServe(", port: ":" },
    Listen { ending: ".rb", call: "set :port", port: "," },
];

/// A line of code that begins to listen: its place and what follows the call.
struct Spot {
    place: Place,
    port: Port,
    rest: String,
}

/// Which port a call listens on.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Port {
    /// This one, whatever the environment says; with the variable of another name that could change it.
    Fixed(u16, Option<String>),
    /// Not known from the code alone.
    Open,
}

/// Whether a file shows how something is used: no part of the app runs it.
fn is_example(path: &str) -> bool {
    path.rsplit('/').skip(1).any(|folder| matches!(folder, "example" | "examples"))
}

/// The port that an expression means, in a file with this text.
fn port_of(expression: &str, text: &str) -> Port {
    let expression = expression.trim_start();
    let digits = expression.split(|c: char| !c.is_ascii_digit()).next().unwrap_or_default();
    if !digits.is_empty() {
        return digits.parse().map_or(Port::Open, |port| Port::Fixed(port, None));
    }
    let word = expression.split(|c: char| !(c.is_alphanumeric() || c == '_')).next().unwrap_or_default();
    let after = expression[word.len()..].trim_start();
    let is_plain = after.is_empty() || after.starts_with([',', ')', ';']);
    if is_plain && !word.is_empty() {
        return definition(word, text).map_or(Port::Open, value_of);
    }
    value_of(expression)
}

/// What a name is set to where the file sets it once.
fn definition<'t>(name: &str, text: &'t str) -> Option<&'t str> {
    let value = |line: &'t str| {
        let line = line.trim_start();
        let line = ["const ", "let ", "var ", "export const "]
            .iter()
            .find_map(|k| line.strip_prefix(k))
            .unwrap_or(line);
        let after = line.strip_prefix(name)?.trim_start();
        after.strip_prefix('=').filter(|value| !value.starts_with(['=', '>'])).map(str::trim)
    };
    let mut all = text.lines().filter_map(value);
    let first = all.next()?;
    all.next().is_none().then_some(first)
}

/// The port that an expression has when no variable is set that it reads.
fn value_of(expression: &str) -> Port {
    const READS: [&str; 5] =
        ["process.env.", "environ.get(", "getenv(", "process.env[", "Number(process.env."];
    let digits_of = |text: &str| {
        let text = text.trim_start().trim_start_matches(['"', '\'']);
        text.split(|c: char| !c.is_ascii_digit()).next().and_then(|digits| digits.parse::<u16>().ok())
    };
    if let Some(port) = digits_of(expression) {
        return Port::Fixed(port, None);
    }
    let Some(rest) = READS.iter().find_map(|read| expression.split_once(read)).map(|(_, rest)| rest) else {
        return Port::Open;
    };
    let rest = rest.trim_start_matches(['"', '\'']);
    let name = rest.split(|c: char| !(c.is_ascii_alphanumeric() || c == '_')).next().unwrap_or_default();
    let default = ["||", "??", ","].iter().find_map(|sign| digits_of(rest.split_once(sign)?.1));
    match (name, default) {
        ("PORT" | "", _) | (_, None) => Port::Open,
        (name, Some(port)) => Port::Fixed(port, Some(name.to_owned())),
    }
}

fn spots(subject: &Subject<'_>) -> Vec<Spot> {
    let mut spots = Vec::new();
    let reached = reached_files(subject);
    let is_script = |path: &str| [".js", ".mjs", ".cjs"].iter().any(|ending| path.ends_with(ending));
    let is_reached = |path: &&String| {
        reached.as_ref().is_none_or(|files| !is_script(path) || files.contains(path.as_str()))
    };
    for path in subject.tree.files().keys().filter(|p| !is_for_tests(p) && !is_example(p)).filter(is_reached)
    {
        let calls: Vec<_> = LISTENS.iter().filter(|l| path.ends_with(l.ending)).collect();
        if calls.is_empty() {
            continue;
        }
        // A source that is not text listens to nothing; one that cannot be read fails when it is packed.
        let Ok(Some(text)) = subject.tree.read_text(path) else { continue };
        let is_started = subject
            .survey
            .processes
            .iter()
            .any(|p| p.command.iter().any(|word| p.path_of(word).ends_with(path.as_str())));
        let mut in_main = false;
        for (number, line) in text.lines().enumerate() {
            // What stands under it runs only when the file itself is started.
            match line.starts_with("if __name__") {
                true => in_main = true,
                false => in_main &= line.is_empty() || line.starts_with([' ', '\t']),
            }
            if in_main && !is_started {
                continue;
            }
            let code = line.trim_start();
            if code.starts_with("//") || code.starts_with('#') || code.starts_with('*') {
                continue;
            }
            for listen in &calls {
                let Some((_, rest)) = line.split_once(listen.call) else { continue };
                let port = rest.split_once(listen.port).map(|(_, after)| after);
                spots.push(Spot {
                    place: Place::new(path.as_str(), u32::try_from(number + 1).ok()),
                    port: port.map_or(Port::Open, |port| port_of(port, &text)),
                    rest: rest.to_owned(),
                });
            }
        }
    }
    spots
}

pub(super) fn port_fixed(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let Some(web) = subject.survey.processes.iter().find(|p| p.port.is_some()) else { return Ok(Vec::new()) };
    let wanted = web.port.unwrap_or_default();
    let mut found = Vec::new();
    for spot in spots(subject) {
        let Port::Fixed(port, variable) = spot.port else { continue };
        let is_set = |name: &String| subject.survey.settings.contains_key(name) || web.env.contains_key(name);
        if port == 0 || port == wanted || variable.as_ref().is_some_and(is_set) {
            continue;
        }
        let unless = variable.map(|name| format!(" unless {name} is set")).unwrap_or_default();
        let what =
            format!("the code listens on port {port}{unless}, and {} is expected on {wanted}", web.name);
        found.push(error(spot.place, what, port_advice(&web.name, port)));
    }
    if let Some((word, port)) = port_in_command(&web.command).filter(|(_, port)| *port != wanted) {
        let what =
            format!("the command listens on port {port} ({word}), and {} is expected on {wanted}", web.name);
        let advice =
            format!("use $PORT instead, or in shtetl.toml, under [process.{}]: port = {port}", web.name);
        found.push(error(web.said.clone(), what, advice));
    }
    Ok(found)
}

fn port_advice(process: &str, port: u16) -> String {
    format!("read the port from PORT, or in shtetl.toml, under [process.{process}]: port = {port}")
}

/// Servers that are told where to listen, by the options that say it.
const TOLD: [(&str, &[&str]); 9] = [
    ("gunicorn", &["--bind", "-b"]),
    ("uvicorn", &["--port"]),
    ("hypercorn", &["--bind", "-b"]),
    ("granian", &["--port"]),
    ("daphne", &["--port", "-p"]),
    ("waitress-serve", &["--port", "--listen"]),
    ("flask", &["--port", "-p"]),
    ("puma", &["--port", "-p"]),
    ("next", &["--port", "-p"]),
];

/// The literal port that a command gives a server, with the words that say it.
fn port_in_command(command: &[String]) -> Option<(String, u16)> {
    let at = command.iter().position(|word| TOLD.iter().any(|(server, _)| word == server))?;
    let (_, options) = TOLD.iter().find(|(server, _)| command[at] == **server)?;
    let port = |value: &str| value.rsplit(':').next()?.parse::<u16>().ok();
    let rest = &command[at + 1..];
    rest.iter().enumerate().find_map(|(number, word)| {
        if options.contains(&word.as_str()) {
            let value = rest.get(number + 1)?;
            return Some((format!("{word} {value}"), port(value)?));
        }
        let (option, value) = word.split_once('=')?;
        options.contains(&option).then(|| Some((word.clone(), port(value)?)))?
    })
}

pub(super) fn loopback_only(subject: &Subject<'_>) -> Result<Vec<Found>> {
    if !subject.survey.processes.iter().any(|p| p.port.is_some()) {
        return Ok(Vec::new());
    }
    let signs = ["\"127.0.0.1", "'127.0.0.1", "\"localhost", "'localhost"];
    let advice = "listen on 0.0.0.0: a process on 127.0.0.1 cannot be reached from outside its container";
    let in_code = spots(subject)
        .into_iter()
        .filter(|s| signs.iter().any(|sign| s.rest.contains(sign)))
        .map(|s| warning(s.place, "the code listens on the loopback address only", advice));
    let in_commands = subject.survey.processes.iter().filter(|p| p.port.is_some()).filter_map(|process| {
        let own = |w: &&String| {
            ["127.0.0.1", "localhost"]
                .iter()
                .any(|h| *w == h || w.ends_with(&format!("={h}")) || w.starts_with(&format!("{h}:")))
        };
        let word = process.command.iter().find(own)?;
        Some(error(process.said.clone(), format!("{} listens on {word} only", process.name), advice))
    });
    Ok(in_code.chain(in_commands).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_port_of_a_call_is_read_through_names_and_defaults() {
        let fixed = |port, name: Option<&str>| Port::Fixed(port, name.map(str::to_owned));
        for (call, text, expected) in [
            ("3000, () => {})", "", fixed(3000, None)),
            ("port, () => {})", "const port = 3000;", fixed(3000, None)),
            ("port)", "const port = process.env.PORT || 3000;", Port::Open),
            ("port)", "const port = process.env.APP_PORT || 3000;", fixed(3000, Some("APP_PORT"))),
            ("process.env.APP_PORT ?? 3000)", "", fixed(3000, Some("APP_PORT"))),
            ("process.env.PORT)", "", Port::Open),
            ("config.port)", "", Port::Open),
            ("port)", "let port = 1;\nport = 2;", Port::Open),
            ("port)", "port = int(os.environ.get(\"APP_PORT\", 5000))", fixed(5000, Some("APP_PORT"))),
            ("int(os.environ.get('PORT', 5000)))", "", Port::Open),
        ] {
            assert_eq!(port_of(call, text), expected, "{call} {text}");
        }
    }

    #[test]
    fn the_port_that_a_command_gives_a_server_is_read() {
        let of = |line: &str| {
            let words: Vec<String> = line.split(' ').map(str::to_owned).collect();
            port_in_command(&words).map(|(_, port)| port)
        };
        assert_eq!(of("gunicorn --bind 0.0.0.0:5000 app:app"), Some(5000));
        assert_eq!(of("python -m flask run --port=5000"), Some(5000));
        assert_eq!(of("gunicorn -b 0.0.0.0:$PORT app:app"), None);
        assert_eq!(of("serve -p 5000"), None, "not a server that is known");
    }
}
