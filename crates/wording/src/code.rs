//! A stable code for each kind of error, under which it is explained.

use super::Failure;
use ::yard::Trouble;
use model::Error;
use model::error::{BaseError, PackageError, RegistryError};

/// The code of a failure; `None` for wrong usage, which its message explains in full, and where the facts
/// below it have codes of their own.
pub(super) fn of_failure(failure: &Failure) -> Option<String> {
    let of_program = |name: &str| Some(code("machine", name));
    match failure {
        Failure::Core(error) => of(error),
        Failure::Yard(Trouble::Fault(fault)) => Some(code("yard", fault.into())),
        Failure::Yard(trouble) => Some(code("yard", trouble.into())),
        Failure::FewFiles { .. } => of_program("few-files"),
        Failure::NoHome => of_program("no-home"),
        Failure::Fault { .. } => of_program("own-fault"),
        Failure::StoreInUse => of_program("store-in-use"),
        Failure::Usage { .. }
        | Failure::WillFail(_)
        | Failure::Silent
        | Failure::Demo { .. }
        | Failure::Output(_)
        | Failure::File { .. }
        | Failure::System(_) => None,
    }
}

/// The code of an error.
pub(super) fn of(error: &Error) -> Option<String> {
    let (domain, name): (&str, &str) = match error {
        Error::Package(PackageError::Remote { source, .. })
        | Error::Base(BaseError::Image { source, .. })
        | Error::Registry(RegistryError::Remote { source, .. }) => ("download", source.into()),
        Error::Content(error) => ("content", error.into()),
        Error::Source(error) => ("source", error.into()),
        Error::Config(error) => ("config", error.into()),
        Error::Survey(error) => ("survey", error.into()),
        Error::Package(error) => ("package", error.into()),
        Error::Pins(error) => ("pin", error.into()),
        Error::Base(error) => ("base", error.into()),
        Error::Step(error) => ("step", error.into()),
        Error::Run(error) => ("run", error.into()),
        Error::Registry(error) => ("registry", error.into()),
        Error::Swap(error) => ("swap", error.into()),
        Error::Town(error) => ("town", error.into()),
        Error::NoSandbox(_) => ("sandbox", "unavailable"),
        Error::Sandbox(error) => ("sandbox", error.into()),
        Error::Interrupted => return None,
    };
    Some(code(domain, name))
}

fn code(domain: &str, name: &str) -> String {
    format!("{domain}-{name}")
}

#[cfg(test)]
pub(super) mod known {
    use super::code;
    use ::content::ContentError;
    use ::remote::RemoteError;
    use ::sandbox::SandboxError;
    use ::yard::{Fault, Trouble};
    use model::error::*;
    use strum::VariantNames;

    /// Every code that an error can have.
    pub(in super::super) fn all() -> Vec<String> {
        let domains: [(&str, &[&str]); 17] = [
            ("download", RemoteError::VARIANTS),
            ("content", ContentError::VARIANTS),
            ("source", SourceError::VARIANTS),
            ("config", ConfigError::VARIANTS),
            ("survey", SurveyError::VARIANTS),
            ("package", PackageError::VARIANTS),
            ("pin", PinError::VARIANTS),
            ("base", BaseError::VARIANTS),
            ("step", StepError::VARIANTS),
            ("run", RunError::VARIANTS),
            ("registry", RegistryError::VARIANTS),
            ("swap", SwapError::VARIANTS),
            ("town", TownError::VARIANTS),
            ("sandbox", SandboxError::VARIANTS),
            ("sandbox", &["unavailable"]),
            ("yard", Fault::VARIANTS),
            ("yard", Trouble::VARIANTS),
        ];
        let wrappers =
            ["package-remote", "base-image", "registry-remote", "download-cancelled", "yard-fault"];
        let machine = ["few-files", "no-home", "own-fault", "store-in-use"].map(|name| code("machine", name));
        domains
            .iter()
            .flat_map(|(domain, names)| names.iter().map(|name| code(domain, name)))
            .filter(|code| !wrappers.contains(&code.as_str()))
            .chain(machine)
            // Found when the image is finished, not by a rule.
            .chain(["house-licence", "house-size"].map(str::to_owned))
            .collect()
    }
}
