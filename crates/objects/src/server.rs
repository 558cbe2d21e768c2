//! The server: what each kind of request does.

use crate::answers::{Answer, escaped, header_time, listing, time};
use crate::buckets::{Buckets, Facts};
use crate::http::{Accepting, Head};
use crate::requests::Request;
use crate::signature::Key;
use remote::percent;
use std::collections::BTreeMap;
use std::fmt;
use std::io::{self, Read, Seek, SeekFrom};
use std::net::TcpListener;
use std::path::Path;
use std::sync::Arc;
use std::time::SystemTime;

/// The largest document that a client may send.
const LARGEST_DOCUMENT: u64 = 4 << 20;
/// Headers of an object that are given back with it, besides those that begin with [`OWN_HEADER`].
const KEPT_HEADERS: [&str; 5] =
    ["content-type", "cache-control", "content-disposition", "content-encoding", "content-language"];
/// What headers begin with that the client makes up.
const OWN_HEADER: &str = "x-amz-meta-";

/// A running server; it ends when this is dropped.
pub struct Server(Accepting);

impl Server {
    /// Serves the buckets in `folder` to holders of the key; `bucket` is created if it does not exist.
    pub fn start(listener: TcpListener, folder: &Path, key: Key, bucket: &str) -> io::Result<Self> {
        let buckets = Buckets::open(folder)?;
        buckets.make(bucket)?;
        let served = Served { buckets, key };
        Accepting::start(listener, Arc::new(move |head, body| served.serve(head, body))).map(Self)
    }
}

impl fmt::Debug for Server {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Server").field("at", &self.0.address()).finish()
    }
}

struct Served {
    buckets: Buckets,
    key: Key,
}

impl Served {
    fn serve(&self, head: &Head, body: &mut dyn Read) -> Answer {
        let request = Request::new(&head.method, &head.url, &head.headers);
        if !request.is_signed_with(&self.key) {
            let what = "the request is not signed with the key of this server";
            return Answer::error(403, "SignatureDoesNotMatch", what);
        }
        self.answer(&request, body).unwrap_or_else(|error| match error.kind() {
            io::ErrorKind::InvalidData => {
                Answer::error(400, "BadDigest", "the body is not what its digest says")
            }
            io::ErrorKind::NotFound => Answer::error(404, "NoSuchUpload", "there is no such upload or part"),
            _ => Answer::error(500, "InternalError", &error.to_string()),
        })
    }

    fn answer(&self, request: &Request, body: &mut dyn Read) -> io::Result<Answer> {
        let (method, bucket) = (request.method.as_str(), request.bucket.as_str());
        if bucket.is_empty() {
            return Ok(self.all_buckets());
        }
        if !is_bucket_name(bucket) {
            return Ok(Answer::error(
                400,
                "InvalidBucketName",
                "names of buckets have 3 to 63 letters, digits, dots, hyphens",
            ));
        }
        let makes = method == "PUT" && request.key.is_empty();
        if !makes && !self.buckets.has(bucket) {
            return Ok(Answer::error(404, "NoSuchBucket", "there is no such bucket"));
        }
        match (method, request.key.is_empty()) {
            ("PUT", true) => self.buckets.make(bucket).map(|()| Answer::empty(200)),
            ("HEAD", true) => Ok(Answer::empty(200)),
            ("DELETE", true) => Ok(match self.buckets.remove_bucket(bucket)? {
                true => Answer::empty(204),
                false => Answer::error(409, "BucketNotEmpty", "the bucket has objects"),
            }),
            ("GET", true) => Ok(self.about_bucket(request)),
            ("POST", true) if request.asks("delete") => self.remove_many(request, body),
            ("GET" | "HEAD", false) => self.get(request),
            ("DELETE", false) if request.asks("uploadId") => {
                self.buckets.drop_upload(request.parameter("uploadId")).map(|()| Answer::empty(204))
            }
            ("DELETE", false) => self.buckets.remove(bucket, &request.key).map(|()| Answer::empty(204)),
            ("PUT", false) if request.asks("partNumber") => self.put_part(request, body),
            ("PUT", false) if request.header("x-amz-copy-source").is_some() => self.copy(request),
            ("PUT", false) => {
                let (file, size, sha256) = self.buckets.take_in(&mut *request.data(body))?;
                self.finish(request, &file, size, sha256, kept_headers(request))
            }
            ("POST", false) if request.asks("uploads") => self.begin_upload(request),
            ("POST", false) if request.asks("uploadId") => self.complete_upload(request, body),
            _ => Ok(Answer::error(501, "NotImplemented", "this server does not know such requests")),
        }
    }

