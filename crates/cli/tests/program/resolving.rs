//! Packages that no lockfile says, and packages that come from places of their own.

use crate::program;
use testkit::archives::{Files, npm_tarball, sha256_hex, sha512_integrity, wheel};
use testkit::program::Program;
use testkit::registry::{Registry, Reply};

const ON_HOST: &str = "[base]\nfrom = \"host\"\n";

/// Puts a wheel into the index; `tags` end its name, `attributes` are those of its link.
fn offer_wheel(program: &Program, project: &str, version: &str, tags: &str, needs: &str, attributes: &str) {
    let metadata = format!("Metadata-Version: 2.1\nName: {project}\nVersion: {version}\n{needs}");
    let bytes = wheel(project, version, &vec![(format!("{project}.py"), b"".to_vec())], &metadata, "");
    let file = format!("{project}-{version}-{tags}.whl");
    program.write(&format!("index/{project}/{file}"), &bytes);
    let page = program.path(&format!("index/{project}/index.html"));
    let before = std::fs::read_to_string(&page).unwrap_or_default();
    let link = format!("<a href=\"{file}#sha256={}\" {attributes}>{file}</a>\n", sha256_hex(&bytes));
    program.write(&format!("index/{project}/index.html"), before + &link);
}

fn python_app(requirements: &str) -> Program {
    let program = program();
    program.write("app/shtetl.toml", ON_HOST);
    program.write("app/app.py", "if __name__ == \"__main__\":\n    pass\n");
    program.write("app/requirements.txt", requirements);
    let pure = "py3-none-any";
    offer_wheel(&program, "fog", "1.0", pure, "", "");
    offer_wheel(
        &program,
        "fog",
        "1.4",
        pure,
        "Requires-Dist: buoy<2\nRequires-Dist: horn; extra == 'loud'\n",
        "",
    );
    offer_wheel(&program, "fog", "1.5", pure, "", "data-yanked=\"leaks\"");
    offer_wheel(&program, "fog", "1.6", pure, "", "data-requires-python=\"&lt;3\"");
    offer_wheel(&program, "fog", "1.7", "cp27-cp27m-win32", "", "");
    offer_wheel(&program, "fog", "2.0b1", pure, "", "");
    offer_wheel(&program, "buoy", "1.0", pure, "Requires-Dist: colours; sys_platform == 'win32'\n", "");
    offer_wheel(&program, "buoy", "2.0", pure, "", "");
    offer_wheel(&program, "horn", "3.1", pure, "", "");
    program
}

/// Name and version of everything that is pinned for a language.
fn pinned(program: &Program, language: &str) -> Vec<String> {
    let pins: toml::Table =
        std::fs::read_to_string(program.path("app/shtetl.lock")).unwrap().parse().unwrap();
    let sets = pins["resolved"][language].as_table().unwrap();
    let packages = sets.values().flat_map(|set| set["packages"].as_array().unwrap());
    let text =
        |package: &toml::Value, key: &str| package.get(key).map_or("", |v| v.as_str().unwrap()).to_owned();
    packages
        .map(|p| format!("{} {} {}", text(p, "path"), text(p, "name"), text(p, "version")).trim().to_owned())
        .collect()
}

#[test]
fn requirements_are_resolved_once_and_pinned() {
    let program = python_app("-r more.txt\n-c limits.txt\n");
    program.write("app/more.txt", "Fog[loud]>=1  # the newest that can be had\n");
    program.write("app/limits.txt", "horn<4\ncolours==1\n");
    let first = program.succeed("build app --address pypi=index");
    assert!(first.stderr.contains("requirements.txt locks no versions: they were resolved"), "{first}");
    assert_eq!(pinned(&program, "python"), ["buoy 1.0", "fog 1.4", "horn 3.1"]);
    // What is newer does not matter until somebody asks for it.
    offer_wheel(&program, "fog", "1.8", "py3-none-any", "", "");
    let _ = program.succeed("build app --locked --offline --address pypi=index");
    assert_eq!(pinned(&program, "python"), ["buoy 1.0", "fog 1.4", "horn 3.1"]);
    let moved = program.succeed("build app --update --address pypi=index");
    assert!(moved.stderr.contains("moved in shtetl.lock: fog 1.4 to 1.8"), "{moved}");
    assert_eq!(pinned(&program, "python"), ["fog 1.8"]);
    // What is asked for anew keeps the rest where it was.
    program.write("app/more.txt", "fog\nbuoy==1.0\n");
    let refused = program.run("build app --locked --address pypi=index");
    assert_eq!(refused.code, 1, "{refused}");
    let _ = program.succeed("build app --address pypi=index");
    assert_eq!(pinned(&program, "python"), ["buoy 1.0", "fog 1.8"]);
}

