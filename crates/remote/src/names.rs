//! Addresses of servers by their names: each name is looked up once for all connections.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use ureq::config::Config;
use ureq::http::Uri;
use ureq::unversioned::resolver::{DefaultResolver, ResolvedSocketAddrs, Resolver};
use ureq::unversioned::transport::NextTimeout;

/// How long an answer is used.
const LASTS: Duration = Duration::from_secs(60);

/// An answer with the moment of it; locked during the request, so that concurrent callers wait.
type Entry = Arc<Mutex<Option<(Instant, Vec<std::net::SocketAddr>)>>>;

/// Looks names up. Many questions for the same name at the same moment are more than some name servers answer: they
/// drop some, which are then asked again only after seconds.
#[derive(Debug, Default)]
pub(crate) struct Names<R = DefaultResolver> {
    resolver: R,
    known: Mutex<BTreeMap<String, Entry>>,
}

impl<R: Resolver> Resolver for Names<R> {
    fn resolve(
        &self,
        uri: &Uri,
        config: &Config,
        timeout: NextTimeout,
    ) -> Result<ResolvedSocketAddrs, ureq::Error> {
        let server = format!("{:?} {:?}", uri.scheme_str(), uri.authority());
        let entry = {
            let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
            Arc::clone(known.entry(server).or_default())
        };
        let mut entry = entry.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, addresses)) = entry.as_ref().filter(|(since, _)| since.elapsed() < LASTS) {
            let mut found = self.empty();
            addresses.iter().for_each(|address| found.push(*address));
            return Ok(found);
        }
        let found = self.resolver.resolve(uri, config, timeout)?;
        *entry = Some((Instant::now(), found.to_vec()));
        Ok(found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicUsize, Ordering};

    #[derive(Debug, Default)]
    struct Counting(AtomicUsize);

    impl Resolver for Counting {
        fn resolve(&self, _: &Uri, _: &Config, _: NextTimeout) -> Result<ResolvedSocketAddrs, ureq::Error> {
            std::thread::sleep(Duration::from_millis(20));
            if self.0.fetch_add(1, Ordering::SeqCst) == 0 {
                return Err(ureq::Error::HostNotFound);
            }
            let mut found = self.empty();
            found.push(([127, 0, 0, 1], 80).into());
            Ok(found)
        }
    }

    #[test]
    fn a_name_is_looked_up_once_and_a_failure_is_not_kept() {
        let names = Names::<Counting>::default();
        let uri: Uri = "http://packages.example/a".parse().unwrap();
        let ask =
            || names.resolve(&uri, &Config::default(), NextTimeout::default()).map(|found| found.to_vec());
        assert!(ask().is_err());
        std::thread::scope(|scope| (0..8).for_each(|_| drop(scope.spawn(|| ask().unwrap()))));
        assert_eq!(names.resolver.0.load(Ordering::SeqCst), 2);
    }
}
