//! Answers of the server, and their documents.

use crate::buckets::Facts;
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::fmt::Write;
use std::io::Read;

/// What a request is answered with.
pub(crate) struct Answer {
    pub status: u16,
    pub headers: Vec<(String, String)>,
    pub body: Box<dyn Read + Send>,
    pub length: u64,
}

impl Answer {
    /// An answer without a body.
    pub fn empty(status: u16) -> Self {
        Self { status, headers: Vec::new(), body: Box::new(std::io::empty()), length: 0 }
    }

    /// A document.
    pub fn document(status: u16, xml: &str) -> Self {
        let text = format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n{xml}");
        let length = text.len() as u64;
        let body = Box::new(std::io::Cursor::new(text.into_bytes()));
        Self {
            status,
            headers: vec![("content-type".to_owned(), "application/xml".to_owned())],
            body,
            length,
        }
    }

    /// An error, as clients of the S3 style expect it.
    pub fn error(status: u16, code: &str, message: &str) -> Self {
        let message = escaped(message);
        Self::document(status, &format!("<Error><Code>{code}</Code><Message>{message}</Message></Error>"))
    }

    pub fn with(mut self, name: &str, value: impl Into<String>) -> Self {
        self.headers.push((name.to_owned(), value.into()));
        self
    }
}

/// Text for a document.
pub(crate) fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// A time as documents have it.
pub(crate) fn time(seconds: i64) -> String {
    let time = Timestamp::from_second(seconds).unwrap_or(Timestamp::UNIX_EPOCH);
    time.strftime("%Y-%m-%dT%H:%M:%S.000Z").to_string()
}

/// A time as headers have it (RFC 9110, 5.6.7).
pub(crate) fn header_time(seconds: i64) -> String {
    let time = Timestamp::from_second(seconds).unwrap_or(Timestamp::UNIX_EPOCH);
    time.strftime("%a, %d %b %Y %H:%M:%S GMT").to_string()
}

/// A page of a listing: what is asked for by `prefix`, `delimiter`, `max-keys`, and where it goes on.
pub(crate) fn listing(
    bucket: &str,
    objects: &BTreeMap<String, Facts>,
    query: &BTreeMap<String, String>,
) -> String {
    let get = |name: &str| query.get(name).map_or("", String::as_str);
    let is_second = get("list-type") == "2";
    let (prefix, delimiter) = (get("prefix"), get("delimiter"));
    let after = if is_second { get("continuation-token").max(get("start-after")) } else { get("marker") };
    let most = get("max-keys").parse().unwrap_or(1000).min(1000);
    let (mut entries, mut count, mut last, mut is_cut) = (String::new(), 0, String::new(), false);
    for (key, facts) in objects.iter().filter(|(key, _)| key.starts_with(prefix)) {
        let common = (!delimiter.is_empty())
            .then(|| key[prefix.len()..].find(delimiter))
            .flatten()
            .map(|at| &key[..prefix.len() + at + delimiter.len()]);
        let name = common.unwrap_or(key);
        if name <= after || name == last {
            continue;
        }
        if count == most {
            is_cut = true;
            break;
        }
        count += 1;
        name.clone_into(&mut last);
        let shown = escaped(name);
        let _ = match common {
            Some(_) => write!(entries, "<CommonPrefixes><Prefix>{shown}</Prefix></CommonPrefixes>"),
            None => write!(
                entries,
                "<Contents><Key>{shown}</Key><LastModified>{}</LastModified><ETag>&quot;{}&quot;</ETag><Size>{}</Size>\
                 <StorageClass>STANDARD</StorageClass></Contents>",
                time(facts.changed),
                facts.sha256,
                facts.size
            ),
        };
    }
    let next = match (is_cut, is_second) {
        (false, _) => String::new(),
        (true, true) => format!("<NextContinuationToken>{}</NextContinuationToken>", escaped(&last)),
        (true, false) => format!("<NextMarker>{}</NextMarker>", escaped(&last)),
    };
    let counted = if is_second { format!("<KeyCount>{count}</KeyCount>") } else { String::new() };
    format!(
        "<ListBucketResult><Name>{bucket}</Name><Prefix>{}</Prefix><MaxKeys>{most}</MaxKeys>{counted}\
         <IsTruncated>{is_cut}</IsTruncated>{next}{entries}</ListBucketResult>",
        escaped(prefix)
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn listings_go_on_where_a_page_ended_and_fold_what_shares_a_folder() {
        let facts = |key: &str| Facts {
            key: key.to_owned(),
            size: 1,
            sha256: "ab".to_owned(),
            changed: 0,
            headers: BTreeMap::new(),
        };
        let objects = ["a/1", "a/2", "b", "c/d"].map(|key| (key.to_owned(), facts(key))).into();
        let page = |query: &[(&str, &str)]| {
            let query = query.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
            listing("x", &objects, &query)
        };
        let first = page(&[("list-type", "2"), ("delimiter", "/"), ("max-keys", "1")]);
        assert!(
            first.contains("<Prefix>a/</Prefix>") && first.contains("<NextContinuationToken>a/<"),
            "{first}"
        );
        let second = page(&[("list-type", "2"), ("delimiter", "/"), ("continuation-token", "a/")]);
        assert!(second.contains("<Key>b<") && second.contains("c/<") && !second.contains("a/"), "{second}");
        assert!(page(&[("prefix", "a/")]).contains("<Key>a/2<"));
    }
}
