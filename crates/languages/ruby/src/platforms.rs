//! What RubyGems calls platforms.

/// How a platform is added to a lockfile.
pub(super) const ADD_PLATFORM: &str =
    "add the platform and commit the lockfile: bundle lock --add-platform x86_64-linux aarch64-linux";

/// The names that RubyGems has for a platform with the GNU C library, the most exact first.
pub(super) fn names_of(platform: &str) -> [String; 2] {
    let processor = match platform.rsplit('/').next().unwrap_or_default() {
        "amd64" => "x86_64",
        "arm64" => "aarch64",
        other => other,
    };
    [format!("{processor}-linux-gnu"), format!("{processor}-linux")]
}
