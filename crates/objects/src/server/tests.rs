use super::*;
use crate::signature::{Scope, Signed, authorization, encoded};
use content::digest::Sha256;
use std::net::Ipv4Addr;

struct Client {
    port: u16,
    key: Key,
}

impl Client {
    fn send(
        &self,
        method: &str,
        path: &str,
        query: &str,
        more: &[(&str, &str)],
        body: &[u8],
    ) -> (u16, String) {
        let scope = Scope::at(now(), "harbour");
        let (host, digest) = (format!("127.0.0.1:{}", self.port), Sha256::of(body).hex());
        let path = encoded(path.as_bytes(), true);
        let headers =
            [("host", host.as_str()), ("x-amz-date", &scope.time), ("x-amz-content-sha256", &digest)];
        let signed = Signed {
            method,
            path: &path,
            query,
            headers: headers.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect(),
            body: &digest,
        };
        let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
        let mut request = ureq::http::Request::builder()
            .method(method)
            .uri(format!("http://{host}{path}?{query}"))
            .header("authorization", authorization(&signed, &scope, &self.key));
        for (name, value) in headers.iter().skip(1).chain(more) {
            request = request.header(*name, *value);
        }
        let mut answer = agent.run(request.body(body).unwrap()).unwrap();
        (answer.status().as_u16(), answer.body_mut().read_to_string().unwrap())
    }
}

fn with_server(test: impl Fn(&Client)) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    serve(folder.path(), test);
    folder
}

fn serve(folder: &Path, test: impl Fn(&Client)) {
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
    let port = listener.local_addr().unwrap().port();
    let key = Key { id: "ferry".to_owned(), secret: "tide".to_owned() };
    let _server = Server::start(listener, folder, key.clone(), "harbour").unwrap();
    test(&Client { port, key });
}

#[test]
fn objects_are_kept_over_restarts_and_given_whole_or_in_part() {
    let folder = with_server(|client| {
        assert_eq!(client.send("PUT", "/tides", "", &[], b"").0, 200);
        let headers = [("content-type", "text/plain"), ("x-amz-meta-pier", "3")];
        assert_eq!(client.send("PUT", "/tides/a b/\u{e4}", "", &headers, b"high water").0, 200);
    });
    serve(folder.path(), |client| {
        assert_eq!(client.send("GET", "/tides/a b/\u{e4}", "", &[], b"").1, "high water");
        let part = client.send("GET", "/tides/a b/\u{e4}", "", &[("range", "bytes=5-")], b"");
        assert_eq!(part, (206, "water".to_owned()));
        assert_eq!(client.send("HEAD", "/tides/a b/\u{e4}", "", &[], b""), (200, String::new()));
        assert!(
            client.send("GET", "/tides", "list-type=2&prefix=a%20", &[], b"").1.contains("<Size>10</Size>")
        );
        assert_eq!(client.send("DELETE", "/tides", "", &[], b"").0, 409);
        assert_eq!(client.send("DELETE", "/tides/a b/\u{e4}", "", &[], b"").0, 204);
        assert_eq!(client.send("DELETE", "/tides", "", &[], b"").0, 204);
        assert_eq!(client.send("GET", "/tides/x", "", &[], b"").0, 404);
    });
}

#[test]
fn uploads_in_parts_copies_and_conditions() {
    with_server(|client| {
        client.send("PUT", "/tides", "", &[], b"");
        let begun = client.send("POST", "/tides/log", "uploads=", &[], b"").1;
        let id = begun.split("<UploadId>").nth(1).unwrap().split('<').next().unwrap().to_owned();
        client.send("PUT", "/tides/log", &format!("partNumber=2&uploadId={id}"), &[], b"water");
        client.send("PUT", "/tides/log", &format!("partNumber=1&uploadId={id}"), &[], b"low ");
        let parts = "<CompleteMultipartUpload xmlns=\"x\"><Part><PartNumber>1</PartNumber></Part><Part><PartNumber>2\
                     </PartNumber></Part></CompleteMultipartUpload>";
        let done = client.send("POST", "/tides/log", &format!("uploadId={id}"), &[], parts.as_bytes());
        assert_eq!(done.0, 200, "{}", done.1);
        assert_eq!(client.send("PUT", "/tides/copy", "", &[("x-amz-copy-source", "tides/log")], b"").0, 200);
        assert_eq!(client.send("GET", "/tides/copy", "", &[], b"").1, "low water");
        let only_new = [("if-none-match", "*")];
        assert_eq!(client.send("PUT", "/tides/copy", "", &only_new, b"x").0, 412);
        let many = b"<Delete><Object><Key>copy</Key></Object><Object><Key>log</Key></Object></Delete>";
        assert_eq!(client.send("POST", "/tides", "delete=", &[], many).0, 200);
        assert!(!client.send("GET", "/tides", "", &[], b"").1.contains("<Key>"));
    });
}

#[test]
fn only_who_has_the_key_is_let_in_and_bodies_must_be_what_was_signed() {
    with_server(|client| {
        let stranger =
            Client { port: client.port, key: Key { id: "ferry".to_owned(), secret: "ebb".to_owned() } };
        assert_eq!(stranger.send("PUT", "/tides", "", &[], b"").0, 403);
        client.send("PUT", "/tides", "", &[], b"");
        let other = Sha256::of(b"other").hex();
        let changed = [("x-amz-content-sha256", other.as_str())];
        assert_eq!(client.send("PUT", "/tides/a", "", &changed, b"water").0, 403);
        assert_eq!(client.send("GET", "/tides/a", "", &[], b"").0, 404);
    });
}
