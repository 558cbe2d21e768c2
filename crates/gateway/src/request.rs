//! Requests as they arrive (RFC 9112): only what asks for a file below a kind of address is one.

/// The most bytes that the head of a request may have.
pub const LONGEST_HEAD: usize = 16 << 10;
/// The most header fields.
const MOST_FIELDS: usize = 64;

/// A request that is allowed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    /// Whether only the head of the answer is wanted.
    pub head_only: bool,
    /// The kind of address.
    pub kind: String,
    /// The path below it, decoded.
    pub path: String,
    /// Whether the connection stays open.
    pub stays: bool,
}

/// What became of the bytes so far.
#[derive(Debug, PartialEq, Eq)]
pub enum Read {
    /// A request, of so many bytes.
    Whole(Request, usize),
    /// More has to come.
    Partial,
    /// A request that is refused with this status; what it asked for.
    Refused(u16, String),
}

/// Reads the head of a request.
pub fn read(bytes: &[u8]) -> Read {
    let mut fields = [httparse::EMPTY_HEADER; MOST_FIELDS];
    let mut head = httparse::Request::new(&mut fields);
    let length = match head.parse(bytes) {
        Ok(httparse::Status::Complete(length)) => length,
        Ok(httparse::Status::Partial) if bytes.len() < LONGEST_HEAD => return Read::Partial,
        _ => return Read::Refused(400, "an invalid request".to_owned()),
    };
    let (method, target) = (head.method.unwrap_or_default(), head.path.unwrap_or_default());
    let asked = format!("{method} {}", target.escape_default());
    if !matches!(method, "GET" | "HEAD") {
        return Read::Refused(405, asked);
    }
    let field = |name: &str| head.headers.iter().find(|field| field.name.eq_ignore_ascii_case(name));
    let has_body = field("content-length").is_some_and(|field| field.value != b"0");
    if has_body || field("transfer-encoding").is_some() {
        return Read::Refused(400, asked);
    }
    let closes = field("connection").is_some_and(|field| field.value.eq_ignore_ascii_case(b"close"));
    match below_kind(target) {
        Some((kind, path)) => {
            let stays = !closes && head.version == Some(1);
            Read::Whole(Request { head_only: method == "HEAD", kind, path, stays }, length)
        }
        None => Read::Refused(403, asked),
    }
}

/// Kind and path of `/kind/path`; nothing when a part is empty, leads elsewhere, or hides what it is.
fn below_kind(target: &str) -> Option<(String, String)> {
    let decoded = decoded(target.strip_prefix('/')?)?;
    let (kind, path) = decoded.split_once('/')?;
    // What may stand in a path as it is (RFC 3986, section 3.3): nothing has to be encoded again.
    let is_usual = |c: char| c.is_ascii_alphanumeric() || "-._~!$&'()*+,;=:@".contains(c);
    let is_plain = |part: &str| !part.is_empty() && !matches!(part, "." | "..") && part.chars().all(is_usual);
    let is_allowed = is_plain(kind) && path.trim_end_matches('/').split('/').all(is_plain);
    is_allowed.then(|| (kind.to_owned(), path.to_owned()))
}

/// Percent-encoded bytes decoded once (RFC 3986, section 2.1); nothing for what is badly encoded.
fn decoded(text: &str) -> Option<String> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let [first, more @ ..] = rest {
        rest = more;
        if *first != b'%' {
            bytes.push(*first);
            continue;
        }
        let (digits, more) = more.split_at_checked(2)?;
        let byte = u8::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()?;
        bytes.push(byte);
        rest = more;
    }
    String::from_utf8(bytes).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(line: &str) -> Read {
        read(format!("{line} HTTP/1.1\r\nHost: x\r\n\r\n").as_bytes())
    }

    #[test]
    fn files_below_a_kind_may_be_asked_for() {
        let Read::Whole(request, _) = of("GET /maven/org/fog/1.0/fog-1.0.pom") else { panic!() };
        assert_eq!((request.kind.as_str(), request.path.as_str()), ("maven", "org/fog/1.0/fog-1.0.pom"));
        assert!(request.stays && !request.head_only);
        let Read::Whole(request, _) = of("HEAD /npm/@kestrel%2ffog") else { panic!() };
        assert_eq!((request.path.as_str(), request.head_only), ("@kestrel/fog", true));
        let closing = b"GET /npm/fog HTTP/1.1\r\nConnection: Close\r\n\r\n";
        assert!(matches!(read(closing), Read::Whole(Request { stays: false, .. }, 44)));
    }

    #[test]
    fn everything_else_is_refused() {
        for line in [
            "POST /npm/fog",
            "CONNECT packages.example:443",
            "GET http://packages.example/npm/fog",
            "GET /npm",
            "GET /",
            "GET //npm/fog",
            "GET /npm/../maven/fog",
            "GET /npm/%2e%2e/fog",
            "GET /npm/%2e%2e%2ffog",
            "GET /npm/a//b",
            "GET /npm/fog?all=1",
            "GET /npm/a%00b",
            "GET /npm/a%5c..",
            "GET /npm/%252e%252e/fog",
            "GET /npm/%zz",
            "GET /npm/a%0d%0aHost:%20b",
        ] {
            assert!(matches!(of(line), Read::Refused(..)), "{line}");
        }
        let with_body = b"GET /npm/fog HTTP/1.1\r\nContent-Length: 5\r\n\r\nhello";
        assert!(matches!(read(with_body), Read::Refused(400, _)));
        assert_eq!(read(b"GET /npm/fog HTT"), Read::Partial);
        assert!(matches!(read(&vec![b'a'; LONGEST_HEAD]), Read::Refused(400, _)));
    }
}
