//! What is behind a path: pinned, recorded, or nothing.

use crate::allowance::Allowance;
use crate::url;
use content::BlobDigest;
use content::digest::Hasher;
use content::store::{Store, TemporaryFile};
use model::Ecosystem;
use model::fetched::{FetchedAnswer, FetchedSet};
use remote::{Address, Fetcher, RemoteError};
use ring::digest::{Context, SHA1_FOR_LEGACY_USE_ONLY};
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read, Write};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};

/// The largest document that is looked through for addresses, in bytes.
const LARGEST_DOCUMENT: u64 = 256 << 20;

/// Where the files of a kind come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Source {
    /// The kind, the first part of the paths that are asked for.
    pub kind: String,
    /// The address.
    pub address: Address,
}

/// What went wrong while a program fetched something.
#[derive(Debug)]
pub enum Trouble {
    /// It asked for something that is not pinned: the kind and the path.
    NotPinned(String),
    /// It requested something that may not be downloaded.
    Refused(String),
    /// It asked for a path of this kind, and nothing says where that kind comes from.
    NoAddress(String),
    /// Something could not be fetched.
    Failed(RemoteError),
    /// It fetched more bytes than a step may.
    TooMuch,
}

/// What one path leads to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Answer {
    /// A blob of the store.
    There { digest: BlobDigest, size: u64, sha1: String },
    /// Nothing, according to its source.
    NotThere,
    /// Nothing that may be given; the status says why.
    Withheld(u16),
}

/// Answers for one step.
pub struct Gateway<'g> {
    fetcher: &'g Fetcher,
    store: &'g Store,
    sources: Vec<Source>,
    /// By kind and path.
    pinned: BTreeMap<String, FetchedAnswer>,
    /// Whether what is not pinned is fetched, and recorded.
    records: bool,
    /// How many more bytes may be fetched.
    allowance: Allowance,
    given: Mutex<BTreeMap<String, Arc<OnceLock<Answer>>>>,
    troubles: Mutex<Vec<Trouble>>,
}

impl<'g> Gateway<'g> {
    /// Gives what is pinned; what is not, only when it `records`. Of files whose length nobody pinned, it fetches at `most`
    /// so many bytes together.
    pub fn new(
        fetcher: &'g Fetcher,
        store: &'g Store,
        sources: Vec<Source>,
        pinned: &[FetchedAnswer],
        records: bool,
        most: Option<u64>,
    ) -> Self {
        let by_path = |answer: &FetchedAnswer| (name_of(&answer.from, &answer.path), answer.clone());
        let pinned = pinned.iter().map(by_path).collect();
        let allowance = Allowance::new(most.unwrap_or(u64::MAX));
        let (given, troubles) = (Mutex::default(), Mutex::default());
        Self { fetcher, store, sources, pinned, records, allowance, given, troubles }
    }

    /// What was given since, to be pinned for what was `asked`.
    pub fn recorded(&self, asked: &str) -> FetchedSet {
        let of = |(name, answer): (&String, &Arc<OnceLock<Answer>>)| {
            let (from, path) = name.split_once('/')?;
            let (size, sha256) = match answer.get()? {
                Answer::There { digest, size, .. } => (*size, Some(digest.hex())),
                Answer::NotThere => (0, None),
                Answer::Withheld(_) => return None,
            };
            Some(FetchedAnswer { from: from.to_owned(), path: path.to_owned(), size, sha256 })
        };
        let answers = self.given().iter().filter_map(of).collect();
        FetchedSet { asked: asked.to_owned(), answers }
    }

    /// Kinds and paths that nothing was behind.
    pub fn not_there(&self) -> Vec<String> {
        let given = self.given();
        let is_gone = given.iter().filter(|(_, answer)| answer.get() == Some(&Answer::NotThere));
        is_gone.map(|(name, _)| name.clone()).collect()
    }

    /// What went wrong since.
    pub fn take_troubles(&self) -> Vec<Trouble> {
        std::mem::take(&mut *self.troubles.lock().unwrap_or_else(PoisonError::into_inner))
    }

    pub(crate) fn note(&self, trouble: Trouble) {
        self.troubles.lock().unwrap_or_else(PoisonError::into_inner).push(trouble);
    }

    fn given(&self) -> MutexGuard<'_, BTreeMap<String, Arc<OnceLock<Answer>>>> {
        self.given.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The content of a path; concurrent requests for the same path wait for one answer.
    pub(crate) fn answer(&self, kind: &str, path: &str) -> Answer {
        let place = Arc::clone(self.given().entry(name_of(kind, path)).or_default());
        place.get_or_init(|| self.find(kind, path)).clone()
    }

