//! Fetching results and offering own ones, within limits.

use crate::bucket::Bucket;
use crate::place::{BucketKey, Place};
use crate::registry::RegistryName;
use crate::result::{LONGEST, Refused, read, sign};
use content::digest::HashingWriter;
use content::store::Store;
use content::{BlobDigest, StepKey};
use engine::{Produced, SharedResults};
use evidence::{PrivateKey, PublicKey};
use remote::oci::CredentialFiles;
use remote::{Fetcher, RemoteError};
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{self, JoinHandle};

/// The number of consecutive failures after which it is not used any more.
const MOST_FAILURES: u32 = 3;
/// How many results are sent at once.
const SENDERS: usize = 3;

/// What is known of a shared store.
struct Inner {
    place: Place,
    bucket_key: Option<BucketKey>,
    fetcher: Fetcher,
    credentials: Arc<CredentialFiles>,
    store: Arc<Store>,
    trusted: Vec<PublicKey>,
    signer: Option<PrivateKey>,
    counts: Counts,
    troubles: Mutex<Vec<Trouble>>,
}

#[derive(Default)]
struct Counts {
    /// Failures since the last success.
    failures: AtomicU32,
    hits: AtomicU64,
    misses: AtomicU64,
    refused: AtomicU64,
    sent: AtomicU64,
    bytes_received: AtomicU64,
    bytes_sent: AtomicU64,
    saved: AtomicU64,
}

/// What a shared store brought.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
pub struct Statistics {
    /// Results that were there.
    pub hits: u64,
    /// Results that were not.
    pub misses: u64,
    /// Results that were there and not used: damaged, or not signed with a trusted key.
    pub refused: u64,
    /// Results that were sent there.
    pub sent: u64,
    /// Bytes of layers that came from there.
    pub bytes_received: u64,
    /// Bytes of layers that were sent there.
    pub bytes_sent: u64,
    /// How long the steps took where they ran whose results came from there, in milliseconds.
    pub milliseconds_saved: u64,
}

/// What was wrong with a shared store; the build goes on without it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Trouble {
    /// A request failed.
    Failed {
        /// The server's or the connection's message.
        detail: String,
    },
    /// After some failures in a row it is not asked any more.
    GivenUp {
        /// What failed last.
        detail: String,
    },
    /// A result is not used.
    Refused {
        /// The key of its step.
        key: StepKey,
        /// Whether its signature is not trusted; otherwise it is damaged.
        by_signature: bool,
    },
}

/// A shared store that a process uses.
pub struct SharedStore {
    inner: Arc<Inner>,
    jobs: Mutex<Option<Sender<Offer>>>,
    senders: Mutex<Vec<JoinHandle<()>>>,
}

/// A result that is to be sent.
struct Offer {
    key: StepKey,
    produced: Produced,
    milliseconds: u64,
}

impl SharedStore {
    /// A shared store at a place. Results count that one of the `trusted` keys signed; with a `signer`, own results are sent.
    /// The fetcher should have a short limit for silence.
    pub fn new(
        (place, bucket_key): (Place, Option<BucketKey>),
        (fetcher, credentials): (Fetcher, Arc<CredentialFiles>),
        store: Arc<Store>,
        (mut trusted, signer): (Vec<PublicKey>, Option<PrivateKey>),
    ) -> Self {
        trusted.extend(signer.as_ref().map(PrivateKey::public));
        let (counts, troubles) = (Counts::default(), Mutex::default());
        let inner =
            Inner { place, bucket_key, fetcher, credentials, store, trusted, signer, counts, troubles };
        let inner = Arc::new(inner);
        let (mut jobs, mut senders) = (None, Vec::new());
        if inner.signer.is_some() {
            let (sender, offers) = channel();
            let offers = Arc::new(Mutex::new(offers));
            for _ in 0..SENDERS {
                let (inner, offers) = (Arc::clone(&inner), Arc::clone(&offers));
                senders.push(thread::spawn(move || inner.send_all(&offers)));
            }
            jobs = Some(sender);
        }
        Self { inner, jobs: Mutex::new(jobs), senders: Mutex::new(senders) }
    }

