//! Rules that read the code itself.

use crate::check::{Found, Subject, breaks, doubt};
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
    port: Option<u16>,
    rest: String,
    reads_port: bool,
}

fn spots(subject: &Subject<'_>) -> Vec<Spot> {
    let mut spots = Vec::new();
    for path in subject.tree.files().keys().filter(|p| !is_for_tests(p)) {
        let calls: Vec<_> = LISTENS.iter().filter(|l| path.ends_with(l.ending)).collect();
        if calls.is_empty() {
            continue;
        }
        // A source that is not text listens to nothing.
        let Ok(Some(text)) = subject.tree.read(path) else { continue };
        let reads_port = text.contains("PORT");
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
                let port = rest.split_once(listen.port).map(|(_, after)| after.trim_start());
                let digits = port.map(|p| p.split(|c: char| !c.is_ascii_digit()).next().unwrap_or_default());
                spots.push(Spot {
                    place: Place::new(path.as_str(), u32::try_from(number + 1).ok()),
                    port: digits.and_then(|d| d.parse().ok()),
                    rest: rest.to_owned(),
                    reads_port,
                });
            }
        }
    }
    spots
}

pub(super) fn port_fixed(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let Some(web) = subject.survey.processes.iter().find(|p| p.port.is_some()) else { return Ok(Vec::new()) };
    let wanted = web.port.unwrap_or_default();
    let fixed =
        spots(subject).into_iter().filter(|s| !s.reads_port && s.port.is_some_and(|p| p > 0 && p != wanted));
    Ok(fixed
        .map(|spot| {
            let port = spot.port.unwrap_or_default();
            let what = format!("the code listens on port {port}, and {} is to listen on {wanted}", web.name);
            let advice = format!(
                "read the variable PORT, or in shtetl.toml, under [process.{}]: port = {port}",
                web.name
            );
            breaks(spot.place, what, advice)
        })
        .collect())
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
        .map(|s| doubt(s.place, "the code listens to its own machine only", advice));
    let in_commands = subject.survey.processes.iter().filter(|p| p.port.is_some()).filter_map(|process| {
        let own = |w: &&String| {
            ["127.0.0.1", "localhost"]
                .iter()
                .any(|h| *w == h || w.ends_with(&format!("={h}")) || w.starts_with(&format!("{h}:")))
        };
        let word = process.command.iter().find(own)?;
        Some(breaks(process.said.clone(), format!("{} listens on {word} only", process.name), advice))
    });
    Ok(in_code.chain(in_commands).collect())
}
