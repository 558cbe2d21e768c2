//! How pages are served: what the image has beside them, and what the web server answers.

use crate::debian::{error_of, layer, with_archive};
use serde_json::Value;
use std::fs::{self, File};
use std::io::{Read, Write};
use std::net::{Ipv4Addr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;
use testkit::debian::{Signer, harbour_packages};
use testkit::program::Program;

/// Where machines have the web server.
const SERVERS: [&str; 3] = ["/usr/sbin/nginx", "/usr/bin/nginx", "/usr/local/sbin/nginx"];

/// A site of a few pages, on the invented archive.
fn site(options: &str) -> Program {
    let program = with_archive(&Signer::new(), &harbour_packages(), "");
    for file in ["package.json", "server.js"] {
        fs::remove_file(program.path("app").join(file)).unwrap();
    }
    let written = fs::read_to_string(program.path("app/shtetl.toml")).unwrap();
    program.write("app/shtetl.toml", format!("{written}\n[buildpacks.static]\n{options}\n"));
    program.write("app/public/index.html", "<h1>Kestrel Sound</h1>");
    program.write("app/public/notices/index.html", "no sailings");
    program.write("app/public/fares.html", "two crowns");
    program.write("app/public/assets/tides-1a2b3c4d.js", "console.log('high tide');\n".repeat(100));
    program.write("app/public/assets/small.js", "console.log(1)");
    program
}

/// Unpacks the layers of the image in `layout` into `root`.
fn unpack(layout: &Path, root: &Path) {
    fs::create_dir_all(root).unwrap();
    let document = |digest: &Value| -> Value {
        let name = digest.as_str().unwrap().trim_start_matches("sha256:");
        serde_json::from_slice(&fs::read(layout.join("blobs/sha256").join(name)).unwrap()).unwrap()
    };
    let index: Value = serde_json::from_slice(&fs::read(layout.join("index.json")).unwrap()).unwrap();
    for layer in document(&index["manifests"][0]["digest"])["layers"].as_array().unwrap() {
        let name = layer["digest"].as_str().unwrap().trim_start_matches("sha256:");
        let blob = File::open(layout.join("blobs/sha256").join(name)).unwrap();
        let mut archive = tar::Archive::new(zstd::Decoder::new(blob).unwrap());
        for entry in archive.entries().unwrap() {
            let mut entry = entry.unwrap();
            let path = entry.path().unwrap().into_owned();
            if path.starts_with("app") || path.starts_with("opt/pages") {
                entry.unpack_in(root).unwrap();
            }
        }
    }
}

/// The image's own web server, started with the nginx of this machine.
struct Served {
    child: Child,
    port: u16,
}

impl Served {
    /// Starts it on the image in `layout`; nothing where this machine has no nginx.
    #[expect(clippy::print_stdout, reason = "a test that is skipped says so")]
    fn start(program: &Program, words: &[&str]) -> Option<Self> {
        let Some(nginx) = SERVERS.iter().find(|path| Path::new(path).exists()) else {
            println!("skipped: this machine has no nginx");
            return None;
        };
        let root: PathBuf = program.path("root");
        fs::create_dir_all(root.join("tmp")).unwrap();
        unpack(&program.path("image"), &root);
        let here = root.display().to_string();
        for file in ["serve", "answers.conf", "site.conf"] {
            let path = root.join("opt/pages").join(file);
            let text = fs::read_to_string(&path).unwrap();
            let text =
                text.replace("/usr/sbin/nginx", nginx).replace("/opt/pages", &format!("{here}/opt/pages"));
            fs::write(&path, text).unwrap();
        }
        let port = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap().local_addr().unwrap().port();
        let mut command = Command::new("/bin/sh");
        command.arg(root.join("opt/pages/serve")).arg(root.join("app/public")).args(words);
        command.env("PORT", port.to_string()).env("TMPDIR", root.join("tmp")).stdout(Stdio::null());
        let served = Self { child: command.spawn().unwrap(), port };
        for _ in 0..200 {
            if TcpStream::connect((Ipv4Addr::LOCALHOST, port)).is_ok() {
                return Some(served);
            }
            std::thread::sleep(Duration::from_millis(25));
        }
        panic!("the web server does not answer");
    }

    /// Status, the header fields of interest, and the body of an answer.
    fn ask(&self, request: &str, fields: &str) -> String {
        let mut stream = TcpStream::connect((Ipv4Addr::LOCALHOST, self.port)).unwrap();
        write!(stream, "{request} HTTP/1.1\r\nHost: pier\r\nConnection: close\r\n{fields}\r\n").unwrap();
        let mut answer = Vec::new();
        stream.read_to_end(&mut answer).unwrap();
        let at = answer.windows(4).position(|four| four == b"\r\n\r\n").unwrap();
        let head = String::from_utf8_lossy(&answer[..at]).into_owned();
        let shown = [
            "HTTP/",
            "Location",
            "ETag",
            "Cache-Control",
            "Content-Encoding",
            "Content-Type",
            "Referrer",
            "Link",
        ];
        let lines = head.lines().filter(|line| shown.iter().any(|name| line.starts_with(name)));
        let body = String::from_utf8_lossy(&answer[at + 4..]);
        let body =
            body.lines().next().filter(|_| !head.contains("Content-Encoding")).unwrap_or_default().to_owned();
        lines.map(str::to_owned).chain([body]).collect::<Vec<_>>().join("\n")
    }
}

impl Drop for Served {
    fn drop(&mut self) {
        // Its workers end with it only when it is asked to end.
        let _ = Command::new("/bin/sh").args(["-c", &format!("kill {}", self.child.id())]).status();
        let _ = self.child.wait();
    }
}

#[test]
fn an_image_of_pages_has_their_compressed_forms_and_a_tag_for_each() {
    let program = site("");
    let built = program.json("build app --layout image");
    let steps = built["steps"].as_array().unwrap();
    let at = steps.iter().position(|step| step["step"] == "page files").unwrap();
    insta::assert_snapshot!(layer(&program.path("image"), at).0, @"
    0755 0:0 opt/
    0755 0:0 opt/pages/
    0644 0:0 opt/pages/tags.conf
    0755 0:0 app/
    0755 0:0 app/public/
    0755 0:0 app/public/assets/
    0644 0:0 app/public/assets/tides-1a2b3c4d.js.gz
    ");
    // A page that was not touched keeps its tag.
    let tags = |root: &str| {
        unpack(&program.path("image"), &program.path(root));
        fs::read_to_string(program.path(root).join("opt/pages/tags.conf")).unwrap()
    };
    let before = tags("before");
    program.write("app/public/fares.html", "six crowns");
    let _ = program.succeed("build app --layout image");
    let after = tags("after");
    let changed: Vec<&str> = after.lines().filter(|line| !before.contains(*line)).collect();
    assert!(changed.len() == 2 && changed.iter().all(|line| line.contains("/fares")), "{changed:?}");
    assert!(program.succeed("build app").stdout.contains("nothing ran"));
}

#[test]
fn pages_are_answered_with_tags_of_their_contents_and_what_is_missing_is_not_found() {
    let program = site("headers = [\"Referrer-Policy: no-referrer\", \"Link: <$5>; rel=\\\"fare\\\"\"]");
    let _ = program.succeed("build app --layout image");
    let Some(served) = Served::start(&program, &[]) else { return };
    insta::assert_snapshot!(served.ask("GET /", ""), @r#"
    HTTP/1.1 200 OK
    Content-Type: text/html; charset=utf-8
    ETag: W/"1fd3454e6c57f676b6c29d4a78a809b2"
    Cache-Control: no-cache
    Referrer-Policy: no-referrer
    Link: <$5>; rel="fare"
    <h1>Kestrel Sound</h1>
    "#);
    let tag = served.ask("HEAD /fares", "");
    let tag = tag.lines().find_map(|line| line.strip_prefix("ETag: ")).unwrap().to_owned();
    for known in [tag.as_str(), tag.trim_start_matches("W/")] {
        let answer = served.ask("GET /fares", &format!("If-None-Match: {known}\r\n"));
        assert!(answer.starts_with("HTTP/1.1 304"), "{answer}");
    }
    let answer = served.ask("GET /notices/", &format!("If-None-Match: {tag}\r\n"));
    assert!(answer.starts_with("HTTP/1.1 200"), "another page's tag: {answer}");
    insta::assert_snapshot!(served.ask("GET /notices", ""), @r#"
    HTTP/1.1 301 Moved Permanently
    Content-Type: text/html
    Location: /notices/
    Cache-Control: no-cache
    Referrer-Policy: no-referrer
    Link: <$5>; rel="fare"
    <html>
    "#);
    insta::assert_snapshot!(served.ask("GET /assets/tides-1a2b3c4d.js", "Accept-Encoding: gzip\r\n"), @r#"
    HTTP/1.1 200 OK
    Content-Type: text/javascript; charset=utf-8
    Content-Encoding: gzip
    ETag: W/"28c0965806249b77cfe96cc05cdd4844"
    Cache-Control: public, max-age=31536000, immutable
    Referrer-Policy: no-referrer
    Link: <$5>; rel="fare"
    "#);
    insta::assert_snapshot!(served.ask("GET /timetable", ""), @r#"
    HTTP/1.1 404 Not Found
    Content-Type: text/html; charset=utf-8
    Referrer-Policy: no-referrer
    Link: <$5>; rel="fare"
    not found
    "#);
    for (request, status) in
        [("GET /.git/config", "404"), ("GET /%2e%2e/%2e%2e/etc/passwd", "400"), ("POST /", "405")]
    {
        let answer = served.ask(request, "");
        assert!(answer.starts_with(&format!("HTTP/1.1 {status}")), "{request}: {answer}");
    }
}

#[test]
fn the_first_page_of_a_single_page_app_answers_what_has_no_file() {
    let program = site("single-page = true");
    let built = program.json("build app --layout image");
    let command = &built["processes"][0]["command"];
    assert_eq!(*command, serde_json::json!(["/opt/pages/serve", "/app/public", "--single-page"]));
    let Some(served) = Served::start(&program, &["--single-page"]) else { return };
    let first = served.ask("GET /sailings/today", "");
    assert_eq!(first, served.ask("GET /", ""));
    let tag = first.lines().find_map(|line| line.strip_prefix("ETag: ")).unwrap();
    let known = served.ask("GET /sailings/today", &format!("If-None-Match: {tag}\r\n"));
    assert!(known.starts_with("HTTP/1.1 304"), "{known}");
    let missing = served.ask("GET /assets/gone.js", &format!("If-None-Match: {tag}\r\n"));
    assert!(missing.starts_with("HTTP/1.1 404"), "{missing}");
}

#[test]
fn what_is_no_header_field_is_refused() {
    let program = site("headers = [\"no referrer\"]");
    insta::assert_snapshot!(error_of(&program.run("build app")), @r#"
    error: "no referrer" is not a header field
    what to do: use a name, a colon and a value, as in "Referrer-Policy: no-referrer"
    more: shtetl explain config-not-header
    "#);
}
