//! Whether `Gemfile.lock` is for the Gemfile as it is now: Bundler refuses to start with one that is not.

use crate::gemfile::{Gemfile, Wanted};
use crate::lock::Lock;
use crate::{LOCKFILE, MANIFEST};
use model::error::PackageError;
use model::{Error, Result};
use std::collections::BTreeSet;

/// An error where the lockfile is for another Gemfile.
pub(super) fn check(gemfile: &Gemfile, lock: &Lock) -> Result<()> {
    let mismatch = |detail: String| {
        Err(Error::Package(PackageError::LockMismatch {
            lockfile: LOCKFILE.to_owned(),
            detail,
            how: "run `bundle lock`, and commit the lockfile",
        }))
    };
    // Gems after a line that only running it would explain may be asked for or not, as those with a condition.
    let certain = gemfile.gems.iter().filter(|gem| gemfile.is_certain(gem));
    for gem in certain {
        match lock.asked.get(&gem.name) {
            None => {
                return mismatch(format!(
                    "{MANIFEST}:{} asks for {}, which it does not have",
                    gem.line, gem.name
                ));
            }
            Some(locked) if !gem.is_elsewhere && asked(gem) != requirements(locked) => {
                let wanted = gem.requirements.join(", ");
                let wanted = if wanted.is_empty() { "any version".to_owned() } else { wanted };
                let locked = if locked.is_empty() { "any version" } else { locked };
                return mismatch(format!(
                    "{MANIFEST}:{} asks for {wanted} of {}, and it was made for {locked}",
                    gem.line, gem.name
                ));
            }
            Some(_) => {}
        }
    }
    if gemfile.unread.is_some() || gemfile.has_own_specification {
        return Ok(());
    }
    let wanted: BTreeSet<&str> = gemfile.gems.iter().map(|gem| gem.name.as_str()).collect();
    match lock.asked.keys().find(|name| !wanted.contains(name.as_str())) {
        Some(gone) => {
            mismatch(format!("it was made for a {MANIFEST} that asks for {gone}, which this one does not"))
        }
        None => Ok(()),
    }
}

/// The requirements of a gem in one form.
fn asked(gem: &Wanted) -> BTreeSet<String> {
    gem.requirements.iter().flat_map(|text| requirements(text)).collect()
}

/// `>= 1, 2` as `>=1` and `=2`; what allows everything is nothing.
fn requirements(text: &str) -> BTreeSet<String> {
    let all = text.split(',').map(|one| one.replace(' ', "")).filter(|one| !one.is_empty() && one != ">=0");
    all.map(|one| match one.starts_with(|c: char| c.is_ascii_digit()) {
        true => format!("={one}"),
        false => one,
    })
    .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(gemfile: &str, asked: &str) -> String {
        let lock = Lock::parse(&format!("DEPENDENCIES\n{asked}")).unwrap();
        match check(&Gemfile::parse(gemfile), &lock) {
            Ok(()) => String::new(),
            Err(Error::Package(PackageError::LockMismatch { detail, .. })) => detail,
            Err(other) => panic!("{other}"),
        }
    }

    #[test]
    fn a_lockfile_fits_the_gemfile_that_it_was_made_for() {
        for (gemfile, asked) in [
            ("gem 'fog', '~> 1.0', '>= 1.2'", "  fog (>= 1.2, ~> 1.0)\n"),
            ("gem 'fog', '1.0'", "  fog (= 1.0)\n"),
            ("gem 'fog', git: 'x'", "  fog!\n"),
            ("gem 'fog', '>= 0'", "  fog\n"),
            ("gem 'fog'\nif x\n gem 'mist'\nend", "  fog\n"),
            ("gem 'fog'\ngem 'mist', '~> 0.4' if RUBY_VERSION < '2.6'", "  fog\n"),
            ("gem 'fog', (RUBY_VERSION < '3' ? '~> 1.12' : '~> 1.13')", "  fog (~> 1.13)\n"),
            ("gemspec", "  fog!\n  mist\n"),
        ] {
            assert_eq!(told(gemfile, asked), "", "{gemfile}");
        }
    }

    #[test]
    fn another_gemfile_is_told_with_its_line() {
        assert_eq!(told("\ngem 'fog'", ""), "Gemfile:2 asks for fog, which it does not have");
        assert_eq!(
            told("gem 'fog', '~> 2'", "  fog (~> 1)\n"),
            "Gemfile:1 asks for ~> 2 of fog, and it was made for ~> 1"
        );
        assert_eq!(
            told("gem 'fog'", "  fog (~> 1)\n"),
            "Gemfile:1 asks for any version of fog, and it was made for ~> 1"
        );
        assert!(told("", "  fog\n").contains("asks for fog, which this one does not"));
    }
}
