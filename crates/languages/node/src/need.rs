//! What a package or the app needs.

/// A dependency: a name, and how it is specified.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Need {
    /// The name that the package uses.
    pub(super) name: String,
    /// A range, or what else chooses a version.
    pub(super) wanted: String,
    pub(super) optional: bool,
    /// Whether it is to be found beside the package, and not below it.
    pub(super) peer: bool,
}
