//! Lockfiles of every tool: the same app in all of them.

use crate::program;
use testkit::archives::{npm_tarball, sha512_integrity};
use testkit::program::{Program, Said};

const MANIFEST: &str = r#"{"name":"timetable","version":"1.0.0","scripts":{"start":"node server.js"},
    "dependencies":{"bell":"^1","tide":"npm:@kestrel/tide@^2"},"devDependencies":{"lint":"^1"}}"#;

/// Packages with what each needs.
const PACKAGES: [(&str, &str, &str); 5] = [
    ("bell", "1.2.0", r#","bin":"cli.js","dependencies":{"rope":"^1"}"#),
    ("@kestrel/tide", "2.0.0", r#","dependencies":{"rope":"^2"}"#),
    ("rope", "1.0.0", ""),
    ("rope", "2.1.0", ""),
    ("lint", "1.0.0", ""),
];

fn archive((name, version, facts): (&str, &str, &str)) -> Vec<u8> {
    let manifest = format!(r#"{{"name":"{name}","version":"{version}"{facts}}}"#);
    npm_tarball(&vec![
        ("package.json".into(), manifest.into()),
        ("cli.js".into(), format!("// {name}\n// {version}\n// rings\n").into()),
    ])
}

fn hash(name: &str, version: &str) -> String {
    let found = PACKAGES.into_iter().find(|package| (package.0, package.1) == (name, version));
    sha512_integrity(&archive(found.unwrap()))
}

/// The app, with all packages in the folder of a registry.
fn app() -> Program {
    let program = program();
    for package @ (name, version, _) in PACKAGES {
        let short = name.rsplit('/').next().unwrap();
        program.write(&format!("registry/{name}/-/{short}-{version}.tgz"), archive(package));
    }
    program.write("app/shtetl.toml", "[base]\nfrom = \"host\"\n");
    program.write("app/server.js", "");
    program.write("app/package.json", MANIFEST);
    program
}

/// The lockfile of every tool, in every form that is read.
fn lockfiles() -> Vec<(&'static str, String)> {
    let (bell, tide) = (hash("bell", "1.2.0"), hash("@kestrel/tide", "2.0.0"));
    let (one, two, lint) = (hash("rope", "1.0.0"), hash("rope", "2.1.0"), hash("lint", "1.0.0"));
    let npm = format!(
        r#"{{"lockfileVersion":3,"packages":{{
        "":{{"dependencies":{{"bell":"^1","tide":"npm:@kestrel/tide@^2"}},"devDependencies":{{"lint":"^1"}}}},
        "node_modules/bell":{{"version":"1.2.0","integrity":"{bell}","bin":{{"bell":"cli.js"}},"dependencies":{{"rope":"^1"}}}},
        "node_modules/lint":{{"version":"1.0.0","integrity":"{lint}","dev":true}},
        "node_modules/rope":{{"version":"1.0.0","integrity":"{one}"}},
        "node_modules/tide":{{"name":"@kestrel/tide","version":"2.0.0","integrity":"{tide}","dependencies":{{"rope":"^2"}}}},
        "node_modules/tide/node_modules/rope":{{"version":"2.1.0","integrity":"{two}"}}}}}}"#
    );
    let first = format!(
        r#"{{"lockfileVersion":1,"dependencies":{{
        "bell":{{"version":"1.2.0","integrity":"{bell}","requires":{{"rope":"^1"}}}},
        "lint":{{"version":"1.0.0","integrity":"{lint}","dev":true}},
        "rope":{{"version":"1.0.0","integrity":"{one}"}},
        "tide":{{"version":"npm:@kestrel/tide@2.0.0","integrity":"{tide}","requires":{{"rope":"^2"}},
            "dependencies":{{"rope":{{"version":"2.1.0","integrity":"{two}"}}}}}}}}}}"#
    );
    let classic = format!(
        "# yarn lockfile v1\n\n\nbell@^1:\n  version \"1.2.0\"\n  integrity {bell}\n  dependencies:\n    rope \"^1\"\n\n\
        lint@^1:\n  version \"1.0.0\"\n  integrity {lint}\n\nrope@^1:\n  version \"1.0.0\"\n  integrity {one}\n\n\
        rope@^2:\n  version \"2.1.0\"\n  integrity {two}\n\n\"tide@npm:@kestrel/tide@^2\":\n  version \"2.0.0\"\n  \
        integrity {tide}\n  dependencies:\n    rope \"^2\"\n"
    );
    let current = "__metadata:\n  version: 8\n\n\"bell@npm:^1\":\n  version: 1.2.0\n  resolution: \"bell@npm:1.2.0\"\n  \
        dependencies:\n    rope: \"npm:^1\"\n  bin:\n    bell: cli.js\n  linkType: hard\n\n\
        \"lint@npm:^1\":\n  version: 1.0.0\n  resolution: \"lint@npm:1.0.0\"\n  linkType: hard\n\n\
        \"rope@npm:^1\":\n  version: 1.0.0\n  resolution: \"rope@npm:1.0.0\"\n  linkType: hard\n\n\
        \"rope@npm:^2\":\n  version: 2.1.0\n  resolution: \"rope@npm:2.1.0\"\n  linkType: hard\n\n\
        \"tide@npm:@kestrel/tide@^2\":\n  version: 2.0.0\n  resolution: \"@kestrel/tide@npm:2.0.0\"\n  \
        dependencies:\n    rope: \"npm:^2\"\n  linkType: hard\n\n\
        \"timetable@workspace:.\":\n  version: 0.0.0-use.local\n  resolution: \"timetable@workspace:.\"\n  linkType: soft\n"
        .to_owned();
    let importer = "dependencies:\n  bell:\n    specifier: ^1\n    version: 1.2.0\n  tide:\n    \
        specifier: npm:@kestrel/tide@^2\n    version: TIDE\n\ndevDependencies:\n  lint:\n    specifier: ^1\n    version: 1.0.0\n";
    let sixth = format!(
        "lockfileVersion: '6.0'\n\n{}\npackages:\n\n  /@kestrel/tide@2.0.0:\n    resolution: {{integrity: {tide}}}\n    dependencies:\n      \
        rope: 2.1.0\n\n  /bell@1.2.0:\n    resolution: {{integrity: {bell}}}\n    hasBin: true\n    dependencies:\n      rope: 1.0.0\n\n  \
        /lint@1.0.0:\n    resolution: {{integrity: {lint}}}\n    dev: true\n\n  /rope@1.0.0:\n    resolution: {{integrity: {one}}}\n\n  \
        /rope@2.1.0:\n    resolution: {{integrity: {two}}}\n",
        importer.replace("TIDE", "/@kestrel/tide@2.0.0")
    );
    let ninth = format!(
        "lockfileVersion: '9.0'\n\nimporters:\n\n  .:\n    {}\npackages:\n\n  '@kestrel/tide@2.0.0':\n    resolution: {{integrity: {tide}}}\n\n  \
        bell@1.2.0:\n    resolution: {{integrity: {bell}}}\n    hasBin: true\n\n  lint@1.0.0:\n    resolution: {{integrity: {lint}}}\n\n  \
        rope@1.0.0:\n    resolution: {{integrity: {one}}}\n\n  rope@2.1.0:\n    resolution: {{integrity: {two}}}\n\nsnapshots:\n\n  \
        '@kestrel/tide@2.0.0':\n    dependencies:\n      rope: 2.1.0\n\n  bell@1.2.0:\n    dependencies:\n      rope: 1.0.0\n\n  \
        lint@1.0.0: {{}}\n\n  rope@1.0.0: {{}}\n\n  rope@2.1.0: {{}}\n",
        importer.replace("TIDE", "'@kestrel/tide@2.0.0'").trim_end().replace('\n', "\n    ") + "\n"
    );
    let bun = format!(
        r#"{{ "lockfileVersion": 1, "workspaces": {{ "": {{ "name": "timetable",
            "dependencies": {{ "bell": "^1", "tide": "npm:@kestrel/tide@^2", }}, "devDependencies": {{ "lint": "^1", }}, }}, }},
        "packages": {{
            "bell": ["bell@1.2.0", "", {{ "dependencies": {{ "rope": "^1" }}, "bin": {{ "bell": "cli.js" }} }}, "{bell}"],
            "lint": ["lint@1.0.0", "", {{}}, "{lint}"],
            "rope": ["rope@1.0.0", "", {{}}, "{one}"],
            "tide": ["@kestrel/tide@2.0.0", "", {{ "dependencies": {{ "rope": "^2" }} }}, "{tide}"],
            "tide/rope": ["rope@2.1.0", "", {{}}, "{two}"], }} }}"#
    );
    vec![
        ("package-lock.json", npm.clone()),
        ("npm-shrinkwrap.json", npm),
        ("package-lock.json", first),
        ("yarn.lock", classic),
        ("yarn.lock", current),
        ("pnpm-lock.yaml", sixth),
        ("pnpm-lock.yaml", ninth),
        ("bun.lock", bun),
    ]
}

