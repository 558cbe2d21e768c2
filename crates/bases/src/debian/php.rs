//! How Debian's packages of PHP come to be configured: by links that their scripts would make.

use crate::debian::unpack::Unpacked;

/// The server interfaces of PHP that read configuration of their own.
const INTERFACES: [&str; 3] = ["apache2", "cli", "fpm"];
/// The place of an extension whose file says none, in the order of loading.
const USUAL_PRIORITY: &str = "20";

/// Links every interface to the configuration for production that the package brings.
pub(super) fn configuration(unpacked: &Unpacked, link: &mut impl FnMut(&str, &str)) {
    let of_version = |path: &String| {
        let version = path.strip_prefix("usr/lib/php/")?.strip_suffix("/php.ini-production")?;
        Some(version.to_owned())
    };
    for version in unpacked.files.iter().filter_map(of_version) {
        for interface in INTERFACES {
            let ending = if interface == "cli" { ".cli" } else { "" };
            link(
                &format!("etc/php/{version}/{interface}/php.ini"),
                &format!("/usr/lib/php/{version}/php.ini-production{ending}"),
            );
        }
    }
}

/// Links the settings of the package's extensions to where every interface reads them, in the order
/// that they ask for.
pub(super) fn extensions(unpacked: &Unpacked, link: &mut impl FnMut(&str, &str)) {
    for (path, text) in &unpacked.texts {
        let Some((package, inside)) = path.strip_prefix("usr/share/php").and_then(|p| p.split_once('/'))
        else {
            continue;
        };
        let (Some((version, _)), Some(file)) = (package.split_once('-'), inside.rsplit('/').next()) else {
            continue;
        };
        let said =
            text.lines().find_map(|line| line.split_once("priority=").map(|(_, number)| number.trim()));
        let priority = said.unwrap_or(USUAL_PRIORITY);
        let available = format!("etc/php/{version}/mods-available/{file}");
        link(&available, &format!("/{path}"));
        for interface in INTERFACES {
            let loaded = format!("etc/php/{version}/{interface}/conf.d/{priority}-{file}");
            link(&loaded, &format!("/{available}"));
        }
    }
}
