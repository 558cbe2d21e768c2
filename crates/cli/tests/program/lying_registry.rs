//! Registries whose documents lie: what comes of it is the right image, or an error, and never a panic or a file elsewhere.

use crate::program;
use serde_json::{Value, json};
use testkit::archives::{npm_tarball, sha256_hex, sha512_integrity, wheel};
use testkit::program::Program;
use testkit::registry::{Registry, Reply};

const ON_HOST: &str = "[base]\nfrom = \"host\"\n";

/// What may come of a lie.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Comes {
    Error,
    /// The lie does not matter.
    Right,
}

pub use Comes::{Error, Right};

/// What is wrong with what came of a lie.
pub fn wrong(what: &str, comes: Comes, program: &Program, arguments: &str) -> Option<String> {
    let said = program.run(arguments);
    let is_told = said.stderr.contains("error: ") && matches!(said.code, 1..=3);
    let is_as_expected = if comes == Right { said.code == 0 } else { is_told };
    let is_elsewhere = program.path("out").exists() || program.path("app/out").exists();
    let is_fine = is_as_expected && !is_elsewhere && !said.stderr.contains("panicked");
    (!is_fine).then(|| format!("{what}: {said}"))
}

/// Fails with everything that is wrong.
pub fn assert_none(wrong: &[String]) {
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

fn pier(name: &str, version: &str) -> Vec<u8> {
    let manifest = json!({ "name": name, "version": version }).to_string();
    npm_tarball(&vec![
        ("package.json".into(), manifest.into_bytes()),
        ("index.js".into(), b"// pier".to_vec()),
    ])
}

/// The document of a package with one version, whose archive is at `/pier/-/pier-1.0.0.tgz`.
fn document(registry: &Registry, archive: &[u8]) -> Value {
    json!({ "name": "pier", "dist-tags": { "latest": "1.0.0" }, "versions": { "1.0.0": {
        "name": "pier", "version": "1.0.0",
        "dist": { "tarball": format!("{}/pier/-/pier-1.0.0.tgz", registry.url()), "integrity": sha512_integrity(archive) },
    } } })
}

/// Changes the document and the archive of a package.
type NpmLie = fn(&mut Value, &mut Vec<u8>);

fn version(document: &mut Value) -> &mut Value {
    &mut document["versions"]["1.0.0"]
}

const NPM: [(&str, Comes, NpmLie); 25] = [
    ("the truth", Right, |_, _| {}),
    ("another archive than it says", Error, |_, archive| *archive = pier("pier", "1.0.1")),
    ("an archive of another package", Right, |document, archive| {
        // The digest decides what is taken; the name is the registry's.
        *archive = pier("other", "9.9.9");
        version(document)["dist"]["integrity"] = sha512_integrity(archive).into();
    }),
    ("a digest that is none", Error, |document, _| {
        version(document)["dist"]["integrity"] = "sha512-none".into()
    }),
    // It is as if there were none: the first bytes that come are pinned.
    ("a digest of a kind that nobody has", Right, |document, _| {
        version(document)["dist"]["integrity"] = "md99-AAAA".into();
    }),
    ("an archive that is a zip", Error, |document, archive| {
        *archive = testkit::archives::zip_archive(&vec![("package/index.js".to_owned(), b"".to_vec())]);
        version(document)["dist"]["integrity"] = sha512_integrity(archive).into();
    }),
    ("an empty archive", Error, |document, archive| {
        archive.clear();
        version(document)["dist"]["integrity"] = sha512_integrity(archive).into();
    }),
    // Archives are where the registry has them, whatever its documents say.
    ("an archive on this machine's disk", Right, |document, _| {
        version(document)["dist"]["tarball"] = "file:///etc/passwd".into();
    }),
    ("an archive at no address", Right, |document, _| version(document)["dist"]["tarball"] = "pier".into()),
    ("an archive that is a number", Right, |document, _| version(document)["dist"]["tarball"] = 5.into()),
    ("no versions", Error, |document, _| document["versions"] = json!({})),
    ("versions that are a list", Error, |document, _| document["versions"] = json!(["1.0.0"])),
    ("a version that is none", Error, |document, _| {
        document["versions"] = json!({ "ferry": document["versions"]["1.0.0"].clone() });
    }),
    ("a version that leads up", Error, |document, _| {
        document["versions"] = json!({ "1.0.0/../../out": document["versions"]["1.0.0"].clone() });
    }),
    ("a version with numbers beyond all", Error, |document, _| {
        document["versions"] =
            json!({ "1.99999999999999999999999.0": document["versions"]["1.0.0"].clone() });
    }),
    ("the document of another package", Right, |document, _| document["name"] = "other".into()),
    ("another version inside", Right, |document, _| version(document)["version"] = "6.6.6".into()),
    ("a dependency that leads up", Error, |document, _| {
        version(document)["dependencies"] = json!({ "../../out": "1" });
    }),
    ("a dependency on a file of this machine", Error, |document, _| {
        version(document)["dependencies"] = json!({ "horn": "file:../../../etc" });
    }),
    ("dependencies that are a text", Error, |document, _| version(document)["dependencies"] = "all".into()),
    ("a command that leads up", Right, |document, _| {
        version(document)["bin"] = json!({ "../../../out": "index.js" });
    }),
    ("a circle with itself", Right, |document, _| version(document)["dependencies"] = json!({ "pier": "1" })),
    ("tags that are a list", Right, |document, _| document["dist-tags"] = json!([1, 2])),
    ("nothing", Error, |document, _| *document = Value::Null),
    ("a list", Error, |document, _| *document = json!([])),
];

#[test]
fn documents_of_npm_that_lie_do_no_harm() {
    let mut problems = Vec::new();
    for (what, comes, lie) in NPM {
        let (program, registry) = (program(), Registry::start());
        let mut archive = pier("pier", "1.0.0");
        let mut document = document(&registry, &archive);
        lie(&mut document, &mut archive);
        registry.answer("/pier", vec![Reply::of(document.to_string())]);
        registry.answer("/pier/-/pier-1.0.0.tgz", vec![Reply::of(archive)]);
        program.write("app/shtetl.toml", ON_HOST);
        program.write("app/server.js", "");
        program.write(
            "app/package.json",
            r#"{"scripts":{"start":"node server.js"},"dependencies":{"pier":"1"}}"#,
        );
        problems.extend(wrong(what, comes, &program, &format!("build app --address npm={}", registry.url())));
    }
    assert_none(&problems);
}

#[test]
fn texts_that_are_no_documents_do_no_harm() {
    let deep = "[".repeat(200_000);
    let texts: [(&str, Vec<u8>); 6] = [
        ("deep nesting", deep.into_bytes()),
        ("half a document", b"{\"versions\":{\"1.0.0\":{".to_vec()),
        ("no UTF-8", vec![0xff, 0xfe, 0x00, 0x7b]),
        ("a page", b"<html><body>sign in</body></html>".to_vec()),
        ("a huge number", b"{\"versions\":{\"1.0.0\":1e999999}}".to_vec()),
        ("nothing at all", Vec::new()),
    ];
    let mut problems = Vec::new();
    for (what, text) in texts {
        let (program, registry) = (program(), Registry::start());
        registry.answer("/pier", vec![Reply::of(text.clone())]);
        program.write("app/shtetl.toml", ON_HOST);
        program.write("app/server.js", "");
        program.write(
            "app/package.json",
            r#"{"scripts":{"start":"node server.js"},"dependencies":{"pier":"1"}}"#,
        );
        problems.extend(wrong(what, Error, &program, &format!("build app --address npm={}", registry.url())));

        registry.answer("/horn/", vec![Reply::of(text)]);
        let program = python();
        problems.extend(wrong(
            what,
            Error,
            &program,
            &format!("build app --address pypi={}", registry.url()),
        ));
    }
    assert_none(&problems);
}

fn python() -> Program {
    let program = program();
    program.write("app/shtetl.toml", ON_HOST);
    program.write("app/app.py", "if __name__ == \"__main__\":\n    pass\n");
    program.write("app/requirements.txt", "horn\n");
    program
}

fn horn(name: &str, version: &str, needs: &str) -> Vec<u8> {
    let metadata = format!("Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n{needs}");
    wheel(name, version, &vec![(format!("{name}.py"), b"".to_vec())], &metadata, "")
}

/// The name of the file on the page, where it leads, and the file itself.
struct Listed {
    page: String,
    file: Vec<u8>,
}

/// Changes what is listed.
type PythonLie = fn(&mut Listed);

/// Lists the file with its digest under a name, and under another link.
fn list(listed: &mut Listed, link: &str, name: &str) {
    listed.page = format!("<a href=\"{link}#sha256={}\">{name}</a>", sha256_hex(&listed.file));
}

const NAME: &str = "horn-1.0-py3-none-any.whl";

const PYTHON: [(&str, Comes, PythonLie); 16] = [
    ("the truth", Right, |_| {}),
    ("another file than it says", Error, |listed| listed.file = horn("horn", "1.1", "")),
    ("a file of another project", Error, |listed| {
        listed.file = horn("pier", "1.0", "");
        list(listed, NAME, NAME);
    }),
    ("a file of another version", Error, |listed| {
        listed.file = horn("horn", "6.6", "");
        list(listed, NAME, NAME);
    }),
    ("a file that is no zip", Error, |listed| {
        listed.file = b"ferry".to_vec();
        list(listed, NAME, NAME);
    }),
    ("a name of another project", Error, |listed| list(listed, NAME, "pier-1.0-py3-none-any.whl")),
    ("a name in other letters", Right, |listed| list(listed, NAME, "HORN-1.0-py3-none-any.whl")),
    ("a name that leads up", Error, |listed| list(listed, NAME, "../../out/horn-1.0-py3-none-any.whl")),
    ("a name with a zero byte", Error, |listed| list(listed, NAME, "horn-1.0\0-py3-none-any.whl")),
    ("a link that leads up", Error, |listed| list(listed, "../../../../out", NAME)),
    ("a link to this machine's disk", Error, |listed| list(listed, "file:///etc/passwd", NAME)),
    ("a link to a script", Error, |listed| list(listed, "javascript:alert(1)", NAME)),
    ("a digest that is none", Error, |listed| {
        listed.page = format!("<a href=\"{NAME}#sha256=none\">{NAME}</a>")
    }),
    // Nobody ever met it: it is passed over, as installers do.
    ("a need that is none", Right, |listed| {
        listed.file = horn("horn", "1.0", "Requires-Dist: ../../out (>=1\n");
        list(listed, NAME, NAME);
    }),
    ("a need of itself", Right, |listed| {
        listed.file = horn("horn", "1.0", "Requires-Dist: horn\n");
        list(listed, NAME, NAME);
    }),
    ("a page without an end", Error, |listed| listed.page = format!("<a href=\"{NAME}")),
];

#[test]
fn pages_of_python_that_lie_do_no_harm() {
    let mut problems = Vec::new();
    for (what, comes, lie) in PYTHON {
        let (program, registry) = (python(), Registry::start());
        let mut listed = Listed { page: String::new(), file: horn("horn", "1.0", "") };
        list(&mut listed, NAME, NAME);
        lie(&mut listed);
        registry.answer("/horn/", vec![Reply::of(listed.page)]);
        registry.answer(&format!("/horn/{NAME}"), vec![Reply::of(listed.file)]);
        problems.extend(wrong(
            what,
            comes,
            &program,
            &format!("build app --address pypi={}", registry.url()),
        ));
    }
    assert_none(&problems);
}
