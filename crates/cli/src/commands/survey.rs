//! `survey`: what a source is, and why.

use super::Done;
use super::settings::in_force;
use crate::documents::SurveyDocument;
use crate::surroundings::Surroundings;
use arguments::SurveyOptions;
use model::{Claim, Finding, Speaks, shell_words};
use remote::Network;
use render::table::Table;
use render::{BAD, FAINT, GOOD, Output, STRONG, styled, words};
use source::WhyLeftOut;
use std::process::ExitCode;
use workshop::base_selection::{Provision, provisions};
use workshop::survey::Survey;

pub fn run(options: &SurveyOptions, surroundings: &Surroundings, output: &Output) -> Done {
    let app =
        surroundings.look(&options.source, &surroundings.fetcher(Network::Allowed), Surroundings::now())?;
    let provisions = provisions(&app)?;
    if output.is_json() {
        let (survey, provisions) = (&app.survey, &provisions[..]);
        output.json(&SurveyDocument { format: "shtetl/survey/1", survey, provisions });
    } else {
        text(&app.survey, &provisions, options.explain, output);
        if options.explain {
            heading(output, "effective configuration");
            for line in in_force(&app).lines() {
                output.line(line);
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Shows a survey to people, in short or in full.
fn text(survey: &Survey, provisions: &[Provision], in_full: bool, output: &Output) {
    let chosen = survey.chosen.join(" and ");
    output.line(format!("{}  {chosen}", styled(STRONG, &survey.name)));
    for line in facts(survey, provisions).lines() {
        output.line(line);
    }
    for finding in survey.chosen_findings() {
        heading(output, &format!("why {}", finding.buildpack));
        for line in evidence(finding).lines() {
            output.line(line);
        }
    }
    let others: Vec<&Finding> =
        survey.findings.iter().filter(|f| !survey.chosen.contains(&f.buildpack)).collect();
    if !others.is_empty() {
        heading(output, "why not");
        for line in why_not(&others, in_full) {
            output.prose(line);
        }
    }
    heading(output, "how it runs");
    for line in processes(survey).lines() {
        output.line(line);
    }
    if survey.processes.is_empty() {
        output.line(format!(
            "  {}",
            styled(BAD, "no start command found; in shtetl.toml: [process.web], then run = \"the command\"")
        ));
    }
    let services = services(survey).lines();
    if !services.is_empty() {
        heading(output, "services");
        services.iter().for_each(|line| output.line(line));
    }
    let settings = settings(survey).lines();
    if !settings.is_empty() {
        heading(output, "settings");
        settings.iter().for_each(|line| output.line(line));
    }
    if !survey.notable.is_empty() {
        heading(output, "unexpected");
        for line in notable(survey).lines() {
            output.line(line);
        }
    }
    if !survey.left_out.is_empty() {
        heading(output, "left out");
        for line in left_out(survey).lines() {
            output.line(line);
        }
    }
}

fn heading(output: &Output, text: &str) {
    output.line("");
    output.line(styled(STRONG, text));
}

fn facts(survey: &Survey, provisions: &[Provision]) -> Table {
    let mut table = Table::new(&[]);
    let mut row = |name: &str, value: String, why: String| {
        table.row([styled(FAINT, name), value, styled(FAINT, why)]);
    };
    let size = words::size(survey.size);
    row("source", format!("{}, {size}", words::count(survey.files, "file")), String::new());
    if let Some(revision) = &survey.revision {
        row("commit", words::short(&revision.commit).to_owned(), words::uncommitted(revision));
    }
    for finding in survey.chosen_findings() {
        if let Some(wish) = &finding.runtime {
            let (version, why) = match &wish.constraint {
                Some((range, place)) => (range.clone(), words::place(place)),
                None if wish.for_app => {
                    ("any version".to_owned(), "no version requested: pin one".to_owned())
                }
                None => (String::new(), "only serves files: any version works".to_owned()),
            };
            row("runtime", format!("{} {version}", wish.runtime), why);
            for provision in provisions.iter().filter(|p| p.runtime == wish.runtime) {
                let (what, why) = provided(provision);
                row("provided", what, why);
            }
        }
        if let Some(lock) = &finding.lock {
            let packages = words::count(lock.packages, "package");
            let development = match lock.development {
                0 => String::new(),
                n => format!(", plus {n} for development"),
            };
            row("packages", format!("{packages}{development}"), lock.file.clone());
        }
    }
    let base_said =
        survey.base.1.as_ref().map_or("no version requested: the default".to_owned(), words::place);
    row("base", survey.base.0.clone(), base_said);
    if let Some(build) = &survey.build {
        row("build", build.shown.clone(), words::place(&build.said));
    }
    table
}

/// What is taken for a runtime, and why that.
fn provided(provision: &Provision) -> (String, String) {
    let pinned = if provision.pinned { "pinned in shtetl.lock" } else { "not pinned yet" };
    let origin = &provision.origin;
    match (&provision.version, &provision.instead_of) {
        (None, None) if origin == "host" => ("from this machine".to_owned(), String::new()),
        (None, None) => ("what it carries".to_owned(), format!("by {origin}, {pinned}")),
        (Some(version), None) => {
            let said = provision.said.as_ref().map_or(String::new(), |said| format!(", as {said} says"));
            (version.clone(), format!("by {origin}{said}, {pinned}"))
        }
        (version, Some(instead)) => {
            let newest = version.as_deref().unwrap_or("newest match");
            (newest.to_owned(), format!("from {origin}, instead of {instead}; {pinned}"))
        }
    }
}

fn evidence(finding: &Finding) -> Table {
    let mut table = Table::new(&[]);
    for evidence in &finding.evidence {
        let sign = match evidence.speaks {
            Speaks::For => styled(GOOD, "+"),
            Speaks::Against => styled(BAD, "-"),
        };
        let value = shortened(&evidence.value);
        table.row([
            format!("{sign} {}", words::place(&evidence.place)),
            value,
            styled(FAINT, &evidence.tells),
        ]);
    }
    table
}

/// Evidence is quoted; a long quotation is cut.
fn shortened(text: &str) -> String {
    const LONGEST: usize = 44;
    if text.chars().count() <= LONGEST {
        return text.to_owned();
    }
    let kept: String = text.chars().take(LONGEST - 1).collect();
    format!("{kept}…")
}

/// Why other buildpacks do not build the source. Those without any evidence are one line; in full, each has what it looked
/// for.
fn why_not(others: &[&Finding], in_full: bool) -> Vec<String> {
    let is_silent =
        |finding: &&Finding| !in_full && finding.claim == Claim::None && finding.evidence.is_empty();
    let (silent, speaking): (Vec<&Finding>, Vec<&Finding>) = others.iter().partition(|f| is_silent(f));
    let mut table = Table::new(&[]);
    for finding in speaking {
        let against = finding.evidence.iter().find(|e| e.speaks == Speaks::Against);
        let why = match against {
            Some(evidence) => format!("{}: {}", words::place(&evidence.place), evidence.tells),
            None if finding.claim != Claim::None => {
                "also recognised, but the configuration chose another".to_owned()
            }
            None => format!("none of {}", finding.looked_for.join(", ")),
        };
        table.row([finding.buildpack.to_owned(), styled(FAINT, why)]);
    }
    let mut lines = table.lines();
    if !silent.is_empty() {
        let names: Vec<&str> = silent.iter().map(|finding| finding.buildpack.as_ref()).collect();
        let hint = styled(FAINT, "no evidence; --explain lists what was looked for");
        lines.push(format!("  {}  {hint}", names.join(", ")));
    }
    lines
}

fn processes(survey: &Survey) -> Table {
    let mut table = Table::new(&[]);
    for process in &survey.processes {
        table.row([
            process.name.clone(),
            shell_words::join(&process.command),
            words::process_details(process),
            styled(FAINT, words::place(&process.said)),
        ]);
    }
    table
}

fn services(survey: &Survey) -> Table {
    let mut table = Table::new(&[]);
    for (name, service) in &survey.services {
        let given: Vec<&str> = service.gives.keys().map(String::as_str).collect();
        table.row([
            name.clone(),
            service.kind.name().to_owned(),
            styled(FAINT, format!("gives {}", given.join(", "))),
        ]);
    }
    let declared = |kind| survey.services.values().any(|service| service.kind == kind);
    for found in survey.found_services.iter().filter(|found| !declared(found.kind)) {
        let kind = found.kind.name();
        let variable = found.variable.as_ref().map(|name| format!(", {name} is read")).unwrap_or_default();
        let advice = format!(
            "{} is a client of it{variable}; [service.NAME] kind = {kind:?} declares it",
            found.driver
        );
        table.row([kind.to_owned(), "not declared".to_owned(), styled(FAINT, advice)]);
    }
    table
}

fn settings(survey: &Survey) -> Table {
    let mut table = Table::new(&[]);
    for (name, rule) in &survey.settings {
        let about = rule.about.as_deref().unwrap_or_default();
        table.row([name.clone(), words::setting(name, rule), styled(FAINT, about)]);
    }
    for (name, read) in survey.reads.iter().filter(|(name, _)| !survey.settings.contains_key(*name)) {
        let rule = if read.is_optional() { "default in the code" } else { "not declared" };
        let more =
            if read.also.is_empty() { String::new() } else { format!(" and {} more", read.also.len()) };
        let place = format!("read in {}{more}", words::place(&read.place));
        table.row([name.clone(), rule.to_owned(), styled(FAINT, place)]);
    }
    let other = |name: &&String| !survey.settings.contains_key(*name) && !survey.reads.contains_key(*name);
    for name in survey.samples.keys().filter(other) {
        let place = words::place(&survey.samples[name]);
        table.row([name.clone(), "not declared".to_owned(), styled(FAINT, format!("only named in {place}"))]);
    }
    table
}

fn notable(survey: &Survey) -> Table {
    let mut table = Table::new(&[1]);
    for notable in &survey.notable {
        table.row([notable.path.clone(), words::size(notable.size), styled(FAINT, notable.what.told())]);
    }
    table
}

fn left_out(survey: &Survey) -> Table {
    let mut table = Table::new(&[]);
    for left in &survey.left_out {
        let why = match left.why {
            WhyLeftOut::Settings => "local settings, often secret",
            WhyLeftOut::PrivateKey => "a private key",
            WhyLeftOut::Credentials => "credentials for other systems",
            WhyLeftOut::Dependencies => "installed packages; the build installs its own",
            WhyLeftOut::LeadsOut => "a link out of the source",
            WhyLeftOut::Special => "not a file, folder or link",
        };
        table.row([left.path.clone(), styled(FAINT, why)]);
    }
    table
}
