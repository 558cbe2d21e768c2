//! Wording of things that several commands show.

use engine::{Change, MissReason};
use model::{Place, ProcessType};
use source::Revision;
use workshop::survey::looks_secret;

/// Bytes for people: `6.1 MB`.
pub fn size(bytes: u64) -> String {
    const UNITS: [&str; 4] = ["B", "kB", "MB", "GB"];
    let mut value = bytes as f64;
    let mut unit = 0;
    while value >= 999.5 && unit + 1 < UNITS.len() {
        value /= 1000.0;
        unit += 1;
    }
    if unit == 0 || value >= 99.95 {
        format!("{value:.0} {}", UNITS[unit])
    } else {
        format!("{value:.1} {}", UNITS[unit])
    }
}

/// Memory for people, in the binary units it is configured in: `128 MiB`.
fn memory(bytes: u64) -> String {
    match bytes {
        b if b >= 1 << 30 && b % (1 << 30) == 0 => format!("{} GiB", b >> 30),
        b if b >= 1 << 20 => format!("{} MiB", b >> 20),
        b => format!("{} KiB", b >> 10),
    }
}

/// A duration for people: `0.4 s`.
pub fn duration(milliseconds: u64) -> String {
    match milliseconds {
        0..1_000 => format!("{milliseconds} ms"),
        1_000..60_000 => format!("{:.1} s", milliseconds as f64 / 1_000.0),
        60_000..3_600_000 => format!("{} min {} s", milliseconds / 60_000, milliseconds / 1_000 % 60),
        _ => format!("{} h {} min", milliseconds / 3_600_000, milliseconds / 60_000 % 60),
    }
}

/// `1 file`, `2 files`.
pub fn count(number: usize, one: &str) -> String {
    if number == 1 { format!("1 {one}") } else { format!("{number} {one}s") }
}

/// `2026-11-23 07:12 UTC`, from seconds since 1970.
pub fn date(seconds: i64) -> String {
    jiff::Timestamp::from_second(seconds)
        .map_or_else(|_| "?".to_owned(), |t| t.strftime("%Y-%m-%d %H:%M UTC").to_string())
}

/// `package.json line 7`.
pub fn place(place: &Place) -> String {
    match place.line {
        Some(line) => format!("{} line {line}", place.file),
        None => place.file.clone(),
    }
}

/// A commit as people write it.
pub fn short(commit: &str) -> &str {
    commit.get(..10).unwrap_or(commit)
}

/// What of a source is not as it was committed.
pub fn uncommitted(revision: &Revision) -> String {
    let names = &revision.uncommitted;
    if names.is_empty() {
        return "everything is committed".to_owned();
    }
    let more = names.len().saturating_sub(NAMED);
    let more = if more == 0 { String::new() } else { format!(" and {more} more") };
    format!("not as committed: {}{more}", names[..names.len().min(NAMED)].join(", "))
}

/// Why a step has to run.
pub fn reason(reason: &MissReason) -> String {
    match reason {
        MissReason::First => "never built here".to_owned(),
        MissReason::Needs { steps } => format!("{} changed", steps.join(" and ")),
        MissReason::NothingPinned => "its downloads are not pinned yet".to_owned(),
        MissReason::NewRecipe => "this version of shtetl does it differently".to_owned(),
        MissReason::ResultDamaged => "its result was damaged in the store".to_owned(),
        MissReason::ResultGone => "its result is gone from the store".to_owned(),
        MissReason::OtherForm { from, to } => format!("layers are now {to}; before, they were {from}"),
        MissReason::Changed { changes } => changes.iter().map(change).collect::<Vec<_>>().join("; "),
    }
}

/// The first names, and how many more there are.
const NAMED: usize = 3;

fn change(change: &Change) -> String {
    let mut parts = Vec::new();
    let changed: Vec<String> = change.changed.iter().map(|(name, old, new)| moved(name, old, new)).collect();
    for (names, verb) in [(&changed, "changed"), (&change.added, "new"), (&change.removed, "gone")] {
        if !names.is_empty() {
            let more = names.len().saturating_sub(NAMED);
            let more = if more == 0 { String::new() } else { format!(" and {more} more") };
            parts.push(format!("{}{more} {verb}", names[..names.len().min(NAMED)].join(", ")));
        }
    }
    format!("{}: {}", change.input, parts.join(", "))
}

/// A changed part; short values (versions) are shown, digests are not.
fn moved(name: &str, old: &str, new: &str) -> String {
    let first = |text: &str| text.split(' ').next().map(|w| w.rsplit('@').next().unwrap_or(w).to_owned());
    match (first(old), first(new)) {
        (Some(old), Some(new)) if old != new && old.len() < 24 && new.len() < 24 => {
            format!("{name} {old} to {new}")
        }
        _ => name.to_owned(),
    }
}

/// Port, health path and the like of a process type.
pub fn process_details(process: &ProcessType) -> String {
    let mut details = Vec::new();
    details.extend(process.port.map(|p| format!("port {p}")));
    details.extend(process.health.as_ref().map(|h| format!("health {h}")));
    details.extend(process.memory.map(|m| format!("memory {}", memory(m))));
    details.extend(process.instances.map(|n| count(n as usize, "instance")));
    details.extend(process.before.as_ref().map(|b| format!("before {b}")));
    if process.kind == model::ProcessKind::Task {
        details.insert(0, "task".to_owned());
    }
    details.join(", ")
}

/// The rule of a setting; the value of a secret, or of what looks like one, is never shown.
pub fn setting(name: &str, rule: &model::SettingRule) -> String {
    let mut parts = Vec::new();
    let hidden = rule.secret || rule.value.is_some() && looks_secret(name);
    match (&rule.value, hidden) {
        (_, true) => parts.push("(secret)".to_owned()),
        (Some(value), false) => parts.push(value.clone()),
        (None, false) => {}
    }
    if rule.required {
        parts.push("required".to_owned());
    }
    parts.join(", ")
}
