//! Advisories about the packages of an image.

use crate::surroundings::Surroundings;
use arguments::Threshold;
use config::AcceptedAdvisory;
use evidence::{Acceptance, Accepted, AdvisoryFault, Affected, Found, Severity, read_advisories};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use model::PackageFact;
use render::table::Table;
use render::{BAD, BUSY, FAINT, GOOD, Output, STRONG, styled, words};
use std::collections::BTreeMap;
use std::path::Path;
use wording::Failure;

/// Reads advisories, and finds those about these packages; `accepted` are those that are accepted for now.
pub fn find(
    path: &Path,
    packages: &[PackageFact],
    accepted: &BTreeMap<String, AcceptedAdvisory>,
) -> Result<Found, Failure> {
    let advisories = read_advisories(path).map_err(|fault| match fault {
        AdvisoryFault::Unreadable { path, source } => Failure::File { path, source },
        AdvisoryFault::Malformed { path, detail } => Failure::Usage {
            message: format!("{} is not an advisory: {detail}", path.display()),
            hint: "use documents in the OSV format, in JSON".to_owned(),
        },
    })?;
    if advisories.is_empty() {
        return Err(Failure::Usage {
            message: format!("{} contains no advisories", path.display()),
            hint: "use documents in the OSV format, in files ending in .json".to_owned(),
        });
    }
    let now = Surroundings::now() / 1_000_000_000;
    let now = Timestamp::from_second(now).unwrap_or(Timestamp::UNIX_EPOCH);
    let acceptance = Acceptance { accepted, today: now.to_zoned(TimeZone::UTC).date() };
    Ok(evidence::find(packages, &advisories, &acceptance))
}

/// Whether one is at least as bad as the threshold, where there is one.
pub fn reaches(found: &Found, threshold: Option<Threshold>) -> bool {
    let least = match threshold {
        None => return false,
        Some(Threshold::Any) => Severity::Unknown,
        Some(Threshold::Low) => Severity::Low,
        Some(Threshold::Medium) => Severity::Medium,
        Some(Threshold::High) => Severity::High,
        Some(Threshold::Critical) => Severity::Critical,
    };
    found.affected.iter().any(|one| one.severity >= least)
}

pub fn show(found: &Found, output: &Output) {
    let (about, read) = (found.affected.len(), found.advisories);
    let compared = words::count(found.compared, "package");
    output
        .line(format!("\n{}  {about} found, {read} read, {compared} compared", styled(STRONG, "advisories")));
    let mut table = Table::new(&[]);
    for Affected { id, aliases, summary, severity, name, version, fixed, .. } in &found.affected {
        // The name that all databases share, where there is one.
        let shared = aliases.iter().find(|alias| alias.starts_with("CVE-")).unwrap_or(id);
        let fix = match fixed.is_empty() {
            true => "no fix".to_owned(),
            false => format!("fixed in {}", fixed.join(", ")),
        };
        table.row([
            coloured(*severity),
            format!("{name} {version}"),
            shared.clone(),
            fix,
            styled(FAINT, summary),
        ]);
    }
    table.lines().into_iter().for_each(|line| output.line(line));
    for Accepted { affected, reason, until } in &found.accepted {
        let Affected { id, name, version, .. } = affected;
        output.line(styled(FAINT, format!("  accepted until {until}: {id} in {name} {version}: {reason}")));
    }
    if !found.passed_over.is_empty() {
        let kinds: Vec<String> =
            found.passed_over.iter().map(|(kind, count)| format!("{count} of the kind {kind}")).collect();
        output.line(styled(FAINT, format!("  not compared: {}", kinds.join(", "))));
    }
}

/// How bad something is, in its colour.
pub fn coloured(severity: Severity) -> String {
    match severity {
        Severity::Critical => styled(BAD, "critical"),
        Severity::High => styled(BAD, "high"),
        Severity::Medium => styled(BUSY, "medium"),
        Severity::Low => styled(GOOD, "low"),
        Severity::Unknown => styled(FAINT, "unknown"),
    }
}
