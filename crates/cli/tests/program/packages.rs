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
    program.write("app/a.js", "");
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
fn a_registry_that_refuses_is_quoted() {
    let refusal = |body: &str| vec![Reply { status: 403, ..Reply::of(body) }];
    let (said, tries) =
        build_with(&pier(), refusal(r#"{"error":"pier is blocked: its licence is not allowed"}"#));
    insta::assert_snapshot!(said, @"
    --- stderr
    error: pier 1.0.0: [registry]/pier/-/pier-1.0.0.tgz answered with HTTP status 403
      the server says: pier is blocked: its licence is not allowed
    what to do: access denied: check the address (`shtetl addresses`) and its access rules
    more: shtetl explain download-status
    --- exit 3
    ");
    assert_eq!(tries, 1);
    // A page for people to look at is no sentence.
    let (said, _) = build_with(&pier(), refusal("<html><title>403</title></html>"));
    assert!(!said.stderr.contains("it says"), "{said}");
}

#[test]
fn what_was_not_locked_is_refused() {
    insta::assert_snapshot!(build_with(&pier(), vec![Reply::of("another package")]).0, @"
    --- stderr
    error: pier 1.0.0: the content from [registry]/pier/-/pier-1.0.0.tgz does not have the expected hash
      sha512 expected 85f0458b3845973651c94b0f1147ed7d95208bbe95863e68e3d38a84be68dfe3249302be18497b206c27cdad6b40dd131d7a1a6df2a86f48b845c73e64af912f
      sha512 received 7b5aae5e10fbb676e035cbc5c61a5e16c94321d63209f0ad72c31760e1fb38bccc4eedbc32fd97ca55573c4b7a5490dd6bde49dc4703e4d430e50568ab9c3d32
    what to do: do not use it; find out whether the package was replaced, then lock again
    more: shtetl explain download-integrity
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
    more: shtetl explain package-damaged
    --- exit 1
    ");
}

#[test]
fn a_missing_package_is_named() {
    insta::assert_snapshot!(build_with(&pier(), vec![Reply::status(404)]).0, @"
    --- stderr
    error: pier 1.0.0: not found at [registry]/pier/-/pier-1.0.0.tgz
    what to do: check the version in the lockfile (`build --update` moves what shtetl.lock pins); `shtetl addresses` shows where packages come from
    more: shtetl explain download-not-found
    --- exit 1
    ");
}

#[test]
fn an_entry_that_leaves_its_folder_is_refused() {
    for name in ["package/../../../evil", "/package/evil"] {
        let hostile = tarball(&files(&["package/index.js", name]));
        let (said, _) = build_with(&hostile, vec![Reply::of(hostile.clone())]);
        assert_eq!(said.code, 1);
        assert!(said.stderr.contains("points outside the package's folder"), "{said}");
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
    error: pier 1.0.0: [registry]/pier/-/pier-1.0.0.tgz answered with HTTP status 403
    what to do: access denied: check the address (`shtetl addresses`) and its access rules
    more: shtetl explain download-status
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
    assert_eq!(said.code, 1, "the invented runtime is not in that path: {said}");
    insta::assert_snapshot!(error_of(&app_with(&pier()).run("build app")), @r#"
    error: no address is configured for npm packages
    what to do: in shtetl.toml, under [addresses]: npm = "URL or folder"; or --address npm=WHERE
    more: shtetl explain config-no-address
    "#);
}

#[test]
fn a_stale_lock_and_a_missing_lock_are_told() {
    let program = app_with(&pier());
    program.edit("app/package.json", "\"pier\":\"1\"", "\"pier\":\"2\"");
    insta::assert_snapshot!(program.run("build app"), @r#"
    --- stderr
    error: 1 problem found before the build started
      lock-stale  package-lock.json: package.json requires pier "2", but the lockfile has "1"
        what to do: run `npm install --package-lock-only` and commit the result
    what to do: correct this, or build anyway with --anyway
    --- exit 1
    "#);
    std::fs::remove_file(program.path("app/package-lock.json")).unwrap();
    insta::assert_snapshot!(program.run("build app"), @r#"
    --- stderr
    error: no address is configured for npm packages
    what to do: in shtetl.toml, under [addresses]: npm = "URL or folder"; or --address npm=WHERE
    more: shtetl explain config-no-address
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
    error: [place]/index has no locked file of buoy 2.0 that fits the image
      offered: buoy-1.0-py3-none-any.whl
    what to do: lock a version that has a wheel for this Python and platform, or its source archive with its hash
    more: shtetl explain package-no-usable-file
    ");
}

#[test]
fn packages_that_overwrite_each_other_are_told() {
    let program = program();
    program.write("app/shtetl.toml", ON_HOST);
    program.write("app/app.py", "if __name__ == \"__main__\":\n    pass\n");
    let mut locked = String::new();
    for (name, text) in [("buoy", "same = 1"), ("fog", "same = 2")] {
        let inside =
            [("signals.py", text), ("common.py", "")].map(|(path, text)| (path.to_owned(), text.into()));
        let metadata = format!("Metadata-Version: 2.1\nName: {name}\nVersion: 1.0\n");
        let bytes = wheel(name, "1.0", &inside.to_vec(), &metadata, "");
        let (file, hash) = (format!("{name}-1.0-py3-none-any.whl"), sha256_hex(&bytes));
        program.write(&format!("index/{name}/{file}"), &bytes);
        program.write(
            &format!("index/{name}/index.html"),
            format!("<a href=\"{file}#sha256={hash}\">{file}</a>"),
        );
        locked.push_str(&format!("{name}==1.0 --hash=sha256:{hash}\n"));
    }
    program.write("app/requirements.txt", locked);
    let said = program.succeed("build app --address pypi=index");
    let told = "note: packages overwrite files of other packages or of the runtime: ";
    let line = said.stderr.lines().find_map(|line| line.strip_prefix(told));
    assert!(line.is_some_and(|line| line.ends_with("/signals.py")), "{said}");
}

#[test]
fn a_connection_that_was_cut_goes_on_where_it_ended() {
    let whole = pier();
    let cut = Reply { cut_after: Some(40), ..Reply::of(whole.clone()) };
    let range = format!("content-range: bytes 40-{}/{}", whole.len() - 1, whole.len());
    let rest = Reply { status: 206, ..Reply::of(&whole[40..]).with(&range) };
    let (program, registry) = (app_with(&whole), Registry::start());
    program.write("app/a.js", "");
    registry.answer(PLACE, vec![cut, rest]);
    let _ = program.succeed(&format!("build app --address npm={}", registry.url()));
    assert!(registry.requests(PLACE)[1].contains(&"range: bytes=40-".to_owned()));
}

#[test]
fn what_was_missing_once_is_asked_for_again_and_a_slow_answer_is_waited_for() {
    let (program, registry) = (app_with(&pier()), Registry::start());
    program.write("app/a.js", "");
    let slow = Reply { delay: Duration::from_millis(1200), ..Reply::of(pier()) };
    registry.answer(PLACE, vec![Reply::status(404), slow]);
    let build = format!("build app --address npm={}", registry.url());
    assert_eq!(program.run(&build).code, 1);
    let _ = program.succeed(&build);
}

#[test]
fn a_login_is_not_sent_along_when_a_registry_sends_on_to_another_server() {
    let (program, registry, other) = (app_with(&pier()), Registry::start(), Registry::start());
    program.write("app/a.js", "");
    program.write(
        "app/.npmrc",
        format!("registry={0}\n//{1}/:_authToken=harbour-token\n", registry.url(), registry.host()),
    );
    let onward = Reply::status(302).with(&format!("location: {}/elsewhere.tgz", other.url()));
    registry.answer(PLACE, vec![onward]);
    other.answer("/elsewhere.tgz", vec![Reply::of(pier())]);
    let said = program.succeed("build app");
    let sent =
        |requests: Vec<Vec<String>>| requests.concat().iter().any(|line| line.contains("harbour-token"));
    assert!(sent(registry.requests(PLACE)) && !sent(other.requests("/elsewhere.tgz")));
    assert!(!said.to_string().contains("harbour-token"));
}

#[test]
fn archives_of_npm_are_taken_as_npm_takes_them() {
    // Of two entries of a name the later counts, names that differ in case are two, rules are renamed.
    let mut entries = files(&["package/Fog.js", "package/fog.js", "package/.gitignore"]);
    entries.push(("package/fog.js".to_owned(), b"the later one".to_vec()));
    let archive = tarball(&entries);
    let (program, registry) = (app_with(&archive), Registry::start());
    program.write("app/a.js", "");
    registry.answer(PLACE, vec![Reply::of(archive)]);
    let _ = program.succeed(&format!("build app --layout image --address npm={}", registry.url()));
    insta::assert_snapshot!(crate::debian::layer(&program.path("image"), 2).0, @"
    0755 0:0 app/
    0755 0:0 app/node_modules/
    0755 0:0 app/node_modules/pier/
    0644 0:0 app/node_modules/pier/.npmignore
    0644 0:0 app/node_modules/pier/Fog.js
    0644 0:0 app/node_modules/pier/fog.js
    ");
    // What lies inside a file cannot be put down.
    let clash = tarball(&files(&["package/fog", "package/fog/horn.js"]));
    let (said, _) = build_with(&clash, vec![Reply::of(clash.clone())]);
    assert!(said.stderr.contains("is inside a file"), "{said}");
}

/// A wheel of two files of the same length, with every `from` in its bytes replaced.
fn forged_wheel(names: [&str; 2], from: &[u8], to: &[u8]) -> Vec<u8> {
    let metadata = "Metadata-Version: 2.1\nName: buoy\nVersion: 1.0\n";
    let contents = names.map(|name| (name.to_owned(), vec![b' '; 70_000]));
    let mut bytes = wheel("buoy", "1.0", &contents.to_vec(), metadata, "");
    for at in 0..bytes.len() - from.len() {
        if bytes[at..].starts_with(from) {
            bytes[at..at + to.len()].copy_from_slice(to);
        }
    }
    bytes
}

#[test]
fn wheels_that_lie_about_their_files_are_refused() {
    let length = 70_000_u32.to_le_bytes();
    for (bytes, expected) in [
        (forged_wheel(["a.py", "b.py"], b"b.py", b"/.py"), "points outside the package's folder"),
        (forged_wheel(["a.py", "b.py"], &length, &10_u32.to_le_bytes()), "cannot be used"),
        (forged_wheel(["a.py", "b.py"], &length, &u32::MAX.to_le_bytes()[..3]), "cannot be used"),
    ] {
        let program = program();
        program.write("app/shtetl.toml", ON_HOST);
        program.write("app/app.py", "if __name__ == \"__main__\":\n    pass\n");
        program.write("app/buoy-1.0-py3-none-any.whl", &bytes);
        let hash = sha256_hex(&bytes);
        program.write("app/requirements.txt", format!("./buoy-1.0-py3-none-any.whl --hash=sha256:{hash}\n"));
        let said = program.run("build app");
        assert!(said.code == 1 && said.stderr.contains(expected), "{expected}: {said}");
    }
}

#[test]
fn archives_that_hold_far_more_than_they_are_long_are_refused() {
    let zeros = vec![("zeros.bin".to_owned(), vec![0; 140 << 20])];
    let bomb = npm_tarball(&zeros);
    insta::assert_snapshot!(build_with(&bomb, vec![Reply::of(bomb.clone())]).0, @"
    --- stderr
    error: the archive of pier 1.0.0 cannot be used: it unpacks to more than 128 MiB, over 200 times its own length
    what to do: do not use it; ask the registry or the package's author
    more: shtetl explain package-damaged
    --- exit 1
    ");
    let program = program();
    program.write("app/shtetl.toml", ON_HOST);
    program.write("app/app.py", "if __name__ == \"__main__\":\n    pass\n");
    let bomb = wheel("buoy", "1.0", &zeros, "Metadata-Version: 2.1\nName: buoy\nVersion: 1.0\n", "");
    program.write("app/buoy-1.0-py3-none-any.whl", &bomb);
    let hash = sha256_hex(&bomb);
    program.write("app/requirements.txt", format!("./buoy-1.0-py3-none-any.whl --hash=sha256:{hash}\n"));
    insta::assert_snapshot!(error_of(&program.run("build app")), @"
    error: the archive of buoy 1.0 cannot be used: it unpacks to more than 128 MiB, over 200 times its own length
    what to do: do not use it; ask the registry or the package's author
    more: shtetl explain package-damaged
    ");
}

#[test]
fn locks_of_ten_thousand_packages_are_read() {
    let npm = |n: usize| format!(r#","node_modules/p{n}":{{"version":"1.0.{n}","integrity":"sha512-AAAA"}}"#);
    let yarn = |n: usize| format!("\np{n}@*:\n  version \"1.0.{n}\"\n  integrity sha512-AAAA\n");
    let pnpm = |n: usize| format!("  p{n}@1.0.{n}:\n    resolution: {{integrity: sha512-AAAA}}\n");
    let bun = |n: usize| format!("\"p{n}\": [\"p{n}@1.0.{n}\", \"\", {{}}, \"sha512-AAAA\"],\n");
    let all = |one: &dyn Fn(usize) -> String| (0..10_000).map(one).collect::<String>();
    let wanted = all(&|n| format!("{}\"p{n}\":\"*\"", if n == 0 { "" } else { "," }));
    let chosen = all(&|n| format!("      p{n}: {{specifier: '*', version: 1.0.{n}}}\n"));
    for (file, text) in [
        (
            "package-lock.json",
            format!(
                "{{\"lockfileVersion\":3,\"packages\":{{\"\":{{\"dependencies\":{{{wanted}}}}}{}}}}}",
                all(&npm)
            ),
        ),
        ("yarn.lock", format!("# yarn lockfile v1\n{}", all(&yarn))),
        (
            "pnpm-lock.yaml",
            format!(
                "lockfileVersion: '6.0'\nimporters:\n  .:\n    dependencies:\n{chosen}packages:\n{}",
                all(&pnpm)
            ),
        ),
        (
            "bun.lock",
            format!(
                "{{\"lockfileVersion\":1,\"workspaces\":{{\"\":{{\"dependencies\":{{{wanted}}}}}}},\"packages\":{{{}}}}}",
                all(&bun)
            ),
        ),
    ] {
        let program = program();
        program.write(
            "app/package.json",
            format!("{{\"scripts\":{{\"start\":\"node a.js\"}},\"dependencies\":{{{wanted}}}}}"),
        );
        program.write(&format!("app/{file}"), text);
        let lock = program.json("survey app")["survey"]["findings"][0]["lock"].clone();
        assert_eq!((lock["file"].as_str(), lock["packages"].as_u64()), (Some(file), Some(10_000)));
    }
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
        (r#"{"1.0.0":{}}"#, "no problems found"),
    ] {
        registry.answer("/pier", vec![Reply::of(format!(r#"{{"versions":{versions}}}"#))]);
        let said = program.run(&format!("{check} --online")).stdout;
        assert!(said.contains(expected), "{said}");
    }
    let asked = registry.count("/pier");
    let said = program.succeed(&check).stdout;
    assert!(said.contains("no problems found") && registry.count("/pier") == asked, "{said}");
}

#[test]
fn a_package_that_nothing_locks_a_hash_of_is_pinned_by_what_came_first() {
    let program = program();
    program.write("app/a.js", "");
    program.write("app/package.json", r#"{"dependencies":{"pier":"1"},"scripts":{"start":"node a.js"}}"#);
    let lock = r#"{"lockfileVersion":3,"packages":{"":{"dependencies":{"pier":"1"}},"node_modules/pier":{"version":"1.0.0"}}}"#;
    program.write("app/package-lock.json", lock);
    program.write("app/shtetl.toml", format!("{ON_HOST}[addresses]\nnpm = \"../npm\"\n"));
    program.write("npm/pier/-/pier-1.0.0.tgz", pier());
    assert_ne!(program.run("build app --locked").code, 0, "nothing is pinned yet");
    let digest = program.json("build app")["digest"].clone();
    let pins = std::fs::read_to_string(program.path("app/shtetl.lock")).unwrap();
    assert!(pins.contains("[hashes.\"npm\"]") && pins.contains(&sha256_hex(&pier())), "{pins}");
    assert_eq!(program.json("build app --locked --store other")["digest"], digest);

    program.write("npm/pier/-/pier-1.0.0.tgz", npm_tarball(&files(&["index.js"])));
    for pinning in ["", " --locked"] {
        let said = program.run(&format!("build app --store third{pinning}"));
        assert_eq!(said.code, 1, "{said}");
        assert!(error_of(&said).starts_with("error: pier 1.0.0: "), "{said}");
    }
    let _ = program.succeed("build app --update --store third");
    assert_ne!(program.json("build app --locked --store third")["digest"], digest);
}

#[test]
fn names_that_hide_files_of_lower_layers_get_into_no_layer() {
    for name in ["package/.wh.index.js", "package/lib/.wh..wh..opq", "package/.wh.lib/index.js"] {
        let hostile = tarball(&files(&["package/index.js", name]));
        let (said, _) = build_with(&hostile, vec![Reply::of(hostile.clone())]);
        assert_eq!(said.code, 1, "{name}: {said}");
        assert!(said.stderr.contains("would hide files of lower layers"), "{name}: {said}");
    }
    // A source insists, and a build makes one.
    let program = program();
    program.write("app/package.json", r#"{"scripts":{"start":"node a.js"}}"#);
    program.write("app/a.js", "");
    program.write("app/.wh.etc", "");
    program.write("app/shtetl.toml", ON_HOST);
    insta::assert_snapshot!(error_of(&program.run("build app --anyway")), @r#"
    error: "app/.wh.etc" cannot be in a layer: the name would hide files of lower layers
    what to do: rename the file, or leave it out with [source] exclude; do not use a package that contains one
    more: shtetl explain content-whiteout
    "#);
}