    fn all_buckets(&self) -> Answer {
        let name = |name: String| {
            format!("<Bucket><Name>{name}</Name><CreationDate>{}</CreationDate></Bucket>", time(0))
        };
        let all: String = self.buckets.names().into_iter().map(name).collect();
        Answer::document(
            200,
            &format!("<ListAllMyBucketsResult><Buckets>{all}</Buckets></ListAllMyBucketsResult>"),
        )
    }

    fn about_bucket(&self, request: &Request) -> Answer {
        if request.asks("location") {
            return Answer::document(200, "<LocationConstraint/>");
        }
        let objects = self.buckets.listing(&request.bucket).unwrap_or_default();
        Answer::document(200, &listing(&request.bucket, &objects, &request.query))
    }

    fn get(&self, request: &Request) -> io::Result<Answer> {
        let Some(facts) = self.buckets.facts(&request.bucket, &request.key) else {
            return Ok(Answer::error(404, "NoSuchKey", "there is no such object"));
        };
        let tag = format!("\"{}\"", facts.sha256);
        if request.header("if-none-match") == Some(&tag) {
            return Ok(Answer::empty(304).with("etag", tag));
        }
        let (status, first, end) = match request.range(facts.size) {
            None => (200, 0, facts.size),
            Some(Ok((first, end))) => (206, first, end),
            Some(Err(())) => {
                return Ok(Answer::error(416, "InvalidRange", "the object is shorter than that"));
            }
        };
        let mut answer = Answer::empty(status)
            .with("etag", tag)
            .with("last-modified", header_time(facts.changed))
            .with("accept-ranges", "bytes");
        if status == 206 {
            answer = answer.with("content-range", format!("bytes {first}-{}/{}", end - 1, facts.size));
        }
        answer.headers.extend(facts.headers);
        answer.length = end - first;
        if request.method != "HEAD" {
            let mut file = self.buckets.open_object(&request.bucket, &request.key)?;
            file.seek(SeekFrom::Start(first))?;
            answer.body = Box::new(file.take(end - first));
        }
        Ok(answer)
    }

    fn finish(
        &self,
        request: &Request,
        file: &Path,
        size: u64,
        sha256: String,
        headers: BTreeMap<String, String>,
    ) -> io::Result<Answer> {
        let tag = format!("\"{sha256}\"");
        let facts = Facts { key: request.key.clone(), size, sha256, changed: now(), headers };
        let only_new = request.header("if-none-match") == Some("*");
        Ok(match self.buckets.put(&request.bucket, file, facts, only_new)? {
            true => Answer::empty(200).with("etag", tag),
            false => Answer::error(412, "PreconditionFailed", "there is such an object already"),
        })
    }

    fn copy(&self, request: &Request) -> io::Result<Answer> {
        let source = percent::decoded(request.header("x-amz-copy-source").unwrap_or_default());
        let source = String::from_utf8_lossy(&source).into_owned();
        let (bucket, key) = source.trim_start_matches('/').split_once('/').unwrap_or_default();
        let Some(known) = self.buckets.facts(bucket, key) else {
            return Ok(Answer::error(404, "NoSuchKey", "there is no such object to copy"));
        };
        let replaces = request.header("x-amz-metadata-directive") == Some("REPLACE");
        let headers = if replaces { kept_headers(request) } else { known.headers };
        let (file, size, sha256) = self.buckets.take_in(&mut self.buckets.open_object(bucket, key)?)?;
        let tag = sha256.clone();
        self.finish(request, &file, size, sha256, headers)?;
        let result = format!(
            "<CopyObjectResult><LastModified>{}</LastModified><ETag>&quot;{tag}&quot;</ETag></CopyObjectResult>",
            time(now())
        );
        Ok(Answer::document(200, &result))
    }