/// What the layer of the packages holds.
fn packed(program: &Program) -> (String, String) {
    let _ = program.succeed("build app --address npm=registry --layout out");
    crate::debian::layer(&program.path("out"), 2)
}

#[test]
fn the_same_packages_are_put_down_whatever_locks_them() {
    let program = app();
    let mut digests = Vec::new();
    for (file, text) in lockfiles() {
        program.write(&format!("app/{file}"), &text);
        let (listing, digest) = packed(&program);
        std::fs::remove_file(program.path(&format!("app/{file}"))).unwrap();
        digests.push(digest);
        if digests.len() > 1 {
            continue;
        }
        insta::assert_snapshot!(listing, @"
        0755 0:0 app/
        0755 0:0 app/node_modules/
        0755 0:0 app/node_modules/.bin/
        0755 0:0 app/node_modules/bell/
        0755 0:0 app/node_modules/rope/
        0755 0:0 app/node_modules/tide/
        0755 0:0 app/node_modules/tide/node_modules/
        0755 0:0 app/node_modules/tide/node_modules/rope/
        0755 0:0 app/node_modules/bell/cli.js
        0644 0:0 app/node_modules/bell/package.json
        0644 0:0 app/node_modules/rope/cli.js
        0644 0:0 app/node_modules/rope/package.json
        0644 0:0 app/node_modules/tide/cli.js
        0644 0:0 app/node_modules/tide/package.json
        0644 0:0 app/node_modules/tide/node_modules/rope/cli.js
        0644 0:0 app/node_modules/tide/node_modules/rope/package.json
        0777 0:0 app/node_modules/.bin/bell -> ../bell/cli.js
        ");
    }
    assert!(digests.iter().all(|digest| *digest == digests[0]), "{digests:#?}");
}

/// What a build says, without the steps before an error.
fn refused(program: &Program) -> String {
    let said: Said = program.run("build app --address npm=registry");
    assert_ne!(said.code, 0, "{said}");
    let error = said.stderr.lines().skip_while(|line| !line.starts_with("error")).map(str::to_owned);
    error.take_while(|line| !line.starts_with("what to do")).collect::<Vec<_>>().join("\n")
}

#[test]
fn a_lockfile_that_is_older_than_its_manifest_is_refused_whatever_its_kind() {
    let program = app();
    program.edit("app/package.json", "\"bell\":", "\"mast\":\"^1\",\"bell\":");
    let mut told = Vec::new();
    for (file, text) in lockfiles() {
        program.write(&format!("app/{file}"), &text);
        told.push(refused(&program));
        std::fs::remove_file(program.path(&format!("app/{file}"))).unwrap();
    }
    insta::assert_snapshot!(told.join("\n"), @r#"
    error: 1 problem found before the build started
      lock-stale  package-lock.json: package.json requires mast "^1", but the lockfile has nothing
        what to do: run `npm install --package-lock-only` and commit the result
    error: 1 problem found before the build started
      lock-stale  npm-shrinkwrap.json: package.json requires mast "^1", but the lockfile has nothing
        what to do: run `npm install --package-lock-only` and commit the result
    error: 1 problem found before the build started
      lock-stale  package-lock.json: package.json needs mast, which is not locked
        what to do: run `npm install --package-lock-only` and commit the result
    error: 1 problem found before the build started
      lock-stale  yarn.lock: package.json needs mast@^1, which is not locked
        what to do: run `yarn install --mode update-lockfile` and commit the result
    error: 1 problem found before the build started
      lock-stale  yarn.lock: package.json needs mast@npm:^1, which is not locked
        what to do: run `yarn install --mode update-lockfile` and commit the result
    error: 1 problem found before the build started
      lock-stale  pnpm-lock.yaml: package.json requires mast "^1", but the lockfile has nothing
        what to do: run `pnpm install --lockfile-only` and commit the result
    error: 1 problem found before the build started
      lock-stale  pnpm-lock.yaml: package.json requires mast "^1", but the lockfile has nothing
        what to do: run `pnpm install --lockfile-only` and commit the result
    error: 1 problem found before the build started
      lock-stale  bun.lock: package.json requires mast "^1", but the lockfile has nothing
        what to do: run `bun install --lockfile-only` and commit the result
    "#);
    // A range that the locked version does not meet.
    program.write("app/package.json", MANIFEST.replace("\"bell\":\"^1\"", "\"bell\":\"^3\""));
    let mut told = Vec::new();
    for (file, text) in lockfiles() {
        program.write(&format!("app/{file}"), &text);
        told.push(refused(&program));
        std::fs::remove_file(program.path(&format!("app/{file}"))).unwrap();
    }
    insta::assert_snapshot!(told.join("\n"), @r#"
    error: 1 problem found before the build started
      lock-stale  package-lock.json: package.json requires bell "^3", but the lockfile has "^1"
        what to do: run `npm install --package-lock-only` and commit the result
    error: 1 problem found before the build started
      lock-stale  npm-shrinkwrap.json: package.json requires bell "^3", but the lockfile has "^1"
        what to do: run `npm install --package-lock-only` and commit the result
    error: 1 problem found before the build started
      lock-stale  package-lock.json: package.json requires bell "^3", but the lockfile has 1.2.0
        what to do: run `npm install --package-lock-only` and commit the result
    error: 1 problem found before the build started
      lock-stale  yarn.lock: package.json needs bell@^3, which is not locked
        what to do: run `yarn install --mode update-lockfile` and commit the result
    error: 1 problem found before the build started
      lock-stale  yarn.lock: package.json needs bell@npm:^3, which is not locked
        what to do: run `yarn install --mode update-lockfile` and commit the result
    error: 1 problem found before the build started
      lock-stale  pnpm-lock.yaml: package.json requires bell "^3", but the lockfile has "^1"
        what to do: run `pnpm install --lockfile-only` and commit the result
    error: 1 problem found before the build started
      lock-stale  pnpm-lock.yaml: package.json requires bell "^3", but the lockfile has "^1"
        what to do: run `pnpm install --lockfile-only` and commit the result
    error: 1 problem found before the build started
      lock-stale  bun.lock: package.json requires bell "^3", but the lockfile has "^1"
        what to do: run `bun install --lockfile-only` and commit the result
    "#);
}

const PATCH: &str = "diff --git a/cli.js b/cli.js\nindex 1..2 100644\n--- a/cli.js\n+++ b/cli.js\n@@ -1,3 +1,3 @@\n // rope\n // 1.0.0\n\
    -// rings\n+// hums\ndiff --git a/new.js b/new.js\nnew file mode 100755\nindex 0..1\n--- /dev/null\n+++ b/new.js\n@@ -0,0 +1 @@\n+// new\n";

#[test]
fn packages_are_changed_by_the_patches_that_a_lockfile_names() {
    let lockfiles = lockfiles();
    let text = |at: usize| lockfiles[at].1.clone();
    let current = text(4).replacen(
        "rope: \"npm:^1\"",
        "rope: \"patch:rope@npm%3A1.0.0#~/patches/rope.patch\"",
        1,
    ) + "\n\"rope@patch:rope@npm%3A1.0.0#~/patches/rope.patch\":\n  version: 1.0.0\n  \
            resolution: \"rope@patch:rope@npm%3A1.0.0#~/patches/rope.patch::version=1.0.0&hash=c0ffee\"\n  linkType: hard\n";
    let ninth = text(6)
        .replace("rope: 1.0.0", "rope: 1.0.0(patch_hash=c0ffee)")
        .replace("  rope@1.0.0: {}", "  rope@1.0.0(patch_hash=c0ffee): {}");
    let ninth = ninth.replace(
        "importers:",
        "patchedDependencies:\n  rope@1.0.0:\n    hash: c0ffee\n    path: patches/rope.patch\n\nimporters:",
    );
    let bun = text(7).replace(
        "\"packages\"",
        "\"patchedDependencies\": { \"rope@1.0.0\": \"patches/rope.patch\" }, \"packages\"",
    );
    let program = app();
    program.write("app/patches/rope.patch", PATCH);
    let mut digests = Vec::new();
    for (file, text) in [("yarn.lock", current), ("pnpm-lock.yaml", ninth), ("bun.lock", bun)] {
        program.write(&format!("app/{file}"), &text);
        let (listing, digest) = packed(&program);
        assert!(listing.contains("0755 0:0 app/node_modules/rope/new.js"), "{file}\n{listing}");
        digests.push(digest);
        if file != "bun.lock" {
            std::fs::remove_file(program.path(&format!("app/{file}"))).unwrap();
        }
    }
    assert!(digests.iter().all(|digest| *digest == digests[0]), "{digests:#?}");
    let said = program.succeed("build app --address npm=registry");
    assert!(said.stderr.contains("note: patched: rope 1.0.0 by patches/rope.patch"), "{said}");
    // Another patch is another package; one that does not fit, or is not there, ends the build.
    program.edit("app/patches/rope.patch", "+// hums", "+// sings");
    assert_ne!(packed(&program).1, digests[0]);
    program.edit("app/patches/rope.patch", " // rope", " // hawser");
    insta::assert_snapshot!(refused(&program), @"error: the archive of rope 1.0.0 cannot be used: the patch patches/rope.patch: it does not apply to cli.js");
    program.write("app/patches/rope.patch", PATCH.replace("/new.js", "/../../new.js"));
    insta::assert_snapshot!(refused(&program), @r#"error: the archive of rope 1.0.0 cannot be used: the patch patches/rope.patch: "../../new.js" points outside the package's folder"#);
    std::fs::remove_file(program.path("app/patches/rope.patch")).unwrap();
    insta::assert_snapshot!(refused(&program), @"
    error: bun.lock: it uses the patch patches/rope.patch, which is not in the source
    more: shtetl explain survey-malformed
    ");
}

#[test]
fn resolutions_of_the_manifest_are_followed() {
    let program = app();
    let manifest = MANIFEST.replace(
        "\"devDependencies\"",
        "\"resolutions\":{\"@kestrel/tide/rope\":\"^1\"},\"devDependencies\"",
    );
    program.write("app/package.json", manifest);
    program.write("app/yarn.lock", &lockfiles()[4].1);
    let (listing, _) = packed(&program);
    assert!(!listing.contains("tide/node_modules"), "{listing}");
}

#[test]
fn parts_of_an_app_and_their_development_packages_are_locked_with_it() {
    let program = app();
    let manifest = MANIFEST.replace("\"dependencies\"", "\"workspaces\":[\"parts/*\"],\"dependencies\"");
    program.write("app/package.json", manifest);
    program.write("app/parts/pier/package.json", r#"{"name":"@kestrel/pier","version":"1.0.0","dependencies":{"rope":"^2"},"devDependencies":{"lint":"^1"}}"#);
    let of_part = "\n\"@kestrel/pier@workspace:parts/pier\":\n  version: 0.0.0-use.local\n  resolution: \"@kestrel/pier@workspace:parts/pier\"\n  linkType: soft\n";
    let lockfiles = lockfiles();
    let importer = "  parts/pier:\n    dependencies:\n      rope:\n        specifier: ^2\n        version: 2.1.0\n    devDependencies:\n      \
        lint:\n        specifier: ^1\n        version: 1.0.0\n\npackages:";
    let mut digests = Vec::new();
    for (file, text) in [
        ("yarn.lock", lockfiles[3].1.clone()),
        ("yarn.lock", lockfiles[4].1.clone() + of_part),
        ("pnpm-lock.yaml", lockfiles[6].1.replace("packages:", importer)),
    ] {
        program.write(&format!("app/{file}"), &text);
        let (listing, digest) = packed(&program);
        assert!(listing.contains("app/node_modules/@kestrel/pier -> ../../parts/pier"), "{file}\n{listing}");
        assert!(!listing.contains("lint"), "{file}\n{listing}");
        digests.push(digest);
        std::fs::remove_file(program.path(&format!("app/{file}"))).unwrap();
    }
    assert!(digests.iter().all(|digest| *digest == digests[0]), "{digests:#?}");
    // The part asks for more than the lockfile knows of it.
    program.write("app/pnpm-lock.yaml", lockfiles[6].1.replace("packages:", importer));
    program.edit("app/parts/pier/package.json", "\"lint\":\"^1\"", "\"lint\":\"^1\",\"mast\":\"^1\"");
    insta::assert_snapshot!(refused(&program), @r#"
    error: 1 problem found before the build started
      lock-stale  pnpm-lock.yaml: parts/pier/package.json requires mast "^1", but the lockfile has nothing
        what to do: run `pnpm install --lockfile-only` and commit the result
    "#);
}
