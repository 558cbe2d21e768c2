//! `store`: how much it holds, what can go, whether it is whole.

use super::{Done, sharing};
use crate::surroundings::Surroundings;
use arguments::{StoreAction, StoreOptions};
use render::table::Table;
use render::{BAD, FAINT, GOOD, Output, STRONG, styled, words};
use std::process::ExitCode;
use wording::Failure;
use workshop::storage::{self, Limit, Pruned};

const DAY: i64 = 86_400;

pub fn run(options: &StoreOptions, surroundings: &Surroundings, output: &Output) -> Done {
    match &options.action {
        StoreAction::Usage => usage(surroundings, output),
        StoreAction::Prune { keep, older, dry_run } => {
            let limit = limit(keep.as_deref(), older.as_deref())?;
            prune(limit, *dry_run, surroundings, output)
        }
        StoreAction::Push => sharing::push(surroundings, output),
        StoreAction::Pull { source } => sharing::pull(source, surroundings, output),
        StoreAction::Forget { image } => forget(image, surroundings, output),
        StoreAction::Check { repair } => check(*repair, surroundings, output),
    }
}

fn usage(surroundings: &Surroundings, output: &Output) -> Done {
    let (kinds, images) = storage::usage(&surroundings.store)?;
    if output.is_json() {
        output
            .json(&serde_json::json!({ "format": "shtetl/store-usage/1", "kinds": kinds, "images": images }));
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = Table::new(&[1]);
    for kind in &kinds {
        table.row([styled(STRONG, kind.kind), words::size(kind.bytes), styled(FAINT, kind.about)]);
    }
    let total = kinds.iter().map(|kind| kind.bytes).sum();
    table.row([
        "together".to_owned(),
        words::size(total),
        styled(FAINT, surroundings.store.root().display()),
    ]);
    table.lines().iter().for_each(|line| output.line(line));
    if images.is_empty() {
        return Ok(ExitCode::SUCCESS);
    }
    output.line("");
    output.line("images");
    let mut table = Table::new(&[1, 2]);
    for image in &images {
        let own = format!("{} unique", words::size(image.own));
        let built = styled(FAINT, format!("built {}", words::date(image.last_built)));
        table.row([styled(STRONG, &image.image), words::size(image.bytes), own, built]);
    }
    table.lines().iter().for_each(|line| output.line(line));
    Ok(ExitCode::SUCCESS)
}

/// What `--keep` and `--older` say; clap sees to it that one of them is given.
fn limit(keep: Option<&str>, older: Option<&str>) -> Result<Limit, Failure> {
    let wrong = |option: &str, text: &str, hint: &str| Failure::Usage {
        message: format!("--{option} {text:?} is not a valid limit"),
        hint: hint.to_owned(),
    };
    if let Some(text) = keep {
        let hint = "use a size, for example --keep 20GB";
        return bytes(text).map(Limit::Bytes).ok_or_else(|| wrong("keep", text, hint));
    }
    let text = older.unwrap_or_default();
    let days = text.strip_suffix('d').and_then(|days| days.parse::<i64>().ok());
    let seconds = days.and_then(|days| days.checked_mul(DAY));
    seconds
        .map(Limit::Seconds)
        .ok_or_else(|| wrong("older", text, "use a number of days, for example --older 30d"))
}

fn bytes(text: &str) -> Option<u64> {
    const UNITS: [(&str, u64); 3] = [("GB", 1_000_000_000), ("MB", 1_000_000), ("kB", 1_000)];
    UNITS
        .iter()
        .find_map(|(unit, bytes)| text.strip_suffix(unit)?.trim().parse::<u64>().ok()?.checked_mul(*bytes))
}

fn prune(limit: Limit, dry_run: bool, surroundings: &Surroundings, output: &Output) -> Done {
    let now = Surroundings::now() / 1_000_000_000;
    let Some(pruned) = storage::prune(&surroundings.store, limit, now, !dry_run)? else {
        return Err(Failure::StoreInUse);
    };
    if output.is_json() {
        output.json(
            &serde_json::json!({ "format": "shtetl/store-prune/1", "dry_run": dry_run, "pruned": pruned }),
        );
        return Ok(ExitCode::SUCCESS);
    }
    let Pruned { removed, bytes, left, unreadable } = &pruned;
    let verb = if dry_run { "would remove" } else { "removed" };
    let mut table = Table::new(&[1]);
    for (kind, count) in removed {
        table.row([styled(STRONG, *kind), count.to_string()]);
    }
    output.line(format!("{verb} {}; {} left", words::size(*bytes), words::size(*left)));
    table.lines().iter().for_each(|line| output.line(line));
    if !unreadable.is_empty() {
        let names = unreadable.join(", ");
        output.aside(format!(
            "note: {names} cannot be read, so no image data was removed: see `shtetl store check`"
        ));
    }
    if let Limit::Bytes(most) = limit
        && *left > most
    {
        output.aside("note: the rest belongs to named images; `shtetl store forget IMAGE` removes a name");
    }
    Ok(ExitCode::SUCCESS)
}

fn forget(image: &str, surroundings: &Surroundings, output: &Output) -> Done {
    if !storage::forget(&surroundings.store, image)? {
        let known = workshop::inspect::all(&surroundings.store)?;
        return Err(Failure::Usage {
            message: format!("the store has no image {image:?}"),
            hint: wording::suggestion(image, &known),
        });
    }
    output.aside(format!("{image} is forgotten; `shtetl store prune` removes data that only it used"));
    Ok(ExitCode::SUCCESS)
}

fn check(repair: bool, surroundings: &Surroundings, output: &Output) -> Done {
    let checked = storage::check(&surroundings.store, repair)?;
    let is_whole = checked.damaged.is_empty() && checked.incomplete.is_empty();
    if output.is_json() {
        output.json(
            &serde_json::json!({ "format": "shtetl/store-check/1", "repaired": repair, "checked": checked }),
        );
        return Ok(ExitCode::from(u8::from(!is_whole && !repair)));
    }
    let verdict = match is_whole {
        true => styled(GOOD, "no damage found"),
        false => styled(BAD, words::count(checked.damaged.len() + checked.incomplete.len(), "problem")),
    };
    output.line(format!(
        "{} read, {verdict}",
        words::count(usize::try_from(checked.read).unwrap_or(usize::MAX), "file")
    ));
    for path in &checked.damaged {
        let what = if repair { "damaged and removed; the next build recreates it" } else { "damaged" };
        output.line(format!("  {path}  {what}"));
    }
    for (image, what) in &checked.incomplete {
        output.line(format!("  {image}  lacks {what}: build it again"));
    }
    if !repair && !checked.damaged.is_empty() {
        output.line("what to do: `shtetl store check --repair` removes what is damaged");
    }
    Ok(ExitCode::from(u8::from(!is_whole && !repair)))
}
