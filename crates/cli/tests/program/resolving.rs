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
    assert!(first.stderr.contains("requirements.txt does not lock versions"), "{first}");
    assert_eq!(pinned(&program, "python"), ["buoy 1.0", "fog 1.4", "horn 3.1"]);
    // What is newer does not matter until somebody asks for it.
    offer_wheel(&program, "fog", "1.8", "py3-none-any", "", "");
    let _ = program.succeed("build app --locked --offline --address pypi=index");
    assert_eq!(pinned(&program, "python"), ["buoy 1.0", "fog 1.4", "horn 3.1"]);
    let moved = program.succeed("build app --update --address pypi=index");
    assert!(moved.stderr.contains("moved in shtetl.lock: fog 1.4 to 1.8"), "{moved}");
    assert_eq!(pinned(&program, "python"), ["fog 1.8"]);
    // A new requirement keeps the rest where it was.
    program.write("app/more.txt", "fog\nbuoy==1.0\n");
    let refused = program.run("build app --locked --address pypi=index");
    assert_eq!(refused.code, 1, "{refused}");
    let _ = program.succeed("build app --address pypi=index");
    assert_eq!(pinned(&program, "python"), ["buoy 1.0", "fog 1.8"]);
    // What was withdrawn is taken when it is named, and told.
    program.write("app/more.txt", "fog==1.5\n");
    let told = program.succeed("build app --address pypi=index").stderr;
    assert!(told.contains("note: fog 1.5 was withdrawn: leaks"), "{told}");
    let hash =
        std::fs::read(program.path("index/fog/fog-1.5-py3-none-any.whl")).map(|b| sha256_hex(&b)).unwrap();
    program.write("app/more.txt", format!("fog==1.5 --hash=sha256:{hash}\n"));
    let told = program.succeed("build app --address pypi=index --store fresh").stderr;
    assert!(told.contains("note: python packages: fog 1.5 was withdrawn: leaks"), "{told}");
}

