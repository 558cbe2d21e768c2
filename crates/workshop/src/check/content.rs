//! Rules of what is packed.

use crate::check::{Found, Subject, error, warning};
use content::layer::is_whiteout;
use model::{Place, Result};
use source::Unexpected;

/// Names that hide files of the layers below.
pub(super) fn whiteouts(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let files = subject.tree.files().keys().filter(|path| is_whiteout(path));
    let found = files.map(|path| {
        let what = "container runtimes would take the name as an instruction to hide files of lower layers";
        let advice = format!("rename it, or in shtetl.toml, under [source]: exclude = [{path:?}]");
        error(Place::new(path.as_str(), None), what, advice)
    });
    Ok(found.collect())
}

pub(super) fn unexpected(subject: &Subject<'_>) -> Result<Vec<Found>> {
    // Large files and archives can be what an app is about; these two hardly ever are.
    let sure = |what: Unexpected| matches!(what, Unexpected::Database | Unexpected::Packages);
    let notable = subject.survey.notable.iter().filter(|n| sure(n.what));
    Ok(notable
        .map(|n| {
            let what = format!("packed into the image: {}", n.what.told());
            let advice = format!("in shtetl.toml, under [source]: exclude = [{:?}]", n.path);
            warning(Place::new(n.path.as_str(), None), what, advice)
        })
        .collect())
}
