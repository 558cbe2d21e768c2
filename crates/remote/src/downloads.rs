use crate::Fetcher;
use content::store::Store;

/// What a download needs: who fetches it, and where it is kept.
#[derive(Clone, Copy)]
pub struct Downloads<'a> {
    /// Fetches it.
    pub fetcher: &'a Fetcher,
    /// Keeps it.
    pub store: &'a Store,
}
