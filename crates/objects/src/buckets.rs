//! Buckets in a folder: the bytes of each object are a file, what is known of it is another beside it.

use content::digest::{HashingWriter, Sha256};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

/// What is known of an object besides its bytes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Facts {
    pub key: String,
    pub size: u64,
    /// The SHA-256 of its bytes; it serves as entity tag (RFC 9110, 8.8.3).
    pub sha256: String,
    /// In seconds since 1970.
    pub changed: i64,
    /// Headers that are given back with it.
    pub headers: BTreeMap<String, String>,
}

/// Objects by key, in the order of their bytes.
pub(crate) type Listing = BTreeMap<String, Facts>;

/// All buckets. What it knows of objects is in memory, and read from the folder when it is opened.
pub(crate) struct Buckets {
    folder: PathBuf,
    all: Mutex<BTreeMap<String, Listing>>,
    next: AtomicU64,
}

impl Buckets {
    /// Opens the folder, and makes it when it is not there. What was cut off while it was written is removed.
    pub fn open(folder: &Path) -> io::Result<Self> {
        for name in ["buckets", "incoming", "uploads"] {
            fs::create_dir_all(folder.join(name))?;
        }
        for left in fs::read_dir(folder.join("incoming"))? {
            fs::remove_file(left?.path())?;
        }
        let mut all = BTreeMap::new();
        for bucket in fs::read_dir(folder.join("buckets"))? {
            let bucket = bucket?.path();
            let mut objects = Listing::new();
            for file in fs::read_dir(&bucket)? {
                let path = file?.path();
                if path.extension().is_some_and(|extension| extension == "json") {
                    let facts: Facts = serde_json::from_slice(&fs::read(&path)?)?;
                    objects.insert(facts.key.clone(), facts);
                }
            }
            all.insert(bucket.file_name().unwrap_or_default().to_string_lossy().into_owned(), objects);
        }
        Ok(Self { folder: folder.to_owned(), all: Mutex::new(all), next: AtomicU64::new(0) })
    }

    fn all(&self) -> MutexGuard<'_, BTreeMap<String, Listing>> {
        self.all.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The names of all buckets.
    pub fn names(&self) -> Vec<String> {
        self.all().keys().cloned().collect()
    }

    /// Whether there is such a bucket.
    pub fn has(&self, bucket: &str) -> bool {
        self.all().contains_key(bucket)
    }

    /// Makes a bucket; one that is there stays as it is.
    pub fn make(&self, bucket: &str) -> io::Result<()> {
        fs::create_dir_all(self.folder.join("buckets").join(bucket))?;
        self.all().entry(bucket.to_owned()).or_default();
        Ok(())
    }

    /// Removes a bucket; says whether it was empty, and otherwise leaves it.
    pub fn remove_bucket(&self, bucket: &str) -> io::Result<bool> {
        let mut all = self.all();
        if all.get(bucket).is_some_and(|objects| !objects.is_empty()) {
            return Ok(false);
        }
        if all.remove(bucket).is_some() {
            fs::remove_dir(self.folder.join("buckets").join(bucket))?;
        }
        Ok(true)
    }

    /// All objects of a bucket.
    pub fn listing(&self, bucket: &str) -> Option<Listing> {
        self.all().get(bucket).cloned()
    }

    /// An object.
    pub fn facts(&self, bucket: &str, key: &str) -> Option<Facts> {
        self.all().get(bucket)?.get(key).cloned()
    }

    /// Its bytes.
    pub fn open_object(&self, bucket: &str, key: &str) -> io::Result<File> {
        File::open(self.place(bucket, key))
    }

    fn place(&self, bucket: &str, key: &str) -> PathBuf {
        self.folder.join("buckets").join(bucket).join(Sha256::of(key.as_bytes()).hex())
    }

    /// Takes in bytes, which are nothing yet but a file; gives it with its size and digest.
    pub fn take_in(&self, bytes: &mut dyn Read) -> io::Result<(PathBuf, u64, String)> {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        let path = self.folder.join("incoming").join(number.to_string());
        let mut to = HashingWriter::new(File::create(&path)?);
        let copied = io::copy(bytes, &mut to);
        let size = to.written();
        let (_, digest) = to.finish();
        match copied {
            Ok(_) => Ok((path, size, digest.hex())),
            Err(error) => {
                fs::remove_file(&path)?;
                Err(error)
            }
        }
    }

    /// Makes an object of a file that was taken in; `only_new` leaves one that is there, and says so.
    pub fn put(&self, bucket: &str, file: &Path, facts: Facts, only_new: bool) -> io::Result<bool> {
        let place = self.place(bucket, &facts.key);
        let mut all = self.all();
        let objects = all.entry(bucket.to_owned()).or_default();
        if only_new && objects.contains_key(&facts.key) {
            fs::remove_file(file)?;
            return Ok(false);
        }
        let beside = file.with_extension("json");
        fs::write(&beside, serde_json::to_vec(&facts)?)?;
        fs::rename(file, &place)?;
        fs::rename(&beside, place.with_extension("json"))?;
        objects.insert(facts.key.clone(), facts);
        Ok(true)
    }

    /// Removes an object, if it is there.
    pub fn remove(&self, bucket: &str, key: &str) -> io::Result<()> {
        let mut all = self.all();
        let known = all.get_mut(bucket).and_then(|objects| objects.remove(key));
        if known.is_some() {
            let place = self.place(bucket, key);
            fs::remove_file(place.with_extension("json"))?;
            fs::remove_file(place)?;
        }
        Ok(())
    }

    /// Begins an upload in parts; gives its name.
    pub fn begin_upload(&self, headers: &BTreeMap<String, String>) -> io::Result<String> {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        let name = Sha256::of(format!("{number} {:?}", std::time::SystemTime::now()).as_bytes()).hex();
        let folder = self.upload(&name);
        fs::create_dir_all(&folder)?;
        fs::write(folder.join("headers.json"), serde_json::to_vec(headers)?)?;
        Ok(name)
    }

    /// The folder of an upload in parts.
    fn upload(&self, name: &str) -> PathBuf {
        let is_name = name.len() == 64 && name.bytes().all(|byte| byte.is_ascii_hexdigit());
        self.folder.join("uploads").join(if is_name { name } else { "none" })
    }

    /// Keeps a part of an upload; says whether there is such an upload.
    pub fn keep_part(&self, upload: &str, number: u32, file: &Path) -> io::Result<bool> {
        let folder = self.upload(upload);
        if !folder.is_dir() {
            fs::remove_file(file)?;
            return Ok(false);
        }
        fs::rename(file, folder.join(number.to_string())).map(|()| true)
    }

    /// Puts the parts of an upload together: a file as if it had been taken in, and the headers of the object.
    pub fn join_parts(
        &self,
        upload: &str,
        parts: &[u32],
    ) -> io::Result<(PathBuf, u64, String, BTreeMap<String, String>)> {
        let folder = self.upload(upload);
        let headers = serde_json::from_slice(&fs::read(folder.join("headers.json"))?)?;
        let mut all: Box<dyn Read> = Box::new(io::empty());
        for number in parts {
            all = Box::new(all.chain(File::open(folder.join(number.to_string()))?));
        }
        let (path, size, digest) = self.take_in(&mut *all)?;
        fs::remove_dir_all(&folder)?;
        Ok((path, size, digest, headers))
    }

    /// Drops an upload.
    pub fn drop_upload(&self, upload: &str) -> io::Result<()> {
        match fs::remove_dir_all(self.upload(upload)) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
            other => other,
        }
    }
}