    fn find(&self, kind: &str, path: &str) -> Answer {
        let name = name_of(kind, path);
        let pinned = self.pinned.get(&name);
        if pinned.is_some_and(|pinned| pinned.sha256.is_none()) {
            return Answer::NotThere;
        }
        if pinned.is_none() && !self.records {
            self.note(Trouble::NotPinned(name));
            return Answer::Withheld(404);
        }
        let Some(source) = self.sources.iter().find(|source| source.kind == kind) else {
            self.note(Trouble::NoAddress(kind.to_owned()));
            return Answer::Withheld(403);
        };
        let got = match pinned {
            Some(pinned) => provide(pinned, &source.address, self.fetcher, self.store),
            None => fetch(&source.address.join(path), self.fetcher, self.store, &self.allowance),
        };
        let summed = got.and_then(|(digest, size)| {
            let sha1 = sha1_of(&mut self.open(digest).map_err(|e| at_store(self.store, e))?);
            Ok(Answer::There { digest, size, sha1: sha1.map_err(|e| at_store(self.store, e))? })
        });
        match summed {
            Ok(answer) => answer,
            Err(RemoteError::NotFound { .. }) if pinned.is_none() => Answer::NotThere,
            Err(_) if self.allowance.is_used_up() => {
                self.note(Trouble::TooMuch);
                Answer::Withheld(502)
            }
            Err(error) => {
                self.note(Trouble::Failed(error));
                Answer::Withheld(502)
            }
        }
    }

    /// A document of npm's registry with the addresses of archives led through the gateway, as they would be through any
    /// mirror; nothing for other files. What is recorded is the document as it came.
    pub(crate) fn led_through(&self, kind: &str, digest: BlobDigest, size: u64) -> Option<Vec<u8>> {
        if kind != Ecosystem::NPM.name() || size > LARGEST_DOCUMENT {
            return None;
        }
        let source = self.sources.iter().find(|source| source.kind == kind)?;
        let mut text = String::new();
        self.open(digest).ok()?.read_to_string(&mut text).ok()?;
        let own = format!("{}/", source.address.to_string().trim_end_matches('/'));
        text.starts_with('{').then(|| text.replace(&own, &url(kind)).into_bytes())
    }

    pub(crate) fn open(&self, digest: BlobDigest) -> io::Result<File> {
        File::open(self.store.blob_path(digest))
    }
}

/// Makes sure that the store has what is pinned, which is below `address`; gives its digest and size.
pub fn provide(
    pinned: &FetchedAnswer,
    address: &Address,
    fetcher: &Fetcher,
    store: &Store,
) -> Result<(BlobDigest, u64), RemoteError> {
    let hex = pinned.sha256.clone().unwrap_or_default();
    let from = || address.join(&pinned.path).to_string();
    let malformed =
        |_| RemoteError::Malformed { url: from(), detail: format!("{hex:?} is pinned as its hash") };
    let expected: BlobDigest = format!("sha256:{hex}").parse().map_err(malformed)?;
    if store.has_verified(expected, pinned.size) {
        return Ok((expected, pinned.size));
    }
    let other =
        |found| RemoteError::Integrity { url: from(), algorithm: "sha256", expected: hex.clone(), found };
    let allowance = Allowance::new(pinned.size);
    match fetch(&address.join(&pinned.path), fetcher, store, &allowance) {
        Ok((found, size)) if found == expected => Ok((found, size)),
        Ok((found, _)) => Err(other(found.hex())),
        Err(_) if allowance.is_used_up() => Err(other("that of a longer file".to_owned())),
        Err(error) => Err(error),
    }
}

/// Puts what is at an address into the store, as far as the allowance goes.
fn fetch(
    address: &Address,
    fetcher: &Fetcher,
    store: &Store,
    allowance: &Allowance,
) -> Result<(BlobDigest, u64), RemoteError> {
    let open = || {
        let file = store.temporary_file().map_err(|error| io::Error::other(error.to_string()))?;
        Ok(allowance.counting(file))
    };
    let mut file = fetcher.get_into(address, open)?.finish();
    let read = |file: &mut TemporaryFile| Hasher::of_reader(&mut file.reader()?);
    let (digest, size) = read(&mut file).map_err(|error| at_store(store, error))?;
    let digest = BlobDigest(digest);
    let published = store.publish_blob(file, digest);
    published.map_err(|error| at_store(store, io::Error::other(error.to_string())))?;
    Ok((digest, size))
}

fn at_store(store: &Store, source: io::Error) -> RemoteError {
    RemoteError::Io { path: store.root().to_owned(), source }
}

fn name_of(kind: &str, path: &str) -> String {
    format!("{kind}/{path}")
}

/// Hexadecimal SHA-1, which Maven compares.
fn sha1_of(from: &mut impl Read) -> io::Result<String> {
    struct Summing(Context);
    impl Write for Summing {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            self.0.update(bytes);
            Ok(bytes.len())
        }
        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }
    let mut sum = Summing(Context::new(&SHA1_FOR_LEGACY_USE_ONLY));
    io::copy(from, &mut sum)?;
    Ok(sum.0.finish().as_ref().iter().map(|byte| format!("{byte:02x}")).collect())
}
