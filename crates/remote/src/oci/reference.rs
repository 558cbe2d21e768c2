//! Names of images in registries.

use content::BlobDigest;
use std::fmt;
use std::net::IpAddr;

/// An image in a registry: `[http://]HOST[:PORT]/NAME[:TAG][@DIGEST]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reference {
    /// The registry, with its port.
    pub host: String,
    /// Whether it is asked without encryption: on this machine, or where the reference says `http://`.
    pub plain: bool,
    /// The name in the registry.
    pub repository: String,
    /// Which image of that name.
    pub target: Target,
}

/// Which image of a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Target {
    /// The one that has this tag now.
    Tag(String),
    /// Exactly this one.
    Digest(BlobDigest),
}

/// Why a text names no image.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReferenceFault {
    /// It does not begin with a registry: none is assumed.
    NoRegistry,
    /// The name has signs that no name has.
    Name,
    /// The tag has signs that no tag has.
    Tag,
    /// The digest is no SHA-256 digest.
    Digest,
}

impl Reference {
    /// Reads a reference; without a tag, the tag is `latest`.
    pub fn parse(text: &str) -> Result<Self, ReferenceFault> {
        Self::with_tag(text, "latest")
    }

    /// Reads a reference; without a tag, this is it.
    pub fn with_tag(text: &str, tag: &str) -> Result<Self, ReferenceFault> {
        let (explicit, rest) = match text.strip_prefix("http://") {
            Some(rest) => (true, rest),
            None => (false, text.strip_prefix("https://").unwrap_or(text)),
        };
        let (host, rest) = rest.split_once('/').ok_or(ReferenceFault::NoRegistry)?;
        if !(host.contains(['.', ':']) || host == "localhost") || host.contains(['@', ' ']) {
            return Err(ReferenceFault::NoRegistry);
        }
        let (rest, digest) = match rest.split_once('@') {
            Some((rest, digest)) => (rest, Some(digest.parse().map_err(|_| ReferenceFault::Digest)?)),
            None => (rest, None),
        };
        let (repository, tag) = match rest.split_once(':') {
            Some((repository, tag)) => (repository, tag),
            None => (rest, tag),
        };
        if !is_repository(repository) {
            return Err(ReferenceFault::Name);
        }
        if !is_tag(tag) {
            return Err(ReferenceFault::Tag);
        }
        let target = digest.map_or_else(|| Target::Tag(tag.to_owned()), Target::Digest);
        let (host, repository) = (host.to_owned(), repository.to_owned());
        Ok(Self { plain: explicit || is_loopback(&host), host, repository, target })
    }

    /// The root of the registry's API for this name.
    pub(super) fn url(&self, rest: &str) -> String {
        let scheme = if self.plain { "http" } else { "https" };
        format!("{scheme}://{}/v2/{}/{rest}", self.host, self.repository)
    }
}

impl fmt::Display for Reference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let sign = if matches!(self.target, Target::Tag(_)) { ':' } else { '@' };
        write!(f, "{}/{}{sign}{}", self.host, self.repository, self.target)
    }
}

impl fmt::Display for Target {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Tag(tag) => f.write_str(tag),
            Self::Digest(digest) => write!(f, "{digest}"),
        }
    }
}

/// Whether traffic to this host cannot be observed by others.
pub(super) fn is_loopback(host: &str) -> bool {
    let name = match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|b| b.is_ascii_digit()) => name,
        _ => host,
    };
    let address = name.trim_start_matches('[').trim_end_matches(']').parse::<IpAddr>();
    name == "localhost" || address.is_ok_and(|address| address.is_loopback())
}

/// OCI distribution specification 1.1, "Pulling manifests": the form of a name.
fn is_repository(name: &str) -> bool {
    let component = |part: &str| {
        let edge = |c: Option<char>| c.is_some_and(|c| c.is_ascii_lowercase() || c.is_ascii_digit());
        let inside = part.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || "._-".contains(c));
        inside && edge(part.chars().next()) && edge(part.chars().last())
    };
    name.len() <= 255 && name.split('/').all(component)
}

fn is_tag(tag: &str) -> bool {
    let inside = |c: char| c.is_ascii_alphanumeric() || "._-".contains(c);
    tag.len() <= 128 && tag.chars().all(inside) && !tag.is_empty() && !tag.starts_with(['.', '-'])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn references_are_read_and_no_registry_is_assumed() {
        let read = |text: &str| Reference::parse(text).map(|r| format!("{r} {}", r.url("x")));
        let digest = BlobDigest::of(b"");
        for (text, expected) in [
            (
                "quay.example/ferry/base",
                "quay.example/ferry/base:latest https://quay.example/v2/ferry/base/x",
            ),
            ("quay.example:5000/base:1.2", "quay.example:5000/base:1.2 https://quay.example:5000/v2/base/x"),
            ("localhost/base:1", "localhost/base:1 http://localhost/v2/base/x"),
            ("127.0.0.1:5000/base:1", "127.0.0.1:5000/base:1 http://127.0.0.1:5000/v2/base/x"),
            ("http://quay.example/base:1", "quay.example/base:1 http://quay.example/v2/base/x"),
        ] {
            assert_eq!(read(text).as_deref(), Ok(expected));
        }
        let pinned = format!("quay.example/base:1@{digest}");
        assert_eq!(Reference::parse(&pinned).unwrap().target, Target::Digest(digest));
        for (text, fault) in [
            ("base", ReferenceFault::NoRegistry),
            ("ferry/base:1", ReferenceFault::NoRegistry),
            ("quay.example/Base", ReferenceFault::Name),
            ("quay.example/../base", ReferenceFault::Name),
            ("quay.example/base:-", ReferenceFault::Tag),
            ("quay.example/base@md5:1", ReferenceFault::Digest),
        ] {
            assert_eq!(Reference::parse(text), Err(fault), "{text}");
        }
    }
}
