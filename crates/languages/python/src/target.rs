//! The Python that packages are chosen for: not the machine's, but that of the image.

use crate::file_names::WheelName;
use model::error::PackageError;
use model::{Error, Result};
use pep440_rs::Version;
use pep508_rs::{MarkerEnvironment, MarkerEnvironmentBuilder, MarkerTree};
use std::str::FromStr;

/// The C library of bases whose own is not known: every distribution that is still cared for has it.
const USUAL_GLIBC: (u32, u32) = (2, 28);
/// Architecture-neutral names of systems that tags used before their versions were part of them (PEP 600).
const OLD_NAMES: [(&str, (u32, u32)); 3] =
    [("manylinux2014", (2, 17)), ("manylinux2010", (2, 12)), ("manylinux1", (2, 5))];

/// Interpreter and platform of an image.
#[derive(Debug, Clone)]
pub(super) struct Target {
    pub(super) version: Version,
    /// Major and minor.
    series: (u32, u32),
    glibc: (u32, u32),
    /// As wheels name it: `x86_64`, `aarch64`.
    machine: &'static str,
    markers: MarkerEnvironment,
}

impl Target {
    /// The target of `version` (at least major and minor) on `platform` (`linux/amd64`), with this C library.
    pub(super) fn new(version: &str, platform: &str, glibc: Option<(u32, u32)>) -> Result<Self> {
        let parsed = Version::from_str(version).ok();
        let parts = parsed.as_ref().map(|v| v.release().to_vec()).unwrap_or_default();
        let number = |at: usize| parts.get(at).and_then(|n| u32::try_from(*n).ok());
        let (Some(version_number), Some(major), Some(minor)) = (parsed, number(0), number(1)) else {
            let (package, detail) = ("python".to_owned(), format!("{version:?} is not a version of it"));
            return Err(Error::Package(PackageError::Damaged { package, detail }));
        };
        let machine = if platform.ends_with("/arm64") { "aarch64" } else { "x86_64" };
        let glibc = glibc.unwrap_or(USUAL_GLIBC);
        let (full, short) = (format!("{version_number}"), format!("{major}.{minor}"));
        let markers = MarkerEnvironmentBuilder {
            implementation_name: "cpython",
            implementation_version: &full,
            os_name: "posix",
            platform_machine: machine,
            platform_python_implementation: "CPython",
            platform_release: "",
            platform_system: "Linux",
            platform_version: "",
            python_full_version: &full,
            python_version: &short,
            sys_platform: "linux",
        };
        let markers = MarkerEnvironment::try_from(markers).map_err(|e| {
            Error::Package(PackageError::Damaged { package: "python".to_owned(), detail: e.to_string() })
        })?;
        Ok(Self { version: version_number, series: (major, minor), glibc, machine, markers })
    }

    /// Major and minor version, as in the name of the library folder.
    pub(super) fn series(&self) -> String {
        format!("{}.{}", self.series.0, self.series.1)
    }

    /// A text that is the same for targets that get the same packages.
    pub(super) fn name(&self) -> String {
        format!("{} {} glibc {}.{}", self.series(), self.machine, self.glibc.0, self.glibc.1)
    }

    /// Whether a marker holds here, with these extras asked for.
    pub(super) fn holds(&self, marker: &MarkerTree, extras: &[pep508_rs::ExtraName]) -> bool {
        marker.evaluate(&self.markers, extras)
    }

    /// How well a wheel fits; `None` when it does not, and more is better (PEP 425). One that was compiled
    /// for exactly this goes before the stable interface, and that before pure Python.
    pub(super) fn fit(&self, wheel: &WheelName) -> Option<u32> {
        let platform = wheel.platform.split('.').filter_map(|tag| self.platform_fit(tag)).max()?;
        let pairs = wheel.python.split('.').flat_map(|p| wheel.abi.split('.').map(move |a| (p, a)));
        let interpreter = pairs.filter_map(|(python, abi)| self.interpreter_fit(python, abi)).max()?;
        Some(interpreter * 10_000 + platform)
    }

    fn platform_fit(&self, tag: &str) -> Option<u32> {
        if tag == "any" {
            return Some(0);
        }
        let system = tag.strip_suffix(self.machine)?.strip_suffix('_')?;
        if system == "linux" {
            return Some(1);
        }
        let of_number = || {
            let (major, minor) = system.strip_prefix("manylinux_")?.split_once('_')?;
            Some((major.parse().ok()?, minor.parse().ok()?))
        };
        let old = OLD_NAMES.iter().find(|(name, _)| *name == system).map(|(_, glibc)| *glibc);
        let needed: (u32, u32) = old.or_else(of_number)?;
        (needed <= self.glibc).then_some(needed.0 * 100 + needed.1)
    }

    fn interpreter_fit(&self, python: &str, abi: &str) -> Option<u32> {
        let (major, minor) = self.series;
        let own = format!("cp{major}{minor}");
        if python == own && abi == own {
            return Some(900);
        }
        let minor_of = |beginning: &str| {
            let rest = python.strip_prefix(beginning)?.strip_prefix(&major.to_string())?;
            if rest.is_empty() { Some(None) } else { rest.parse::<u32>().ok().map(Some) }
        };
        match (abi, minor_of("cp"), minor_of("py")) {
            // Compiled for an older one against the interface that stays.
            ("abi3", Some(Some(found)), _) if found <= minor => Some(500 + found),
            ("none", Some(Some(found)), _) if found == minor => Some(400),
            ("none", Some(None), _) => Some(300),
            ("none", _, Some(Some(found))) if found <= minor => Some(100 + found),
            ("none", _, Some(None)) => Some(100),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_best_wheel_for_the_image_is_chosen() {
        let target = Target::new("3.11.2", "linux/amd64", Some((2, 36))).unwrap();
        let fit = |tags: &str| target.fit(&WheelName::parse(&format!("fog-1.0-{tags}.whl")).unwrap());
        let best_first = [
            "cp311-cp311-manylinux_2_34_x86_64",
            "cp311-cp311-manylinux_2_17_x86_64.manylinux2014_x86_64",
            "cp39-abi3-manylinux_2_28_x86_64",
            "cp36-abi3-manylinux1_x86_64",
            "py311-none-any",
            "py2.py3-none-any",
        ];
        let fits: Vec<_> = best_first.iter().map(|tags| fit(tags).unwrap()).collect();
        assert!(fits.is_sorted_by(|a, b| a > b), "{fits:?}");
        for tags in [
            "cp312-cp312-manylinux_2_17_x86_64",
            "cp312-abi3-manylinux_2_17_x86_64",
            "cp311-cp311-manylinux_2_38_x86_64",
            "cp311-cp311-musllinux_1_1_x86_64",
            "cp311-cp311-manylinux_2_17_aarch64",
            "cp311-cp311-macosx_11_0_arm64",
            "py2-none-any",
        ] {
            assert_eq!(fit(tags), None, "{tags}");
        }
    }
}