#[test]
fn requirements_that_exclude_each_other_are_explained() {
    let program = python_app("fog==1.4\nbuoy>=2\n");
    insta::assert_snapshot!(program.run("build app --address pypi=index"), @"
    --- stderr
    error: no set of packages meets everything that is asked for
      the app wants buoy >=2
      the app wants fog ==1.4
      fog 1.4 wants buoy <2
    what to do: change one of these requirements, or choose another version of the runtime
    --- exit 1
    ");
    program.write("app/requirements.txt", "fog>=7\n");
    insta::assert_snapshot!(program.run("build app --address pypi=index"), @"
    --- stderr
    error: no set of packages meets everything that is asked for
      the app wants fog >=7
      the newest fog with a wheel for Python 3.11 x86_64 glibc 2.28 is 2.0b1
    what to do: change one of these requirements, or choose another version of the runtime
    --- exit 1
    ");
    program.write("app/requirements.txt", "tide\n");
    insta::assert_snapshot!(program.run("build app --address pypi=index"), @"
    --- stderr
    error: no set of packages meets everything that is asked for
      the app wants tide
      no index that was asked has tide
    what to do: change one of these requirements, or choose another version of the runtime
    --- exit 1
    ");
}

/// Puts a package with these versions into the folder of a registry.
fn offer_npm(program: &Program, name: &str, versions: &[(&str, &str)]) {
    let mut offered = Vec::new();
    for (version, facts) in versions {
        let files: Files = vec![
            ("package.json".into(), format!(r#"{{"name":"{name}","version":"{version}"}}"#).into()),
            ("cli.js".into(), format!("// {name} {version}").into()),
        ];
        let bytes = npm_tarball(&files);
        let short = name.rsplit('/').next().unwrap();
        program.write(&format!("registry/{name}/-/{short}-{version}.tgz"), &bytes);
        let dist = format!(r#""dist":{{"integrity":"{}"}}"#, sha512_integrity(&bytes));
        offered.push(format!(r#""{version}":{{{dist}{facts}}}"#));
    }
    let latest = versions.last().unwrap().0;
    let document = format!(r#"{{"dist-tags":{{"latest":"{latest}"}},"versions":{{{}}}}}"#, offered.join(","));
    program.write(&format!("registry/{name}/index.json"), document);
}

#[test]
fn ranges_are_resolved_and_everybody_finds_the_right_version() {
    let program = program();
    program.write("app/shtetl.toml", ON_HOST);
    program.write("app/server.js", "");
    let manifest = r#"{"scripts":{"start":"node server.js"},
        "dependencies":{"bell":"^1","tide":"npm:@kestrel/tide@*","rope":"^2"},
        "optionalDependencies":{"mac-bell":"1","gone":"1"}}"#;
    program.write("app/package.json", manifest);
    let needs = r#","dependencies":{"rope":"^1"},"bin":"cli.js","peerDependencies":{"wood":"1","tin":"1"},
        "peerDependenciesMeta":{"tin":{"optional":true}}"#;
    offer_npm(&program, "bell", &[("1.0.0", ""), ("1.2.0", needs), ("2.0.0", "")]);
    offer_npm(&program, "@kestrel/tide", &[("1.0.0", r#","dependencies":{"rope":"1.x"}"#)]);
    offer_npm(&program, "rope", &[("1.0.0", ""), ("1.1.0", ""), ("2.1.0", "")]);
    offer_npm(
        &program,
        "wood",
        &[("1.0.0", r#","engines":{"node":">=99"}"#), ("1.0.1", r#","deprecated":"rots""#)],
    );
    offer_npm(&program, "mac-bell", &[("1.0.0", r#","os":["darwin"]"#)]);
    let built = program.succeed("build app --address npm=registry");
    assert!(built.stderr.contains("package.json locks no versions"), "{built}");
    assert_eq!(
        pinned(&program, "node"),
        [
            "node_modules/bell bell 1.2.0",
            "node_modules/bell/node_modules/rope rope 1.1.0",
            "node_modules/mac-bell mac-bell 1.0.0",
            "node_modules/rope rope 2.1.0",
            "node_modules/tide @kestrel/tide 1.0.0",
            "node_modules/tide/node_modules/rope rope 1.1.0",
            "node_modules/wood wood 1.0.1",
        ]
    );
    assert!(!program.run("show app --packages").stdout.contains("mac-bell"));
    let _ = program.succeed("build app --locked --offline");
    program.edit("app/package.json", "\"bell\":\"^1\"", "\"bell\":\"^3\"");
    insta::assert_snapshot!(program.run("build app --address npm=registry"), @"
    --- stderr
    error: no set of packages meets everything that is asked for
      the app wants bell ^3
      there is no such version of bell; the newest is 2.0.0
    what to do: change one of these requirements, or choose another version of the runtime
    --- exit 1
    ");
}

#[test]
fn a_scope_comes_from_its_own_place_only_and_its_token_goes_nowhere_else() {
    let program = program().with("FERRY_TOKEN", "tide-table-9");
    let bytes = npm_tarball(&vec![("index.js".into(), b"// tide".to_vec())]);
    let own = Registry::guarded(|headers| {
        let known = headers.iter().any(|h| h.eq_ignore_ascii_case("authorization: Bearer tide-table-9"));
        (!known).then(|| Reply::status(401))
    });
    let public = Registry::start();
    own.answer("/@kestrel/tide/-/tide-1.0.0.tgz", vec![Reply::of(bytes.clone())]);
    public.answer("/pier/-/pier-1.0.0.tgz", vec![Reply::of(bytes.clone())]);
    public.answer("/@kestrel/tide/-/tide-1.0.0.tgz", vec![Reply::of("something else")]);
    let npmrc = format!(
        "registry={}\n@kestrel:registry={}/\n//{}/:_authToken=${{FERRY_TOKEN}}\n",
        public.url(),
        own.url(),
        own.host()
    );
    program.write("app/.npmrc", npmrc);
    program.write("app/shtetl.toml", ON_HOST);
    program.write("app/server.js", "");
    program.write(
        "app/package.json",
        r#"{"scripts":{"start":"node server.js"},"dependencies":{"pier":"1","@kestrel/tide":"1"}}"#,
    );
    let hash = sha512_integrity(&bytes);
    // The lockfile was made where the scope was not bound: what it says of the place does not count.
    let lock = format!(
        r#"{{"lockfileVersion":3,"packages":{{"":{{"dependencies":{{"pier":"1","@kestrel/tide":"1"}}}},
        "node_modules/pier":{{"version":"1.0.0","integrity":"{hash}"}},
        "node_modules/@kestrel/tide":{{"version":"1.0.0","integrity":"{hash}",
        "resolved":"{}/@kestrel/tide/-/tide-1.0.0.tgz"}}}}}}"#,
        public.url()
    );
    program.write("app/package-lock.json", lock);
    let built = program.succeed("build app --layout out");
    assert_eq!(public.count("/@kestrel/tide/-/tide-1.0.0.tgz"), 0);
    let sent = public.requests("/pier/-/pier-1.0.0.tgz");
    assert!(
        sent.iter().flatten().all(|header| !header.to_lowercase().starts_with("authorization")),
        "{sent:?}"
    );
    let packed = crate::debian::layer(&program.path("out"), 3).0;
    assert!(packed.contains("app/server.js") && !packed.contains(".npmrc"), "{packed}");
    assert!(!format!("{built}").contains("tide-table-9"));
}

#[test]
fn parts_of_the_app_archives_and_carried_packages_are_put_where_npm_puts_them() {
    let program = program();
    program.write("app/shtetl.toml", ON_HOST);
    program.write("app/server.js", "");
    let manifest = r#"{"scripts":{"start":"node server.js"},"workspaces":["parts/*"],
        "dependencies":{"box":"file:box.tgz","crate":"1"}}"#;
    program.write("app/package.json", manifest);
    program.write("app/parts/bell/package.json", r#"{"name":"@kestrel/bell","bin":"ring.js"}"#);
    program.write("app/parts/bell/ring.js", "#!/usr/bin/env node\n");
    let archive = npm_tarball(&vec![("index.js".into(), b"// box".to_vec())]);
    program.write("app/box.tgz", &archive);
    let carrier = npm_tarball(&vec![
        ("package.json".into(), br#"{"name":"crate","bin":{"open":"open.js"}}"#.to_vec()),
        ("open.js".into(), b"// open".to_vec()),
        ("node_modules/inner/cli.js".into(), b"// inner".to_vec()),
    ]);
    program.write("registry/crate/-/crate-1.0.0.tgz", &carrier);
    let lock = format!(
        r#"{{"lockfileVersion":3,"packages":{{
        "":{{"dependencies":{{"box":"file:box.tgz","crate":"1"}},"workspaces":["parts/*"]}},
        "parts/bell":{{"name":"@kestrel/bell","bin":{{"bell":"ring.js"}}}},
        "node_modules/@kestrel/bell":{{"resolved":"parts/bell","link":true}},
        "node_modules/box":{{"version":"1.0.0","resolved":"file:box.tgz","integrity":"{}"}},
        "node_modules/crate":{{"version":"1.0.0","integrity":"{}","bin":{{"open":"open.js"}},"dependencies":{{"inner":"1"}}}},
        "node_modules/crate/node_modules/inner":{{"version":"1.0.0","inBundle":true,"bin":{{"inner":"cli.js"}}}}}}}}"#,
        sha512_integrity(&archive),
        sha512_integrity(&carrier)
    );
    program.write("app/package-lock.json", lock);
    let _ = program.succeed("build app --address npm=registry --layout out");
    insta::assert_snapshot!(crate::debian::layer(&program.path("out"), 2).0, @"
    0755 0:0 app/
    0755 0:0 app/node_modules/
    0755 0:0 app/node_modules/.bin/
    0755 0:0 app/node_modules/@kestrel/
    0755 0:0 app/node_modules/box/
    0755 0:0 app/node_modules/crate/
    0755 0:0 app/node_modules/crate/node_modules/
    0755 0:0 app/node_modules/crate/node_modules/.bin/
    0755 0:0 app/node_modules/crate/node_modules/inner/
    0644 0:0 app/node_modules/box/index.js
    0755 0:0 app/node_modules/crate/node_modules/
    0755 0:0 app/node_modules/crate/node_modules/inner/
    0755 0:0 app/node_modules/crate/node_modules/inner/cli.js
    0755 0:0 app/node_modules/crate/open.js
    0644 0:0 app/node_modules/crate/package.json
    0777 0:0 app/node_modules/.bin/bell -> ../@kestrel/bell/ring.js
    0777 0:0 app/node_modules/.bin/open -> ../crate/open.js
    0777 0:0 app/node_modules/@kestrel/bell -> ../../parts/bell
    0777 0:0 app/node_modules/crate/node_modules/.bin/inner -> ../inner/cli.js
    ");
}

#[test]
fn what_a_lockfile_does_not_say_the_packages_do() {
    let program = program();
    program.write("app/shtetl.toml", ON_HOST);
    program.write("app/server.js", "");
    let manifest = r#"{"scripts":{"start":"node server.js"},"dependencies":{"bell":"^1"},
        "optionalDependencies":{"mac":"^1","tide-win32-x64":"^1"}}"#;
    program.write("app/package.json", manifest);
    // Of the last one there is no archive: its name says enough.
    let lock = "# yarn lockfile v1\n\n\nbell@^1:\n  version \"1.0.0\"\n\nmac@^1:\n  version \"1.0.0\"\n  \
        dependencies:\n    only-mac \"1\"\n\nonly-mac@1:\n  version \"1.0.0\"\n\ntide-win32-x64@^1:\n  version \"1.0.0\"\n";
    program.write("app/yarn.lock", lock);
    let offer = |name: &str, facts: &str| {
        let manifest = format!(r#"{{"name":"{name}","version":"1.0.0"{facts}}}"#);
        let files = vec![("package.json".into(), manifest.into()), ("ring.js".into(), b"//".to_vec())];
        program.write(&format!("registry/{name}/-/{name}-1.0.0.tgz"), npm_tarball(&files));
    };
    offer("bell", r#","bin":"./ring.js","license":"MIT""#);
    offer("mac", r#","os":["darwin"]"#);
    offer("only-mac", "");
    let _ = program.succeed("build app --address npm=registry --layout out");
    insta::assert_snapshot!(crate::debian::layer(&program.path("out"), 2).0, @"
    0755 0:0 app/
    0755 0:0 app/node_modules/
    0755 0:0 app/node_modules/.bin/
    0755 0:0 app/node_modules/bell/
    0644 0:0 app/node_modules/bell/package.json
    0755 0:0 app/node_modules/bell/ring.js
    0777 0:0 app/node_modules/.bin/bell -> ../bell/ring.js
    ");
    offer("bell", r#","scripts":{"postinstall":"make"}"#);
    std::fs::remove_dir_all(program.path("home")).ok();
    let fresh = "build app --address npm=registry --store fresh";
    let refused = program.run(fresh);
    assert!(
        refused.stderr.contains("packages want to run a script when they are installed\n  bell 1.0.0"),
        "{refused}"
    );
    program.write("app/shtetl.toml", format!("{ON_HOST}[buildpacks.node]\nskip-scripts-of = [\"bell\"]\n"));
    let told = program.succeed(fresh);
    assert!(told.stderr.contains("install scripts that are not run: bell 1.0.0"), "{told}");
}

#[test]
fn packages_that_only_one_tool_reads_are_not_left_out_in_silence() {
    let program = program();
    program.write("app/shtetl.toml", ON_HOST);
    program.write("app/app.py", "if __name__ == \"__main__\":\n    pass\n");
    program.write(
        "app/pyproject.toml",
        "[tool.poetry]\nname = \"app\"\n[tool.poetry.dependencies]\nfog = \"^1\"\n",
    );
    insta::assert_snapshot!(program.run("build app"), @"
    --- stderr
    error: pyproject.toml line 3: a table of packages that only one tool reads, without its lockfile, is not supported by this version
    what to do: commit the lockfile, or say the packages in [project] dependencies
    --- exit 1
    ");
}

/// A repository in `code` with these files; gives its only commit.
fn repository(program: &Program, files: &[(&str, &str)]) -> String {
    for (path, text) in files {
        program.write(&format!("code/{path}"), text);
    }
    let git = |arguments: &[&str]| crate::source::git_in(&program.path("code"), arguments);
    git(&["init", "-q"]);
    git(&["add", "-A"]);
    git(&["commit", "-qm", "all"]);
    git(&["tag", "v2.1"]);
    git(&["rev-parse", "HEAD"])
}

#[test]
fn node_packages_come_from_commits_and_from_folders_of_the_source() {
    let program = program().with("PATH", "/ferry/bin:/usr/local/bin:/usr/bin:/bin");
    let manifest =
        r#"{"name":"fog","version":"2.1.0","bin":"cli.js","files":["lib"],"dependencies":{"horn":"^1"}}"#;
    let commit = repository(
        &program,
        &[("package.json", manifest), ("cli.js", ""), ("lib/fog.js", ""), ("test.js", "")],
    );
    let url = format!("git+file://{}", program.path("code").display());
    let horn = npm_tarball(&vec![("horn.js".into(), b"//".to_vec())]);
    program.write("registry/horn/-/horn-1.2.0.tgz", &horn);
    let offered =
        format!(r#"{{"versions":{{"1.2.0":{{"dist":{{"integrity":"{}"}}}}}}}}"#, sha512_integrity(&horn));
    program.write("registry/horn/index.json", offered);
    program.write("app/shtetl.toml", ON_HOST);
    program.write("app/server.js", "");
    program.write(
        "app/libs/tide/package.json",
        r#"{"name":"tide","version":"0.1.0","dependencies":{"horn":"1"}}"#,
    );
    program.write("app/package.json", format!(
        r#"{{"scripts":{{"start":"node server.js"}},"dependencies":{{"fog":"{url}#v2.1","tide":"file:./libs/tide"}}}}"#
    ));
    let build = "build app --address npm=registry --layout out";
    let first = program.json(build)["digest"].clone();
    insta::assert_snapshot!(crate::debian::layer(&program.path("out"), 2).0, @"
    0755 0:0 app/
    0755 0:0 app/node_modules/
    0755 0:0 app/node_modules/.bin/
    0755 0:0 app/node_modules/fog/
    0755 0:0 app/node_modules/horn/
    0755 0:0 app/node_modules/fog/cli.js
    0755 0:0 app/node_modules/fog/lib/
    0644 0:0 app/node_modules/fog/lib/fog.js
    0644 0:0 app/node_modules/fog/package.json
    0644 0:0 app/node_modules/horn/horn.js
    0777 0:0 app/node_modules/.bin/fog -> ../fog/cli.js
    0777 0:0 app/node_modules/tide -> ../libs/tide
    ");
    // A tag that moves moves nothing that is pinned; without it and without network, the build is the same.
    let lock = std::fs::read_to_string(program.path("app/shtetl.lock")).unwrap();
    assert!(lock.contains(&format!("{url}#{commit}")), "{lock}");
    std::fs::rename(program.path("code"), program.path("gone")).unwrap();
    assert_eq!(program.json(&format!("{build} --locked --offline"))["digest"], first);
}
