//! Rules of what is packed.

use crate::check::{Found, Subject, doubt};
use model::{Place, Result};
use source::Unexpected;

pub(super) fn unexpected(subject: &Subject<'_>) -> Result<Vec<Found>> {
    // Large files and archives can be what an app is about; these two hardly ever are.
    let sure = |what: Unexpected| matches!(what, Unexpected::Database | Unexpected::Packages);
    let notable = subject.survey.notable.iter().filter(|n| sure(n.what));
    Ok(notable
        .map(|n| {
            let what = format!("it goes into the image: {}", n.what.told());
            let advice = format!("in shtetl.toml, under [source]: exclude = [{:?}]", n.path);
            doubt(Place::new(n.path.as_str(), None), what, advice)
        })
        .collect())
}
