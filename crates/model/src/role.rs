//! What a layer is for.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What a layer is for. The order is from the bottom of an image to its top: by how seldom it changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// What every program needs: libraries, certificates, time zones, users.
    Base,
    /// A language's interpreter with its own library.
    Runtime,
    /// Locked packages.
    Dependencies,
    /// Files that a buildpack adds to the app.
    Support,
    /// The app's own files.
    App,
    /// What programs of the build made of them.
    Built,
}

impl Role {
    /// The name in texts and documents.
    pub fn name(self) -> &'static str {
        match self {
            Self::Base => "base",
            Self::Runtime => "runtime",
            Self::Dependencies => "dependencies",
            Self::Support => "support",
            Self::App => "app",
            Self::Built => "built",
        }
    }
}
