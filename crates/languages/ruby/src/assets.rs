//! Frameworks that make files of the app before it starts, and what they read of the environment.

use model::{AppBuild, BuildCommand, Place};
use source::SourceTree;
use std::collections::{BTreeMap, BTreeSet};

/// Gems that make files of what is in `app/assets`.
const MAKERS: [&str; 3] = ["propshaft", "sprockets-rails", "sprockets"];
/// The framework whose command makes them: a part of it that every app has, and all of it.
const RAILS: [&str; 2] = ["railties", "rails"];
/// Where its sources are.
const SOURCES: [&str; 3] = ["app/assets/", "app/javascript/", "app/frontend/"];

/// The list of files that were made, without the end of its name.
const LIST: &str = "public/assets/.sprockets-manifest-";

/// The command that makes files of the app, where its framework has one. No secret takes part: the framework wants one to
/// start, whatever it is.
pub(super) fn build(tree: &SourceTree, gems: &BTreeSet<String>) -> Option<AppBuild> {
    let has_maker = has_one(gems, &MAKERS) && has_one(gems, &RAILS);
    let source = SOURCES.iter().find(|folder| tree.files().keys().any(|file| file.starts_with(**folder)))?;
    if !has_maker || !tree.has("config/application.rb") {
        return None;
    }
    let command = "bundle exec rails assets:precompile";
    let set = "RAILS_ENV=production SECRET_KEY_BASE=only-for-assets SECRET_KEY_BASE_DUMMY=1";
    // One of the makers gives its list a random name, unless there is one.
    let has_list = tree.files().keys().any(|file| file.starts_with(LIST));
    let list = match gems.contains("sprockets") && !has_list {
        true => format!("mkdir -p public/assets && echo '{{}}' > {LIST}{}.json && ", "0".repeat(32)),
        false => String::new(),
    };
    let run = ["sh".to_owned(), "-c".to_owned(), format!("{list}{set} exec {command}")].into();
    let mut tools = vec!["ruby".to_owned()];
    if tree.has("package.json") {
        tools.push("node".to_owned());
    }
    Some(AppBuild {
        command: BuildCommand { run, tools, keep: vec!["public/**".to_owned()], fetch: Vec::new() },
        folder: String::new(),
        shown: command.to_owned(),
        said: Place::new(*source, None),
    })
}

/// The secret that the framework asks for: the key of what is encrypted in the source, or the one that it signs with.
pub(super) fn secrets(tree: &SourceTree, gems: &BTreeSet<String>) -> BTreeMap<String, Place> {
    const ENCRYPTED: [&str; 2] = ["config/credentials/production.yml.enc", "config/credentials.yml.enc"];
    const APP: &str = "config/application.rb";
    if !has_one(gems, &RAILS) || !tree.has(APP) {
        return BTreeMap::new();
    }
    let (name, file) = match ENCRYPTED.iter().find(|file| tree.has(file)) {
        Some(file) => ("RAILS_MASTER_KEY", *file),
        None => ("SECRET_KEY_BASE", APP),
    };
    BTreeMap::from([(name.to_owned(), Place::new(file, None))])
}

/// Folders that the framework's processes write into, whatever the app does.
pub(super) fn writable(gems: &BTreeSet<String>) -> Vec<String> {
    if has_one(gems, &RAILS) { ["log", "tmp"].map(str::to_owned).into() } else { Vec::new() }
}

/// What frameworks of the app read: that it is not being developed, and that nothing may be written beside its code.
pub(super) fn variables(gems: &BTreeSet<String>) -> Vec<(&'static str, String)> {
    let mut variables = Vec::new();
    if gems.contains("rack") {
        variables.push(("RACK_ENV", "production"));
    }
    if has_one(gems, &RAILS) {
        variables.extend([
            // The server writes its number into a file of the app otherwise.
            ("PIDFILE", "/dev/null"),
            ("RAILS_ENV", "production"),
            ("RAILS_LOG_TO_STDOUT", "1"),
            ("RAILS_SERVE_STATIC_FILES", "1"),
        ]);
    }
    if gems.contains("hanami") {
        variables.push(("HANAMI_ENV", "production"));
    }
    variables.into_iter().map(|(name, value)| (name, value.to_owned())).collect()
}

fn has_one(gems: &BTreeSet<String>, of: &[&str]) -> bool {
    of.iter().any(|name| gems.contains(*name))
}
