//! Descriptors for what runs an app. `trials/hand-over` reads them with the platforms' own schemas.

use crate::program;
use std::fs;
use testkit::oci_registry::{Faults, OciRegistry};
use testkit::program::Program;

/// An app with a web process, a worker, a task before a release, settings and folders, in a registry.
fn handed_over() -> (Program, OciRegistry, String) {
    let program = program();
    program.write("ferry/package.json", r#"{"scripts":{"start":"node server.js"}}"#);
    for file in ["server.js", "bell.js", "migrate.js", "warm.js"] {
        program.write(&format!("ferry/{file}"), "");
    }
    program.write(
        "ferry/shtetl.toml",
        "[base]\nfrom = \"host\"\n\
         [process.web]\nhealth = \"/health\"\nmemory = \"256MB\"\ninstances = 2\n\
         [process.bell]\nrun = \"node bell.js\"\nwritable = [\"data/logs\"]\n\
         [task.migrate]\nrun = \"node migrate.js\"\nbefore = \"release\"\nwritable = [\"data/logs\"]\n[task.warm]\nrun = \"node warm.js\"\nbefore = \"start\"\n\
         [settings]\nHARBOUR = \"Kestrel: Sound\"\n[settings.DATABASE_URL]\nrequired = true\nsecret = true\n\
         [settings.GREETING]\nrequired = true\n[settings.API_TOKEN]\nsecret = true\n\
         [settings.NOTE]\nabout = \"for the crew\"\n\
         [variant.live.process.web]\ninstances = 5\nport = 9000\n[variant.live.settings]\nHARBOUR = \"$Live 100%\"\n\
         [variant.other.process.web]\nrun = \"node bell.js\"\n",
    );
    let _ = program.succeed("build ferry --anyway");
    let registry = OciRegistry::start(Faults::default());
    let at = format!("{}/harbour/ferry:14", registry.host());
    let _ = program.succeed(&format!("push ferry {at}"));
    (program, registry, at)
}

/// A file without the port of the registry and the digests.
fn written(program: &Program, registry: &OciRegistry, path: &str) -> String {
    let text = fs::read_to_string(program.path(path)).unwrap().replace(&registry.host(), "[registry]");
    let mut parts = text.split("sha256:");
    let first = parts.next().unwrap_or_default().to_owned();
    parts.fold(first, |all, part| format!("{all}[digest]{}", &part[64..]))
}

#[test]
fn each_platform_gets_every_process_type_its_own_image_and_no_secret() {
    let (program, registry, at) = handed_over();
    for (platform, files) in [
        ("compose", &["compose.yaml"][..]),
        ("systemd", &["ferry-web.service", "ferry-bell.service", "ferry-migrate.service", "ferry.target"]),
        ("kubernetes", &["web.yaml", "bell.yaml", "migrate.yaml", "kustomization.yaml"]),
    ] {
        let said = program.succeed(&format!("hand-over {at} --to {platform} --folder {platform}"));
        let all: Vec<String> = files
            .iter()
            .map(|file| {
                format!("=== {file}\n{}", written(&program, &registry, &format!("{platform}/{file}")))
            })
            .collect();
        let all = all.join("");
        let job = all.lines().find_map(|line| line.trim().strip_prefix("name: ferry-migrate-"));
        let all = job.map_or(all.clone(), |digits| all.replace(digits, "[digits]"));
        insta::assert_snapshot!(format!("{platform}"), all);
        assert!(said.stdout.contains(files[0]), "{said}");
        // The same again is the same to the byte.
        let before = fs::read(program.path(&format!("{platform}/{}", files[0]))).unwrap();
        let _ = program.succeed(&format!("hand-over {at} --to {platform} --folder {platform}"));
        assert_eq!(fs::read(program.path(&format!("{platform}/{}", files[0]))).unwrap(), before);
    }
    // The image that is named for a process type is the one that its own tag names.
    let web = registry.manifest("harbour/ferry", "14-web").unwrap();
    let text = fs::read_to_string(program.path("compose/compose.yaml")).unwrap();
    let of_web = text.split("\n  web:\n").nth(1).unwrap();
    let digest = of_web.split("sha256:").nth(1).map(|rest| rest[..64].to_owned());
    let named = digest.and_then(|digest| registry.manifest("harbour/ferry", &format!("sha256:{digest}")));
    assert_eq!(named, Some(web), "{text}");
}

#[test]
fn variants_and_what_only_a_platform_knows_are_said_at_the_command() {
    let (program, registry, at) = handed_over();
    let _ = program.succeed(&format!(
        "hand-over {at} --to kubernetes --folder live --source ferry --variant live --host ferry.test --scale 3..9"
    ));
    let web = written(&program, &registry, "live/web.yaml");
    assert!(
        !web.contains("replicas: 5") && web.contains("minReplicas: 3") && web.contains("host: ferry.test"),
        "{web}"
    );
    let _ = program
        .succeed(&format!("hand-over {at} --to kubernetes --folder live --source ferry --variant live"));
    let web = written(&program, &registry, "live/web.yaml");
    assert!(web.contains("replicas: 5"), "{web}");
    // What the variant has of variables and the image has not is said; what only a build can change is refused.
    assert!(web.contains("value: \"$Live 100%\"") && web.contains("value: \"9000\""), "{web}");
    let _ =
        program.succeed(&format!("hand-over {at} --to compose --folder live --source ferry --variant live"));
    assert!(written(&program, &registry, "live/compose.yaml").contains("HARBOUR: \"$$Live 100%\""));
    let _ =
        program.succeed(&format!("hand-over {at} --to systemd --folder live --source ferry --variant live"));
    assert!(
        written(&program, &registry, "live/ferry-web.service").contains("--set \"HARBOUR=$$Live 100%%\"")
    );
    let other =
        program.run(&format!("hand-over {at} --to compose --folder live --source ferry --variant other"));
    assert!(other.code == 2 && other.stderr.contains("its command differs"), "{other}");
    let store =
        format!("hand-over ferry --registry {}/harbour/ferry --to compose --folder out", registry.host());
    assert_eq!(program.json(&store)["files"][0], "out/compose.yaml");
    program.write("file", "");
    for (arguments, code, expected) in [
        ("hand-over ferry --to compose --folder out", 2, "no registry is known for ferry:latest"),
        (&format!("hand-over {at} --to helm --folder out"), 2, "possible values"),
        (&format!("hand-over {at} --to compose --folder out --scale 4..2"), 2, "write it as in 2..6"),
        (&format!("hand-over {at} --to compose --folder out --variant live"), 2, "--source"),
        (&format!("hand-over {at} --to compose --folder file"), 3, "file"),
    ] {
        let said = program.run(arguments);
        assert!(said.code == code && said.stderr.contains(expected), "{arguments}: {said}");
    }
}