    /// Waits until everything is sent that was offered. What is offered after that is not sent.
    pub fn finish(&self) {
        drop(self.jobs.lock().unwrap_or_else(PoisonError::into_inner).take());
        for sender in self.senders.lock().unwrap_or_else(PoisonError::into_inner).drain(..) {
            // One that panicked has ended, too.
            let _ = sender.join();
        }
    }

    /// What it brought so far.
    pub fn statistics(&self) -> Statistics {
        let Counts { hits, misses, refused, sent, bytes_received, bytes_sent, saved, .. } =
            &self.inner.counts;
        let get = |count: &AtomicU64| count.load(Ordering::Relaxed);
        Statistics {
            hits: get(hits),
            misses: get(misses),
            refused: get(refused),
            sent: get(sent),
            bytes_received: get(bytes_received),
            bytes_sent: get(bytes_sent),
            milliseconds_saved: get(saved),
        }
    }

    /// What was wrong with it.
    pub fn troubles(&self) -> Vec<Trouble> {
        self.inner.troubles.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl Drop for SharedStore {
    fn drop(&mut self) {
        self.finish();
    }
}

impl SharedResults for SharedStore {
    fn fetch(&self, key: StepKey, store: &Store) -> Option<(Produced, u64)> {
        let Inner { counts, .. } = &*self.inner;
        if self.inner.is_given_up() {
            return None;
        }
        let document = self.inner.watched(self.inner.document(key))?;
        let Some(document) = document else {
            counts.misses.fetch_add(1, Ordering::Relaxed);
            return None;
        };
        let (produced, milliseconds) = match read(&document, key, &self.inner.trusted) {
            Ok(read) => read,
            Err(refused) => {
                self.inner.refuse(key, refused == Refused::Signature);
                return None;
            }
        };
        let layer = &produced.layer;
        if !store.has_verified(layer.digest, layer.size) {
            match self.inner.watched(self.inner.blob(key, &produced, store))? {
                true => counts.bytes_received.fetch_add(layer.size, Ordering::Relaxed),
                false => {
                    self.inner.refuse(key, false);
                    return None;
                }
            };
        }
        counts.hits.fetch_add(1, Ordering::Relaxed);
        counts.saved.fetch_add(milliseconds, Ordering::Relaxed);
        Some((produced, milliseconds))
    }

    fn offer(&self, key: StepKey, produced: &Produced, milliseconds: u64) {
        let jobs = self.jobs.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(jobs) = &*jobs {
            // The senders live as long as this does.
            let _ = jobs.send(Offer { key, produced: produced.clone(), milliseconds });
        }
    }
}

impl Inner {
    fn bucket<'b>(&'b self, (server, bucket, beginning): (&'b str, &'b str, &'b str)) -> Bucket<'b> {
        Bucket { server, bucket, beginning, key: self.bucket_key.as_ref(), fetcher: &self.fetcher }
    }

    fn registry<'r>(&'r self, reference: &'r remote::oci::Reference) -> RegistryName<'r> {
        RegistryName { reference, fetcher: &self.fetcher, credentials: &self.credentials }
    }

    fn document(&self, key: StepKey) -> Result<Option<Vec<u8>>, RemoteError> {
        match &self.place {
            Place::Registry(reference) => self.registry(reference).get(key),
            Place::Bucket { server, bucket, beginning } => {
                self.bucket((server, bucket, beginning)).get(&result_name(key), LONGEST)
            }
        }
    }

    /// Gets the layer of a result into the store; says whether it is what the result says.
    fn blob(&self, key: StepKey, produced: &Produced, store: &Store) -> Result<bool, RemoteError> {
        let in_store = |error: content::ContentError| RemoteError::Io {
            path: store.root().to_owned(),
            source: std::io::Error::other(error),
        };
        let layer = &produced.layer;
        let mut hashed = HashingWriter::new(store.temporary_file().map_err(in_store)?);
        let is_there = match &self.place {
            Place::Registry(reference) => match self.registry(reference).get_blob(key, produced, &mut hashed)
            {
                Ok(()) => true,
                Err(
                    RemoteError::NotFound { .. }
                    | RemoteError::Integrity { .. }
                    | RemoteError::Malformed { .. },
                ) => false,
                Err(error) => return Err(error),
            },
            Place::Bucket { server, bucket, beginning } => {
                let bucket = self.bucket((server, bucket, beginning));
                bucket.get_into(&blob_name(layer.digest), &mut hashed)?.is_some()
            }
        };
        let size = hashed.written();
        let (file, found) = hashed.finish();
        if !is_there || size != layer.size || BlobDigest(found) != layer.digest {
            return Ok(false);
        }
        store.publish_blob(file, layer.digest).map_err(in_store)?;
        Ok(true)
    }

    fn send_all(&self, offers: &Mutex<Receiver<Offer>>) {
        loop {
            let next = offers.lock().unwrap_or_else(PoisonError::into_inner).recv();
            let Ok(offer) = next else { return };
            if !self.is_given_up() {
                // A blob that another sender is still sending may be missing to the first try. What goes wrong twice is among
                // the troubles.
                let _ = self.watched(self.send(&offer).or_else(|_| self.send(&offer)));
            }
        }
    }

    fn send(&self, offer: &Offer) -> Result<(), RemoteError> {
        let (Offer { key, produced, milliseconds }, Some(signer)) = (offer, &self.signer) else {
            return Ok(());
        };
        let document = sign(*key, produced, *milliseconds, signer);
        let layer = &produced.layer;
        match &self.place {
            Place::Registry(reference) => {
                let registry = self.registry(reference);
                if registry.has(*key)? {
                    return Ok(());
                }
                registry.put(*key, produced, &document, &self.store)?;
            }
            Place::Bucket { server, bucket, beginning } => {
                let bucket = self.bucket((server, bucket, beginning));
                let blob = blob_name(layer.digest);
                if !bucket.has(&blob)? {
                    bucket.put_blob(&blob, &self.store, layer.digest, layer.size)?;
                }
                // Whoever finds the document finds the layer.
                bucket.put(&result_name(*key), &document)?;
            }
        }
        self.counts.sent.fetch_add(1, Ordering::Relaxed);
        self.counts.bytes_sent.fetch_add(layer.size, Ordering::Relaxed);
        Ok(())
    }

    fn is_given_up(&self) -> bool {
        self.counts.failures.load(Ordering::Relaxed) >= MOST_FAILURES
    }

    /// What a request gave; what failed is noted, and counts towards giving up.
    fn watched<T>(&self, result: Result<T, RemoteError>) -> Option<T> {
        match result {
            Ok(given) => {
                if !self.is_given_up() {
                    self.counts.failures.store(0, Ordering::Relaxed);
                }
                Some(given)
            }
            Err(error) => {
                let failures = self.counts.failures.fetch_add(1, Ordering::Relaxed) + 1;
                let detail = error.to_string();
                let trouble = match failures {
                    0..MOST_FAILURES => Trouble::Failed { detail },
                    MOST_FAILURES => Trouble::GivenUp { detail },
                    // Those were under way when it was given up.
                    _ => return None,
                };
                self.troubles.lock().unwrap_or_else(PoisonError::into_inner).push(trouble);
                None
            }
        }
    }

    fn refuse(&self, key: StepKey, by_signature: bool) {
        self.counts.refused.fetch_add(1, Ordering::Relaxed);
        let trouble = Trouble::Refused { key, by_signature };
        self.troubles.lock().unwrap_or_else(PoisonError::into_inner).push(trouble);
    }
}

/// The object with the signed document of a step.
fn result_name(key: StepKey) -> String {
    format!("steps/{}.json", key.hex())
}

/// The object with a layer.
fn blob_name(digest: BlobDigest) -> String {
    format!("blobs/{}", digest.hex())
}

#[cfg(test)]
mod tests;
