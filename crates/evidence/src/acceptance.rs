//! Advisories that are accepted until a certain day.

use crate::affected::Affected;
use config::AcceptedAdvisory;
use jiff::civil::Date;
use serde::Serialize;
use std::collections::BTreeMap;

/// An accepted advisory.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Accepted {
    /// What it is about.
    #[serde(flatten)]
    pub affected: Affected,
    /// Why.
    pub reason: String,
    /// The last day on which it is accepted.
    pub until: String,
}

/// The advisories that are accepted, by id or another name, and the day of today.
#[derive(Debug, Clone, Copy)]
pub struct Acceptance<'a> {
    /// Which, why, and until when.
    pub accepted: &'a BTreeMap<String, AcceptedAdvisory>,
    /// Today.
    pub today: Date,
}

impl Acceptance<'_> {
    /// Who accepts an advisory today.
    pub(crate) fn of(&self, affected: &Affected) -> Option<&AcceptedAdvisory> {
        let mut names = std::iter::once(&affected.id).chain(&affected.aliases);
        names.find_map(|name| self.accepted.get(name)).filter(|accepted| self.today <= accepted.until)
    }
}
