//! Demands of the house that only a finished image shows: licences of its packages, and its size.

use crate::app::App;
use crate::check::day_of;
use crate::record::Record;
use config::{HouseLimits, UNDECLARED};
use model::error::{BrokenDemand, ConfigError};
use model::licence::is_allowed;
use model::{Error, Result};

/// Refuses an image that breaks demands of the house.
pub(crate) fn check(app: &App, record: &Record) -> Result<()> {
    let broken = broken(&app.config.limits, record, app);
    if broken.is_empty() {
        return Ok(());
    }
    let key = match broken[0] {
        BrokenDemand::Licence { .. } => "allow.licences",
        BrokenDemand::Size { .. } => "allow.image-size",
    };
    let by = app.origins.get(key).map_or_else(String::new, |origin| origin.place.to_string());
    Err(Error::Config(ConfigError::HouseDemands { app: app.survey.name.clone(), broken, by }))
}

fn broken(limits: &HouseLimits, record: &Record, app: &App) -> Vec<BrokenDemand> {
    let holds = |rule: &str| limits.holds(rule, &app.survey.name, day_of(app.now));
    let mut broken = Vec::new();
    if !limits.licences.is_empty() && holds("house-licence") {
        for package in &record.packages {
            let is_fine = match package.licence.as_deref().filter(|licence| !licence.is_empty()) {
                None => limits.licences.iter().any(|allowed| allowed == UNDECLARED),
                Some(licence) => is_allowed(licence, &limits.licences),
            };
            if !is_fine {
                broken.push(BrokenDemand::Licence {
                    package: package.name.clone(),
                    version: package.version.clone(),
                    licence: package.licence.clone(),
                });
            }
        }
    }
    let size: u64 = record.layers.iter().map(|layer| layer.size).sum();
    if let Some(most) = limits.largest_image.filter(|most| size > *most && holds("house-size")) {
        broken.push(BrokenDemand::Size { bytes: size, most });
    }
    broken
}
