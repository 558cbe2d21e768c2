//! Where a shared store is.

use remote::oci::Reference;
use std::str::FromStr;

/// Where a shared store is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// `oci:HOST/NAME`: a name in a registry of images.
    Registry(Reference),
    /// `s3:URL/BUCKET[/BEGINNING]`: a bucket of object storage.
    Bucket {
        /// The server, as in `https://objects.example`.
        server: String,
        /// Its bucket.
        bucket: String,
        /// What the names of objects begin with: nothing, or a path that ends with a slash.
        beginning: String,
    },
}

/// A text that says no place.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not the address of a shared store")]
pub struct BadPlace(pub String);

/// Who comes in at object storage.
#[derive(Clone)]
pub struct BucketKey {
    /// The public name of the key.
    pub id: String,
    /// The secret itself.
    pub secret: String,
    /// The region that the server believes to be in.
    pub region: String,
}

impl FromStr for Place {
    type Err = BadPlace;

    fn from_str(text: &str) -> Result<Self, BadPlace> {
        let bad = || BadPlace(text.to_owned());
        if let Some(reference) = text.strip_prefix("oci:") {
            return Reference::parse(reference).map(Self::Registry).map_err(|_| bad());
        }
        let url = text.strip_prefix("s3:").ok_or_else(bad)?;
        let (scheme, rest) = url.split_once("://").ok_or_else(bad)?;
        let mut parts = rest.trim_end_matches('/').splitn(3, '/');
        let (host, bucket) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
        let is_plain = |text: &str| !text.is_empty() && !text.contains(['@', '?', '#', ' ']);
        if !matches!(scheme, "http" | "https") || !is_plain(host) || !is_plain(bucket) {
            return Err(bad());
        }
        let beginning = parts.next().map(|path| format!("{path}/")).unwrap_or_default();
        Ok(Self::Bucket { server: format!("{scheme}://{host}"), bucket: bucket.to_owned(), beginning })
    }
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Registry(reference) => write!(f, "oci:{}/{}", reference.host, reference.repository),
            Self::Bucket { server, bucket, beginning } => {
                write!(f, "s3:{server}/{bucket}/{}", beginning.trim_end_matches('/'))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_read_and_what_is_none_is_refused() {
        let bucket = |server: &str, bucket: &str, beginning: &str| Place::Bucket {
            server: server.to_owned(),
            bucket: bucket.to_owned(),
            beginning: beginning.to_owned(),
        };
        assert_eq!(
            "s3:https://objects.example/steps".parse(),
            Ok(bucket("https://objects.example", "steps", ""))
        );
        let deeper = "s3:http://127.0.0.1:9000/a/b/c/".parse();
        assert_eq!(deeper, Ok(bucket("http://127.0.0.1:9000", "a", "b/c/")));
        assert!(matches!("oci:registry.example/steps".parse(), Ok(Place::Registry(_))));
        for text in [
            "registry.example/steps",
            "s3:objects.example/a",
            "s3:https://u@h/b",
            "s3:https://host",
            "oci:steps",
        ] {
            assert_eq!(text.parse::<Place>(), Err(BadPlace(text.to_owned())));
        }
    }
}
