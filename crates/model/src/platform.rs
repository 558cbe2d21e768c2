//! Platforms: operating system and processor.

/// The platforms that images can be built for.
pub const PLATFORMS: [&str; 2] = ["linux/amd64", "linux/arm64"];

/// The platform of this machine, as in `linux/amd64`.
pub fn own_platform() -> String {
    let architecture = match std::env::consts::ARCH {
        "x86_64" => "amd64",
        "aarch64" => "arm64",
        other => other,
    };
    format!("linux/{architecture}")
}