#[test]
fn requirement_files_say_where_packages_are_and_may_have_any_name() {
    let program = python_app("");
    std::fs::remove_file(program.path("app/requirements.txt")).unwrap();
    program.write("app/requirements/live.txt", "-r base.txt\nfog\n");
    program.write("app/requirements/base.txt", "--find-links ../wheels\n");
    let told = program.run("check app --address pypi=index").stdout;
    assert!(
        told.contains("these requirements are not used") && told.contains("requirements/base.txt"),
        "{told}"
    );
    let named = format!("{ON_HOST}[buildpacks.python]\nrequirements = [\"requirements/live.txt\"]\n");
    program.write("app/shtetl.toml", &named);
    // Files that lie together, without a list and without hashes, go before the index.
    let bytes = wheel("fog", "0.9", &vec![("fog.py".into(), b"".to_vec())], "Requires-Dist: horn\n", "");
    program.write("app/wheels/fog-0.9-py3-none-any.whl", &bytes);
    let built = program.succeed("build app --address pypi=index");
    assert!(built.stderr.contains("requirements/live.txt does not lock versions"), "{built}");
    assert_eq!(pinned(&program, "python"), ["fog 0.9", "horn 3.1"]);
    let lock = std::fs::read_to_string(program.path("app/shtetl.lock")).unwrap();
    assert!(lock.contains(&sha256_hex(&bytes)), "{lock}");
    let _ = program.succeed("build app --locked --address pypi=index --store fresh");
    program.write("app/requirements/base.txt", "--no-index\n--find-links ../wheels\n");
    insta::assert_snapshot!(program.run("build app --address pypi=index"), @"
    --- stderr
    error: no set of package versions satisfies all requirements
      the app requires fog
      fog 0.9 requires horn
      no configured index has horn
    what to do: change one of these requirements, or choose another version of the runtime
    more: shtetl explain package-no-solution
    --- exit 1
    ");
    // Another wheel under the same name is not what was pinned.
    program.write("app/requirements/base.txt", "--find-links ../wheels\n");
    let other = wheel("fog", "0.9", &vec![("fog.py".into(), b"other".to_vec())], "", "");
    program.write("app/wheels/fog-0.9-py3-none-any.whl", &other);
    let refused = program.run("build app --address pypi=index --store another");
    assert_eq!(refused.code, 1, "{refused}");
    program.write("app/shtetl.toml", named.replace("live", "love"));
    insta::assert_snapshot!(program.run("build app --address pypi=index"), @"
    --- stderr
    error: shtetl.toml: requirements/love.txt is not in the source
    more: shtetl explain survey-malformed
    --- exit 2
    ");
}

#[test]
fn an_app_that_is_a_package_is_found_by_its_name_and_has_its_commands() {
    let program = python_app("");
    for file in ["requirements.txt", "app.py"] {
        std::fs::remove_file(program.path(&format!("app/{file}"))).unwrap();
    }
    program.write("app/src/fares/cli.py", "def main():\n    pass\n");
    let project = "[project]\nname = \"Fares\"\nversion = \"1.4\"\ndependencies = [\"horn\"]\n\
        [project.scripts]\nfares-server = \"fares.cli:main\"\n[build-system]\nrequires = [\"hatchling\"]\n";
    program.write("app/pyproject.toml", project);
    let built = program.succeed("build app --address pypi=index --layout out");
    assert!(built.stdout.contains("web  fares-server"), "{built}");
    insta::assert_snapshot!(crate::debian::layer(&program.path("out"), 3).0, @"
    0755 0:0 app/
    0755 0:0 app/.venv/
    0755 0:0 app/.venv/bin/
    0755 0:0 app/.venv/lib/
    0755 0:0 app/.venv/lib/python3.11/
    0755 0:0 app/.venv/lib/python3.11/site-packages/
    0755 0:0 app/.venv/bin/fares-server
    0755 0:0 app/.venv/lib/python3.11/site-packages/fares-1.4.dist-info/
    0644 0:0 app/.venv/lib/python3.11/site-packages/fares-1.4.dist-info/INSTALLER
    0644 0:0 app/.venv/lib/python3.11/site-packages/fares-1.4.dist-info/METADATA
    0644 0:0 app/.venv/lib/python3.11/site-packages/fares-1.4.dist-info/RECORD
    0644 0:0 app/.venv/lib/python3.11/site-packages/fares-1.4.dist-info/WHEEL
    0644 0:0 app/.venv/lib/python3.11/site-packages/fares-1.4.dist-info/entry_points.txt
    0644 0:0 app/.venv/lib/python3.11/site-packages/fares.pth
    ");
    // One line of the app leaves it as it is, and so do packages that change.
    program.write("app/src/fares/cli.py", "def main():\n    print()\n");
    let again = program.succeed("build app --address pypi=index").stdout;
    assert!(again.contains("python app itself  found"), "{again}");
}

#[test]
fn an_index_may_want_a_password_that_only_the_environment_knows() {
    let known = |request: &[String]| request.iter().any(|h| h.contains("basic ywrhonrpzgu="));
    let index = Registry::guarded(move |request| (!known(request)).then(|| Reply::status(401)));
    let bytes = wheel("horn", "3.1", &vec![("horn.py".into(), b"".to_vec())], "", "");
    let file = "horn-3.1-py3-none-any.whl";
    index.answer("/horn/", vec![Reply::of(format!("<a href=\"{file}\">{file}</a>"))]);
    index.answer(&format!("/horn/{file}"), vec![Reply::of(bytes)]);
    let requirements = format!("--index-url http://ada:${{FERRY_PASSWORD}}@{}\nhorn\n", index.host());
    let program = python_app(&requirements).with("FERRY_PASSWORD", "tide");
    let said = program.run("build app");
    let refused = format!(
        "asks to send the variable FERRY_PASSWORD to {}, a server that only the app names",
        index.host()
    );
    assert!(said.code == 2 && said.stderr.contains(&refused), "{said}");
    assert_eq!(index.count("/horn/"), 0, "such a server is not even asked");
    let program = program.with("SHTETL_TRUST", &index.host());
    let built = program.succeed("build app");
    let lock = std::fs::read_to_string(program.path("app/shtetl.lock")).unwrap();
    assert!(!format!("{built}{lock}").contains("tide"), "{built}{lock}");
    let refused = program.without("FERRY_PASSWORD").run("build app --update");
    assert!(refused.stderr.contains("the variable FERRY_PASSWORD, which is not set"), "{refused}");
}

#[test]
fn an_index_need_not_say_hashes() {
    let program = python_app("fog\n");
    let page = program.path("index/fog/index.html");
    program
        .write("index/fog/index.html", "<a href=\"fog-1.4-py3-none-any.whl\">fog-1.4-py3-none-any.whl</a>");
    let hash = sha256_hex(&std::fs::read(page.with_file_name("fog-1.4-py3-none-any.whl")).unwrap());
    let _ = program.succeed("build app --address pypi=index");
    let lock = std::fs::read_to_string(program.path("app/shtetl.lock")).unwrap();
    assert!(lock.contains(&hash), "{lock}");
}

#[test]
fn a_resolved_package_that_is_gone_is_named_with_who_wants_it() {
    let program = python_app("fog<1.5\n");
    let _ = program.succeed("build app --address pypi=index");
    std::fs::remove_file(program.path("index/buoy/buoy-1.0-py3-none-any.whl")).unwrap();
    let said = program.run("build app --store fresh --address pypi=index");
    let error = said.stderr.lines().skip_while(|line| !line.starts_with("error"));
    insta::assert_snapshot!(error.collect::<Vec<_>>().join("\n"), @"
    error: buoy 1.0 (wanted by fog): not found at [place]/index/buoy/buoy-1.0-py3-none-any.whl
    what to do: check the version in the lockfile (`build --update` moves what shtetl.lock pins); `shtetl addresses` shows where packages come from
    more: shtetl explain download-not-found
    ");
}

#[test]
fn requirements_that_exclude_each_other_are_explained() {
    let program = python_app("fog==1.4\nbuoy>=2\n");
    insta::assert_snapshot!(program.run("build app --address pypi=index"), @"
    --- stderr
    error: no set of package versions satisfies all requirements
      the app requires buoy >=2
      the app requires fog ==1.4
      fog 1.4 requires buoy <2
    what to do: change one of these requirements, or choose another version of the runtime
    more: shtetl explain package-no-solution
    --- exit 1
    ");
    program.write("app/requirements.txt", "fog>=7\n");
    insta::assert_snapshot!(program.run("build app --address pypi=index"), @"
    --- stderr
    error: no set of package versions satisfies all requirements
      the app requires fog >=7
      for Python 3.11 x86_64 glibc 2.28, fog is available in 1.0, 1.4, 1.5, 2.0b1
    what to do: change one of these requirements, or choose another version of the runtime
    more: shtetl explain package-no-solution
    --- exit 1
    ");
    program.write("app/requirements.txt", "fog==1.7\n");
    let elsewhere = program.run("build app --address pypi=index").stderr;
    let told =
        "fog 1.7 has no wheel for Python 3.11 x86_64 glibc 2.28; available for it: 1.0, 1.4, 1.5, 2.0b1";
    assert!(elsewhere.contains(told), "{elsewhere}");
    program.write("app/requirements.txt", "tide\n");
    insta::assert_snapshot!(program.run("build app --address pypi=index"), @"
    --- stderr
    error: no set of package versions satisfies all requirements
      the app requires tide
      no configured index has tide
    what to do: change one of these requirements, or choose another version of the runtime
    more: shtetl explain package-no-solution
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
    assert!(built.stderr.contains("package.json does not lock versions"), "{built}");
    assert!(built.stderr.contains("deprecated: wood 1.0.1: rots"), "{built}");
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
    error: no set of package versions satisfies all requirements
      the app requires bell ^3
      no version of bell matches; the newest is 2.0.0
    what to do: change one of these requirements, or choose another version of the runtime
    more: shtetl explain package-no-solution
    --- exit 1
    ");
}

#[test]
fn versions_that_need_each_other_in_a_circle_are_linked_to_where_they_are() {
    let program = program();
    program.write("app/shtetl.toml", ON_HOST);
    program.write("app/server.js", "");
    program
        .write("app/package.json", r#"{"scripts":{"start":"node server.js"},"dependencies":{"bell":"1"}}"#);
    let needs = |name: &str, version: u32| format!(r#","dependencies":{{"{name}":"{version}"}}"#);
    offer_npm(&program, "bell", &[("1.0.0", &needs("rope", 1)), ("2.0.0", &needs("rope", 2))]);
    offer_npm(&program, "rope", &[("1.0.0", &needs("bell", 2)), ("2.0.0", &needs("bell", 1))]);
    let _ = program.succeed("build app --address npm=registry --layout out");
    let listing = crate::debian::layer(&program.path("out"), 2).0;
    let told: Vec<&str> =
        listing.lines().filter(|line| line.contains("package.json") || line.contains("->")).collect();
    insta::assert_snapshot!(told.join("\n"), @"
    0644 0:0 app/node_modules/bell/package.json
    0644 0:0 app/node_modules/rope/package.json
    0644 0:0 app/node_modules/rope/node_modules/bell/package.json
    0644 0:0 app/node_modules/rope/node_modules/rope/package.json
    0644 0:0 app/node_modules/rope/node_modules/rope/node_modules/bell/package.json
    0777 0:0 app/node_modules/rope/node_modules/rope/node_modules/rope -> ../../../../../node_modules/rope
    ");
}

#[test]
fn overrides_hold_where_the_app_says_and_nowhere_else() {
    let program = program();
    program.write("app/shtetl.toml", ON_HOST);
    program.write("app/server.js", "");
    let manifest = r#"{"scripts":{"start":"node server.js"},"dependencies":{"bell":"^1","horn":"^1"},
        "peerDependencies":{"pier":"^1"},
        "overrides":{"bell":{"rope":"2.0.0"},"tin@^1":"1.0.0","mast":{".":"1.0.0","wood":{"bark":"$bell"}}}}"#;
    program.write("app/package.json", manifest);
    let plain = |versions: &[&'static str]| versions.iter().map(|v| (*v, "")).collect::<Vec<_>>();
    offer_npm(&program, "bell", &[("1.3.0", r#","dependencies":{"rope":"^1"}"#)]);
    offer_npm(
        &program,
        "horn",
        &[("1.0.0", r#","dependencies":{"rope":"^1","tin":"^1","mast":"^1","bark":"*"}"#)],
    );
    offer_npm(&program, "mast", &[("1.0.0", r#","dependencies":{"wood":"1","tin":"^2"}"#), ("1.1.0", "")]);
    offer_npm(&program, "wood", &[("1.0.0", r#","dependencies":{"bark":"*"}"#)]);
    offer_npm(&program, "rope", &plain(&["1.0.0", "2.0.0"]));
    offer_npm(&program, "tin", &plain(&["1.0.0", "1.2.0", "2.0.0"]));
    offer_npm(&program, "bark", &plain(&["1.0.0", "2.0.0"]));
    offer_npm(&program, "pier", &plain(&["1.0.0"]));
    let _ = program.succeed("build app --address npm=registry");
    assert_eq!(
        pinned(&program, "node"),
        [
            "node_modules/bark bark 2.0.0",
            "node_modules/bell bell 1.3.0",
            "node_modules/horn horn 1.0.0",
            "node_modules/horn/node_modules/rope rope 1.0.0",
            "node_modules/mast mast 1.0.0",
            "node_modules/mast/node_modules/tin tin 2.0.0",
            "node_modules/pier pier 1.0.0",
            "node_modules/rope rope 2.0.0",
            "node_modules/tin tin 1.0.0",
            "node_modules/wood wood 1.0.0",
            "node_modules/wood/node_modules/bark bark 1.0.0",
        ]
    );
    program.edit("app/package.json", "\"tin@^1\"", "\"horn\":\"1.0.0\",\"tin@^1\"");
    insta::assert_snapshot!(program.run("build app --address npm=registry"), @r#"
    --- stderr
    error: package.json: horn is required as "^1" but overridden by "1.0.0"
    more: shtetl explain survey-malformed
    --- exit 2
    "#);
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
    let said = program.run("build app");
    assert!(
        said.stderr.contains("note: the app's .npmrc asks to send the variable FERRY_TOKEN to 127.0.0.1:"),
        "{said}"
    );
    assert!(
        own.requests("/@kestrel/tide/-/tide-1.0.0.tgz").concat().iter().all(|h| !h.contains("tide-table-9"))
    );
    // The advice is followed.
    program.write("home/.config/shtetl/config.toml", format!("[trust]\nservers = [\"{}\"]\n", own.host()));
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
    // The hash of the first one was pinned.
    std::fs::remove_file(program.path("app/shtetl.lock")).unwrap();
    let fresh = "build app --address npm=registry --store fresh";
    let refused = program.run(fresh);
    assert!(
        refused.stderr.contains("these packages need to run a script when they are installed\n  bell 1.0.0"),
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
    error: pyproject.toml line 3: a table of packages that is specific to one tool, without that tool's lockfile, is not supported by this version
    what to do: commit the lockfile, or declare the packages in [project] dependencies
    more: shtetl explain survey-unsupported
    --- exit 1
    ");
}

/// A repository in `code` with these files; gives its only commit.
pub fn repository(program: &Program, files: &[(&str, &str)]) -> String {
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

#[test]
fn requests_and_causes_are_shown_where_they_are_wanted() {
    let index = Registry::start();
    index.answer("/tide/", vec![Reply::status(404)]);
    let program = python_app("tide\n");
    let command = format!("build app --address pypi=http://ada:secret@{}", index.host());
    let short = program.run(&command);
    assert!(!short.stderr.contains("GET ") && !short.stderr.contains("cause:"), "{short}");
    let long = program.run(&format!("{command} --verbose"));
    let request = format!("GET http://{}/tide/  404, ", index.host());
    assert!(long.stderr.contains(&request) && long.stderr.contains("\n  cause: "), "{long}");
    assert!(!long.stderr.contains("secret"), "{long}");
    let events = program.run(&format!("{command} --verbose --format json")).stderr;
    assert!(events.contains(r#""event":"request""#), "{events}");
}
