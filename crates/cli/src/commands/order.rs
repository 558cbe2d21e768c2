//! How apps are built from here, for every command that plans a build.

use crate::surroundings::Surroundings;
use planning::Pinning;
use remote::Fetcher;
use std::time::Instant;
use workshop::app::{BuildRequest, codec_named};

/// How to build with these options.
pub fn order<'a>(
    tag: &'a str,
    compress: &str,
    surroundings: &'a Surroundings,
    fetcher: &'a Fetcher,
) -> BuildRequest<'a> {
    BuildRequest {
        tag,
        platform: &surroundings.platform,
        codec: codec_named(compress).unwrap_or_default(),
        created: &surroundings.created,
        host: &surroundings.host,
        book: &surroundings.book,
        credentials: &surroundings.credentials,
        fetcher,
        seen: &surroundings.seen,
        pinning: Pinning::Keep,
        now: Surroundings::now(),
        started: Instant::now(),
    }
}
