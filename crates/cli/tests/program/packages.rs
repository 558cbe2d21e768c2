//! Packages that are wrong, missing or hostile: each its own error, nothing half done.

use crate::program;
use std::time::Duration;
use testkit::archives::{Files, npm_tarball, sha256_hex, sha512_integrity, tarball, wheel};
use testkit::program::{Program, Said};
use testkit::registry::{Registry, Reply};

const ON_HOST: &str = "[base]\nfrom = \"host\"\n";
const PLACE: &str = "/pier/-/pier-1.0.0.tgz";

/// An app that needs one package, `pier`, locked with the integrity of `locked`.
fn app_with(locked: &[u8]) -> Program {
    let program = program();
    program.write("app/package.json", r#"{"dependencies":{"pier":"1"},"scripts":{"start":"node a.js"}}"#);
    let lock = format!(
        r#"{{"lockfileVersion":3,"packages":{{"":{{"dependencies":{{"pier":"1"}}}},
        "node_modules/pier":{{"version":"1.0.0","integrity":"{}"}}}}}}"#,
        sha512_integrity(locked)
    );
    program.write("app/package-lock.json", lock);
    program.write("app/shtetl.toml", ON_HOST);
    program
}

fn build_with(locked: &[u8], replies: Vec<Reply>) -> (Said, usize) {
    let (program, registry) = (app_with(locked), Registry::start());
    registry.answer(PLACE, replies);
    let said = program.run(&format!("build app --address npm={}", registry.url()));
    let text = said.stderr.replace(&registry.url(), "[registry]");
    let said = Said { stderr: text, ..said };
    (Said { stderr: error_of(&said) + "\n", ..said }, registry.count(PLACE))
}

/// The error without the steps before it, whose order is free.
fn error_of(said: &Said) -> String {
    said.stderr.lines().skip_while(|l| !l.starts_with("error")).collect::<Vec<_>>().join("\n")
}

fn pier() -> Vec<u8> {
    npm_tarball(&vec![("index.js".into(), b"// pier".to_vec())])
}

fn files(names: &[&str]) -> Files {
    names.iter().map(|n| ((*n).to_owned(), b"text".to_vec())).collect()
}

