//! How a machine isolates processes, and what they may use.

use crate::table::Table;
use crate::{BAD, FAINT, GOOD, Output, styled, words};
use sandbox::{Ground, Isolation, Limits, Walls};

/// Shows the walls and the limits of a step.
pub fn show(walls: &Walls, limits: &Limits, output: &Output) {
    match output.is_json() {
        true => json(walls, limits, output),
        false => text(walls, limits, output),
    }
}

fn isolation_words(isolation: Isolation) -> &'static str {
    match isolation {
        Isolation::Superuser => "in a user namespace, under ids that no user on this machine has",
        Isolation::SingleUser => "in a user namespace, where the only user is you",
    }
}

fn text(walls: &Walls, limits: &Limits, output: &Output) {
    let mut table = Table::new(&[]);
    let mut row = |name: &str, holds: bool, what: String| {
        let sign = if holds { styled(GOOD, "yes") } else { styled(BAD, "no") };
        table.row([name.to_owned(), sign, styled(FAINT, what)]);
    };
    match &walls.mode {
        Ok(mode) => {
            let ground = match mode.ground {
                Ground::Overlay => "read-only layers under a fresh writable folder",
                Ground::Copy => "a copy of the layers at each start, because overlays cannot be mounted here",
            };
            row("own processes", true, isolation_words(mode.isolation).to_owned());
            row("own files", true, ground.to_owned());
            row(
                "system calls filtered",
                true,
                "calls that could escape the sandbox or harm the kernel are refused".to_owned(),
            );
        }
        Err(refusal) => {
            for (mode, step, detail) in &refusal.tries {
                row(
                    "own processes",
                    false,
                    format!("{}: could not {step} ({detail})", isolation_words(mode.isolation)),
                );
            }
        }
    }
    let network = match &walls.network {
        Ok(()) => "steps have no network; a process started by `run` has its own, with only the ports that you ask for"
            .to_owned(),
        Err(detail) => format!("steps cannot run ({detail}); `run --network host` shares this machine's"),
    };
    row("own network", walls.network.is_ok(), network);
    row("own clocks", walls.clocks, "the machine's uptime is hidden".to_owned());
    row("own control groups", walls.groups, "the machine's control groups are hidden".to_owned());
    let memory = words::size(limits.memory_in_force());
    row("processes limited", true, format!("at most {} at once, threads included", limits.processes));
    let enforced = match walls.limited_by_kernel {
        true => "enforced by the kernel",
        false => "checked ten times a second",
    };
    row("memory limited", true, format!("{memory} for all of them together; {enforced}"));
    row("open files limited", true, format!("at most {} for each process", limits.open_files));
    row(
        "writing limited",
        walls.written,
        match limits.written {
            Some(most) => {
                format!("{} to disk for each step; unlimited for `run` unless configured", words::size(most))
            }
            None => "not limited".to_owned(),
        },
    );
    let time = limits.time.map_or("for ever".to_owned(), |time| format!("{} minutes", time.as_secs() / 60));
    row("time limited", true, format!("{time} for each step; unlimited for `run`"));
    for line in table.lines() {
        output.line(line);
    }
}

fn json(walls: &Walls, limits: &Limits, output: &Output) {
    let tries = walls.mode.as_ref().err().map(|refusal| {
        let all = refusal.tries.iter();
        all.map(|(mode, step, detail)| serde_json::json!({ "mode": mode, "step": step, "detail": detail }))
            .collect::<Vec<_>>()
    });
    output.json(&serde_json::json!({
        "format": "shtetl/machine/1",
        "mode": walls.mode.as_ref().ok(),
        "refused": tries,
        "own_network": walls.network.is_ok(),
        "own_clocks": walls.clocks,
        "own_control_groups": walls.groups,
        "limited_by_kernel": walls.limited_by_kernel,
        "counts_writing": walls.written,
        "limits": {
            "processes": limits.processes,
            "memory": limits.memory_in_force(),
            "open_files": limits.open_files,
            "written": limits.written,
            "seconds": limits.time.map(|time| time.as_secs()),
        },
    }));
}
