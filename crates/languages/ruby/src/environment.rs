//! Where gems lie in an image, and how Ruby is told.

use model::RuntimeInUse;

/// The folder of all that is installed, from the root.
pub(super) const FOLDER: &str = "gems";
/// The folder with `bundle`, from the root.
const COMMANDS: &str = "gems/bin";

/// Where gems lie.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Environment {
    /// The version of Ruby's interface for compiled parts, as in `3.3.0`.
    pub(super) interface: String,
}

impl Environment {
    pub(super) fn of(runtime: &RuntimeInUse) -> Self {
        let mut parts = runtime.version.split('.');
        let mut part = || parts.next().unwrap_or("0");
        Self { interface: format!("{}.{}.0", part(), part()) }
    }

    /// The folder that RubyGems takes for a home of gems, from the root.
    pub(super) fn home(&self) -> String {
        format!("{FOLDER}/ruby/{}", self.interface)
    }

    /// The folder of a gem, from the root.
    pub(super) fn gem(&self, full_name: &str) -> String {
        format!("{}/gems/{full_name}", self.home())
    }

    /// The folders that gems share, those above first.
    pub(super) fn shared_folders(&self) -> Vec<String> {
        let home = self.home();
        let mut folders =
            vec![FOLDER.to_owned(), COMMANDS.to_owned(), format!("{FOLDER}/ruby"), home.clone()];
        folders.extend(["bin", "gems", "specifications"].map(|folder| format!("{home}/{folder}")));
        folders
    }

    /// What goes in front of the `PATH`, strongest first.
    pub(super) fn path(&self) -> Vec<String> {
        vec![format!("/{COMMANDS}"), format!("/{}/bin", self.home())]
    }

    /// The environment in which nothing is looked up or written at the start.
    pub(super) fn variables(&self, without: &[String]) -> Vec<(&'static str, String)> {
        let mut variables = vec![
            // A developer's own configuration is not for the image.
            ("BUNDLE_APP_CONFIG", format!("/{FOLDER}/config")),
            ("BUNDLE_DEPLOYMENT", "1".to_owned()),
            ("BUNDLE_GEMFILE", "/app/Gemfile".to_owned()),
            ("BUNDLE_PATH", format!("/{FOLDER}")),
        ];
        if !without.is_empty() {
            variables.push(("BUNDLE_WITHOUT", without.join(":")));
        }
        variables
    }
}

/// The program that starts commands of gems, with its path from the root.
pub(super) const BUNDLE: (&str, &str) = (
    "gems/bin/bundle",
    "#!/usr/bin/env ruby\nrequire \"rubygems\"\nload Gem.activate_bin_path(\"bundler\", \"bundle\", \">= 0.a\")\n",
);