#[test]
fn what_was_not_locked_is_refused() {
    insta::assert_snapshot!(build_with(&pier(), vec![Reply::of("another package")]).0, @"
    --- stderr
    error: pier 1.0.0: what [registry]/pier/-/pier-1.0.0.tgz gave is not what was locked
      sha512 locked   85f0458b3845973651c94b0f1147ed7d95208bbe95863e68e3d38a84be68dfe3249302be18497b206c27cdad6b40dd131d7a1a6df2a86f48b845c73e64af912f
      sha512 received 7b5aae5e10fbb676e035cbc5c61a5e16c94321d63209f0ad72c31760e1fb38bccc4eedbc32fd97ca55573c4b7a5490dd6bde49dc4703e4d430e50568ab9c3d32
    what to do: do not use it: find out whether the package was replaced, then lock again
    --- exit 1
    ");
}

#[test]
fn a_truncated_archive_is_refused() {
    let whole = pier();
    let cut = &whole[..whole.len() / 2];
    insta::assert_snapshot!(build_with(cut, vec![Reply::of(cut)]).0, @"
    --- stderr
    error: the archive of pier 1.0.0 cannot be used: incomplete deflate stream
    what to do: do not use it; ask the registry or the package's author
    --- exit 1
    ");
}

#[test]
fn a_missing_package_is_named() {
    insta::assert_snapshot!(build_with(&pier(), vec![Reply::status(404)]).0, @"
    --- stderr
    error: pier 1.0.0 is not at [registry]/pier/-/pier-1.0.0.tgz
    what to do: check the version in the lockfile (`build --update` moves what shtetl.lock pins); `shtetl addresses` shows where packages come from
    --- exit 1
    ");
}

#[test]
fn an_entry_that_leaves_its_folder_is_refused() {
    for name in ["package/../../../evil", "/package/evil"] {
        let hostile = tarball(&files(&["package/index.js", name]));
        let (said, _) = build_with(&hostile, vec![Reply::of(hostile.clone())]);
        assert_eq!(said.code, 1);
        assert!(said.stderr.contains("leaves the package's folder"), "{said}");
    }
}

#[test]
fn trouble_that_passes_is_waited_out_and_other_trouble_is_told() {
    let cut = Reply { cut_after: Some(10), ..Reply::of(pier()) };
    let (said, tries) = build_with(&pier(), vec![Reply::status(503), cut, Reply::of(pier())]);
    assert_eq!((said.code, tries), (0, 3), "{said}");
    let slow = Reply { delay: Duration::from_millis(50), ..Reply::status(403) };
    insta::assert_snapshot!(build_with(&pier(), vec![slow]).0, @"
    --- stderr
    error: pier 1.0.0: [registry]/pier/-/pier-1.0.0.tgz answered with status 403
    what to do: it refuses the package to you: check the address (`shtetl addresses`) and its access rules
    --- exit 3
    ");
}

#[test]
fn offline_takes_from_the_store_and_asks_nobody() {
    let (program, registry) = (app_with(&pier()), Registry::start());
    registry.answer(PLACE, vec![Reply::of(pier())]);
    let build = format!("build app --address npm={}", registry.url());
    let refused = program.run(&format!("{build} --offline"));
    assert_eq!((refused.code, registry.count(PLACE)), (3, 0), "{refused}");
    let _ = program.succeed(&build);
    let _ = program.succeed("build app --offline --compress zstd");
    // Without any address, a package in the store needs none.
    program.write("app/a.js", "");
    let _ = program.succeed("build app --offline");
}

#[test]
fn nothing_says_where_packages_come_from() {
    let said = app_with(&pier()).with("PATH", "/nowhere").run("build app");
    assert_eq!(said.code, 3, "the invented runtime is not in that path: {said}");
    insta::assert_snapshot!(error_of(&app_with(&pier()).run("build app")), @r#"
    error: nothing says where npm packages come from
    what to do: in shtetl.toml, under [addresses]: npm = "URL or folder"; or --address npm=WHERE
    "#);
}

#[test]
fn a_stale_lock_and_a_missing_lock_are_told() {
    let program = app_with(&pier());
    program.edit("app/package.json", "\"pier\":\"1\"", "\"pier\":\"2\"");
    insta::assert_snapshot!(program.run("build app"), @r#"
    --- stderr
    error: package-lock.json is out of date: for pier, package.json says "2", the lock has "1"
    what to do: run `npm install --package-lock-only` and commit the result
    --- exit 1
    "#);
    std::fs::remove_file(program.path("app/package-lock.json")).unwrap();
    insta::assert_snapshot!(program.run("build app"), @r#"
    --- stderr
    error: nothing says where npm packages come from
    what to do: in shtetl.toml, under [addresses]: npm = "URL or folder"; or --address npm=WHERE
    --- exit 2
    "#);
}

#[test]
fn wheels_must_be_what_their_record_says() {
    let program = program();
    let good =
        wheel("buoy", "1.0", &files(&["buoy.py"]), "Metadata-Version: 2.1\nName: buoy\nVersion: 1.0\n", "");
    // A file that nobody listed.
    let mut members = read_zip(&good);
    members.push(("stowaway.py".to_owned(), b"evil".to_vec()));
    let mixed = testkit::archives::zip_archive(&members);
    program.write("app/shtetl.toml", ON_HOST);
    program.write("app/app.py", "if __name__ == \"__main__\":\n    pass\n");
    for (bytes, expected) in [(&mixed, "stowaway.py is not in RECORD"), (&good, "")] {
        let hash = sha256_hex(bytes);
        program.write("app/requirements.txt", format!("buoy==1.0 --hash=sha256:{hash}\n"));
        program.write("index/buoy/buoy-1.0-py3-none-any.whl", bytes);
        program.write(
            "index/buoy/index.html",
            format!("<a href=\"buoy-1.0-py3-none-any.whl#sha256={hash}\">buoy-1.0-py3-none-any.whl</a>"),
        );
        let said = program.run("build app --address pypi=index");
        assert_eq!(said.code == 0, expected.is_empty(), "{said}");
        assert!(said.stderr.contains(expected), "{said}");
    }
    program.write("app/requirements.txt", format!("buoy==2.0 --hash=sha256:{}\n", sha256_hex(&good)));
    let said = program.run("build app --address pypi=index");
    insta::assert_snapshot!(error_of(&said), @"
    error: [place]/index has no file for buoy 2.0 that was locked and that fits the image
      offered: buoy-1.0-py3-none-any.whl
    what to do: lock a version that has a wheel for this Python and platform; source archives are not built by this version
    ");
}

fn read_zip(bytes: &[u8]) -> Files {
    testkit::archives::zip_members(bytes)
}

#[test]
fn registries_are_asked_for_withdrawn_versions_only_when_they_may_be() {
    let (program, registry) = (app_with(&pier()), Registry::start());
    program.write("app/a.js", "");
    let check = format!("check app --address npm={}", registry.url());
    for (versions, expected) in [
        (r#"{"1.0.0":{"deprecated":"use quay"}}"#, "pier 1.0.0: deprecated: use quay"),
        (r#"{"2.0.0":{}}"#, "does not have it"),
        (r#"{"1.0.0":{}}"#, "nothing found that would break it"),
    ] {
        registry.answer("/pier", vec![Reply::of(format!(r#"{{"versions":{versions}}}"#))]);
        let said = program.run(&format!("{check} --online")).stdout;
        assert!(said.contains(expected), "{said}");
    }
    let asked = registry.count("/pier");
    let said = program.succeed(&check).stdout;
    assert!(said.contains("nothing found") && registry.count("/pier") == asked, "{said}");
}