    fn remove_many(&self, request: &Request, body: &mut dyn Read) -> io::Result<Answer> {
        let text = document(request, body)?;
        let Ok(document) = roxmltree::Document::parse(&text) else { return Ok(malformed()) };
        let mut removed = String::new();
        for key in
            document.descendants().filter(|node| node.has_tag_name_of("Key")).filter_map(|node| node.text())
        {
            self.buckets.remove(&request.bucket, key)?;
            removed.push_str(&format!("<Deleted><Key>{}</Key></Deleted>", escaped(key)));
        }
        Ok(Answer::document(200, &format!("<DeleteResult>{removed}</DeleteResult>")))
    }

    fn begin_upload(&self, request: &Request) -> io::Result<Answer> {
        let name = self.buckets.begin_upload(&kept_headers(request))?;
        let result = format!(
            "<InitiateMultipartUploadResult><Bucket>{}</Bucket><Key>{}</Key><UploadId>{name}</UploadId>\
             </InitiateMultipartUploadResult>",
            request.bucket,
            escaped(&request.key)
        );
        Ok(Answer::document(200, &result))
    }

    fn put_part(&self, request: &Request, body: &mut dyn Read) -> io::Result<Answer> {
        let Ok(number) = request.parameter("partNumber").parse() else { return Ok(malformed()) };
        let (file, _, sha256) = self.buckets.take_in(&mut *request.data(body))?;
        Ok(match self.buckets.keep_part(request.parameter("uploadId"), number, &file)? {
            true => Answer::empty(200).with("etag", format!("\"{sha256}\"")),
            false => Answer::error(404, "NoSuchUpload", "there is no such upload"),
        })
    }

    fn complete_upload(&self, request: &Request, body: &mut dyn Read) -> io::Result<Answer> {
        let text = document(request, body)?;
        let Ok(document) = roxmltree::Document::parse(&text) else { return Ok(malformed()) };
        let numbers = document.descendants().filter(|node| node.has_tag_name_of("PartNumber"));
        let numbers: Option<Vec<u32>> = numbers.map(|node| node.text()?.trim().parse().ok()).collect();
        let Some(numbers) = numbers else { return Ok(malformed()) };
        let (file, size, sha256, headers) =
            self.buckets.join_parts(request.parameter("uploadId"), &numbers)?;
        let result = format!(
            "<CompleteMultipartUploadResult><Bucket>{}</Bucket><Key>{}</Key><ETag>&quot;{sha256}&quot;</ETag>\
             </CompleteMultipartUploadResult>",
            request.bucket,
            escaped(&request.key)
        );
        let done = self.finish(request, &file, size, sha256, headers)?;
        Ok(if done.status == 200 { Answer::document(200, &result) } else { done })
    }
}

/// Elements by their name alone, whatever their namespace: clients send one, or none.
trait NamedElement {
    fn has_tag_name_of(&self, name: &str) -> bool;
}

impl NamedElement for roxmltree::Node<'_, '_> {
    fn has_tag_name_of(&self, name: &str) -> bool {
        self.is_element() && self.tag_name().name() == name
    }
}

fn document(request: &Request, body: &mut dyn Read) -> io::Result<String> {
    let mut text = String::new();
    request.data(body).take(LARGEST_DOCUMENT).read_to_string(&mut text)?;
    Ok(text)
}

fn malformed() -> Answer {
    Answer::error(400, "MalformedXML", "the document cannot be read")
}

fn kept_headers(request: &Request) -> BTreeMap<String, String> {
    let is_kept = |name: &str| KEPT_HEADERS.contains(&name) || name.starts_with(OWN_HEADER);
    let all = request.headers.iter().filter(|(name, _)| is_kept(name));
    all.map(|(name, value)| {
        (name.clone(), value.replace("aws-chunked", "").trim_matches([',', ' ']).to_owned())
    })
    .filter(|(_, value)| !value.is_empty())
    .collect()
}

fn is_bucket_name(name: &str) -> bool {
    let is_letter = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'-' | b'_');
    (3..=63).contains(&name.len()) && name.bytes().all(is_letter) && !name.starts_with('.')
}

fn now() -> i64 {
    let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH);
    since.map_or(0, |time| i64::try_from(time.as_secs()).unwrap_or(i64::MAX))
}

#[cfg(test)]
mod tests;
