//! `yard`: releases where the old one serves until the new one is healthy, and what survives which failure.

use crate::run::with_app;
use serde_json::Value;
use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use testkit::program::{Program, Said};

/// How long something that is waited for may take on a slow machine.
const PATIENCE: Duration = Duration::from_secs(60);

/// A yard; it is stopped with the test, however that ends.
struct Yard(Program);

impl Drop for Yard {
    fn drop(&mut self) {
        let _ = self.0.run("yard stop");
    }
}

impl Yard {
    fn run(&self, arguments: &str) -> Said {
        self.0.run(&format!("yard {arguments}"))
    }

    fn succeed(&self, arguments: &str) -> Said {
        self.0.succeed(&format!("yard {arguments}"))
    }

    fn json(&self, arguments: &str) -> Value {
        serde_json::from_str(&self.succeed(&format!("{arguments} --format json")).stdout).unwrap()
    }

    fn port(&self) -> u16 {
        let address = self.succeed("open ferry").stdout;
        address.trim().trim_end_matches('/').rsplit(':').next().unwrap().parse().unwrap()
    }

    /// Instances with their states.
    fn instances(&self) -> Vec<(String, String)> {
        let status = self.json("status");
        let Some(app) = status["apps"].as_array().unwrap().first() else { return Vec::new() };
        let name = |one: &Value| {
            format!("{}.{}", one["instance"]["process"].as_str().unwrap(), one["instance"]["number"])
        };
        let state = |one: &Value| one["state"]["is"].as_str().unwrap().to_owned();
        app["instances"].as_array().unwrap().iter().map(|one| (name(one), state(one))).collect()
    }

    fn page(&self) -> String {
        running::http::ask(self.port(), "/").unwrap().1
    }

    /// Builds the app with this page, and gives the image.
    fn build(&self, page: &str) {
        self.0.write("ferry/page.html", page);
        let _ = self.0.succeed("build ferry --anyway");
    }
}

/// A yard with the first release of an app.
fn yard() -> Yard {
    let program = with_app();
    program.write(
        "ferry/shtetl.toml",
        "[base]\nfrom = \"host\"\n\
         [process.web]\nrun = \"node page.html\"\nhealth = \"/\"\nstart-within = \"1s\"\n\
         [process.bell]\nrun = \"node --use time\"\n\
         [task.migrate]\nrun = \"node --write data/done yes\"\nwritable = [\"data\"]\nbefore = \"release\"\n\
         [settings]\nTOKEN = { required = true, secret = true }\n",
    );
    program.write("ferry/data/.keep", "");
    let folder = program.path("yard").display().to_string();
    let yard = Yard(program.with("SHTETL_YARD", &folder).with("USER", "ada"));
    yard.build("one");
    let _ = yard.succeed("release ferry --port 0 --set TOKEN=hunter2");
    yard
}

#[test]
fn an_image_is_released_scaled_released_again_and_rolled_back() {
    let yard = yard();
    assert_eq!(yard.page(), "one");
    let healthy = |names: &[&str]| -> Vec<(String, String)> {
        let state = |name: &str| if name.starts_with("bell") { "running" } else { "healthy" };
        names.iter().map(|name| ((*name).to_owned(), state(name).to_owned())).collect()
    };
    assert_eq!(yard.instances(), healthy(&["web.1", "bell.1"]));
    assert_eq!(fs::read_to_string(yard.0.path("yard/apps/ferry/data/data/done")).unwrap(), "yes");
    let _ = yard.succeed("scale ferry web=3 bell=0");
    let deadline = Instant::now() + PATIENCE;
    while yard.instances() != healthy(&["web.1", "web.2", "web.3"]) {
        assert!(Instant::now() < deadline, "{:?}", yard.instances());
        std::thread::sleep(Duration::from_millis(20));
    }
    yard.build("two");
    let port = yard.port();
    let said = yard.succeed("release ferry");
    assert!(said.stderr.contains("web.3     * healthy"), "the scale stays: {said}");
    assert_eq!((yard.page().as_str(), yard.port()), ("two", port));
    let _ = yard.succeed("restart ferry");
    assert_eq!(yard.page(), "two");
    let _ = yard.succeed("roll-back ferry");
    assert_eq!(yard.page(), "one");
    let releases = yard.json("releases ferry");
    let facts = |release: &Value| {
        let kind = release["kind"]["by"].as_str().unwrap().to_owned();
        (release["number"].as_u64().unwrap(), kind, release["who"].as_str().unwrap().to_owned())
    };
    let all: Vec<_> = releases["releases"].as_array().unwrap().iter().map(facts).collect();
    let fact = |number, kind: &str| (number, kind.to_owned(), "ada".to_owned());
    assert_eq!(all, [fact(1, "image"), fact(2, "image"), fact(3, "roll-back")]);
    assert_eq!(releases["releases"][1]["changed"], serde_json::json!(["app files"]));
    assert_eq!(releases["current"], 3);
    // The images stay in the store as long as they can be rolled back to.
    assert!(yard.0.succeed("show ferry:yard-2").stdout.contains("ferry:yard-2"));
    insta::assert_snapshot!(yard.run("end ferry").stderr, @"
    error: this removes ferry: its releases, settings, data and logs
    what to do: if that is meant: shtetl yard end ferry --confirm ferry
    ");
    let _ = yard.succeed("end ferry --confirm ferry");
    assert!(running::http::ask(port, "/").is_err());
    insta::assert_snapshot!(yard.succeed("status").stdout, @"no app has been released here yet");
    assert!(!yard.0.path("yard/apps/ferry").exists());
    assert_eq!(yard.0.run("show ferry:yard-2").code, 2);
}

#[test]
fn a_release_that_fails_leaves_the_one_before_in_force() {
    let yard = yard();
    // A task fails.
    yard.0.edit("ferry/shtetl.toml", "node --write data/done yes", "node --say 7");
    yard.build("two");
    let said = yard.run("release ferry");
    assert_eq!((said.code, yard.page().as_str()), (1, "one"));
    assert!(
        said.stderr
            .contains("error: release 2 of ferry did not take over: the task migrate ended with status 7\n"),
        "{said}"
    );
    assert!(said.stderr.contains("  | arguments \n"), "its last lines: {said}");
    assert!(said.stderr.contains("what to do: release 1 is still current;"), "{said}");
    // A process ends.
    yard.0.edit("ferry/shtetl.toml", "node --say 7", "node --write data/done yes");
    yard.0.edit("ferry/shtetl.toml", "node page.html", "node --say 9");
    yard.build("two");
    let said = yard.run("release ferry");
    assert_eq!((said.code, yard.page().as_str()), (1, "one"));
    assert!(
        said.stderr.contains("release 3 of ferry did not take over: web.1 ended with status 9\n"),
        "{said}"
    );
    // It never becomes healthy.
    yard.0.edit("ferry/shtetl.toml", "node --say 9", "node page.html");
    yard.build("503");
    let said = yard.run("release ferry");
    assert_eq!((said.code, yard.page().as_str()), (1, "one"));
    let words = "release 4 of ferry did not take over: web.1 is unhealthy: its health path answered with status 503\n";
    assert!(said.stderr.contains(words), "{said}");
    let events = yard.succeed("events ferry").stdout;
    assert!(events.contains("Z release 2: the task migrate ended with status 7\n"), "{events}");
    assert!(
        events.contains("Z web.1 of release 4: unhealthy: its health path answered with status 503\n"),
        "{events}"
    );
    assert_eq!(yard.json("status")["apps"][0]["release"], 1);
    let log = yard.succeed("logs ferry migrate --release 2").stdout;
    assert!(log.contains("migrate | TOKEN hunter2\n"), "{log}");
}

#[test]
fn settings_are_changed_by_a_release_and_secrets_are_not_shown() {
    let yard = yard();
    insta::assert_snapshot!(yard.succeed("settings ferry").stdout, @"  TOKEN  (secret)");
    yard.0.edit("ferry/shtetl.toml", "node --write data/done yes", "node --say 0");
    yard.0.edit(
        "ferry/shtetl.toml",
        "[settings]",
        "[task.ready]\nrun = \"node --say 0\"\nbefore = \"start\"\n[settings]",
    );
    yard.build("one");
    let _ = yard.succeed("release ferry --set HARBOUR=Fog");
    let log = yard.succeed("logs ferry migrate").stdout;
    assert!(log.contains("migrate | HARBOUR Fog\n") && log.contains("migrate | TOKEN hunter2\n"), "{log}");
    let said = yard.succeed("settings ferry --set TOKEN=changed --unset HARBOUR");
    assert!(!said.stderr.contains("migrate"), "no image, no tasks before a release: {said}");
    let log = yard.succeed("logs ferry ready").stdout;
    assert!(log.contains("ready | HARBOUR unset\n") && log.contains("ready | TOKEN changed\n"), "{log}");
    insta::assert_snapshot!(yard.succeed("settings ferry").stdout, @"  TOKEN  (secret)");
    insta::assert_snapshot!(yard.run("settings ferry --unset TOKEN").stderr, @"
    error: no value for TOKEN
    what to do: give one: shtetl yard settings ferry --set TOKEN=VALUE
    more: shtetl explain yard-settings-missing
    ");
    insta::assert_snapshot!(yard.run("settings ferry --unset HARBOUR").stderr, @"
    error: ferry has no value for HARBOUR
    what to do: `shtetl yard settings ferry` lists its settings
    ");
    // What a release had comes back with it.
    let _ = yard.succeed("roll-back ferry 2");
    insta::assert_snapshot!(yard.succeed("settings ferry").stdout, @"
    HARBOUR  Fog
    TOKEN    (secret)
    ");
    let all = yard.0.path("yard/apps/ferry/settings/1.json");
    let mode = std::os::unix::fs::PermissionsExt::mode(&fs::metadata(all).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
}

#[test]
fn a_variant_says_how_an_image_runs_that_was_not_built_with_it() {
    let yard = yard();
    yard.0.edit(
        "ferry/shtetl.toml",
        "[task.migrate]",
        "[task.ready]\nrun = \"node --say 0\"\nbefore = \"start\"\n[variant.live.process.web]\ninstances = 2\n\
         [variant.live.settings]\nHARBOUR = \"Fog\"\n[variant.other.process.web]\nrun = \"node other\"\n[task.migrate]",
    );
    yard.build("two");
    let _ = yard.succeed("release ferry --source ferry --variant live");
    let names: Vec<String> = yard.instances().into_iter().map(|(name, _)| name).collect();
    assert_eq!(names, ["web.1", "web.2", "bell.1"]);
    let log = yard.succeed("logs ferry ready").stdout;
    assert!(log.contains("HARBOUR Fog\n") && log.contains("TOKEN hunter2\n"), "{log}");
    // What is given is stronger, and the rest of the variant stays.
    let _ = yard.succeed("settings ferry --set HARBOUR=Kestrel");
    let log = yard.succeed("logs ferry ready").stdout;
    assert!(log.contains("HARBOUR Kestrel\n"), "{log}");
    assert_eq!(yard.instances().len(), 3);
    assert!(yard.succeed("releases ferry").stdout.contains("ferry:latest, variant live"));
    insta::assert_snapshot!(yard.run("release ferry --source ferry --variant other").stderr, @"
    error: the image does not match the source for web: its command differs
    what to do: build the image from this source with this variant first
    ");
    // Without it, the image runs as it was built.
    let _ = yard.succeed("release ferry");
    assert_eq!(yard.instances().len(), 2);
}

#[test]
fn no_request_is_lost_to_releases() {
    let yard = yard();
    let _ = yard.succeed("scale ferry web=2");
    let (port, is_over, asked) = (yard.port(), AtomicBool::new(false), AtomicUsize::new(0));
    std::thread::scope(|scope| {
        for _ in 0..3 {
            scope.spawn(|| {
                let mut stream = BufReader::new(TcpStream::connect(("127.0.0.1", port)).unwrap());
                while !is_over.load(Ordering::SeqCst) {
                    stream.get_mut().write_all(b"GET / HTTP/1.1\r\nHost: ferry\r\n\r\n").unwrap();
                    let (mut head, mut length) = (String::new(), 0);
                    while !head.ends_with("\r\n\r\n") {
                        let mut line = String::new();
                        assert!(stream.read_line(&mut line).unwrap() > 0, "the connection stays open");
                        if let Some(text) = line.to_lowercase().strip_prefix("content-length: ") {
                            length = text.trim().parse().unwrap();
                        }
                        head.push_str(&line);
                    }
                    assert!(head.starts_with("HTTP/1.1 200 "), "{head}");
                    stream.read_exact(&mut vec![0; length]).unwrap();
                    asked.fetch_add(1, Ordering::SeqCst);
                }
            });
        }
        for turn in 0..4 {
            yard.build(&format!("page {turn}"));
            let _ = yard.succeed("release ferry");
            let _ = yard.succeed(&format!("scale ferry web={}", 1 + turn % 3));
        }
        is_over.store(true, Ordering::SeqCst);
    });
    assert_eq!(yard.page(), "page 3");
    assert!(asked.load(Ordering::SeqCst) > 100);
}

#[test]
fn what_is_killed_comes_back_and_leaves_nothing_behind() {
    let yard = yard();
    let port = yard.port();
    let wait_for_page = || {
        let deadline = Instant::now() + PATIENCE;
        while running::http::ask(port, "/").ok().is_none_or(|(_, page)| page != "one") {
            assert!(Instant::now() < deadline, "it never came back");
            std::thread::sleep(Duration::from_millis(20));
        }
    };
    let workers = |kind: &str| -> Vec<String> {
        let folder = yard.0.path("yard").display().to_string();
        let all = fs::read_dir("/proc").unwrap().flatten();
        let lines = all.filter_map(|entry| {
            let line = fs::read_to_string(entry.path().join("cmdline")).ok()?.replace('\0', " ");
            let is_meant = line.contains(&format!("yard serve --yard {folder}"))
                && line.contains("--worker") == (kind == "worker");
            is_meant.then(|| entry.file_name().to_string_lossy().into_owned())
        });
        lines.collect()
    };
    // A process that is about to become another one has the words of the one that started it for a moment.
    let only = |kind: &str| {
        let deadline = Instant::now() + PATIENCE;
        loop {
            if let [one] = &workers(kind)[..] {
                return one.clone();
            }
            assert!(Instant::now() < deadline, "not one {kind}: {:?}", workers(kind));
            std::thread::sleep(Duration::from_millis(20));
        }
    };
    let kill = |number: &str| {
        assert!(std::process::Command::new("kill").args(["-9", number]).status().unwrap().success());
    };
    // The one that works: the one that watches starts it again.
    for _ in 0..3 {
        kill(&only("worker"));
        wait_for_page();
    }
    assert_eq!(yard.json("status")["apps"][0]["release"], 1);
    // The one that watches: the other goes on.
    kill(&only("guard"));
    assert_eq!(yard.page(), "one");
    kill(&only("worker"));
    let deadline = Instant::now() + PATIENCE;
    while running::http::ask(port, "/").is_ok() {
        assert!(Instant::now() < deadline, "an instance outlived the yard");
        std::thread::sleep(Duration::from_millis(20));
    }
    assert!(yard.succeed("status").stdout.starts_with("the yard is not running"));
    let _ = yard.succeed("start");
    wait_for_page();
    let _ = yard.succeed("stop");
    let deadline = Instant::now() + PATIENCE;
    while !workers("worker").is_empty() || !workers("guard").is_empty() {
        assert!(Instant::now() < deadline, "a process of the yard is left");
        std::thread::sleep(Duration::from_millis(20));
    }
    assert!(yard.succeed("events ferry").stdout.contains("the yard ended"));
}

#[test]
fn an_empty_yard_says_how_to_begin() {
    let program = with_app();
    let folder = program.path("yard").display().to_string();
    let program = program.with("SHTETL_YARD", &folder);
    insta::assert_snapshot!(program.run("yard status"), @"
    the yard is not running; start it: shtetl yard start
    no app has been released here yet
    --- exit 0
    ");
    insta::assert_snapshot!(program.run("yard logs ferry").stderr, @r#"
    error: the yard has no app "ferry"; it has no apps yet
    what to do: release an image: shtetl yard release IMAGE
    more: shtetl explain yard-no-app
    "#);
    insta::assert_snapshot!(program.run("yard status --yard ferry/shtetl.toml").stderr, @"
    error: the yard cannot be in ferry/shtetl.toml: ferry/shtetl.toml: Not a directory (os error 20)
    what to do: give another folder: --yard DIR
    ");
    insta::assert_snapshot!(program.run("yard stop"), @"
    --- stderr
    the yard is not running
    --- exit 0
    ");
}

#[test]
fn wrong_usage_is_answered_with_what_is_right() {
    let (yard, mut all) = (yard(), String::new());
    for arguments in [
        "status fery",
        "scale ferry web",
        "scale ferry wen=2",
        "roll-back ferry",
        "roll-back ferry 9",
        "health ferry web",
        "logs ferry wen",
        "logs fery",
        "open fery",
        "release fery",
    ] {
        let said = yard.run(arguments);
        assert_eq!(said.code, 2, "{said}");
        all.push_str(&format!("{arguments}\n{}", said.stderr));
    }
    insta::assert_snapshot!(all, @r#"
    status fery
    error: the yard has no app "fery"
    what to do: did you mean "ferry"?
    more: shtetl explain yard-no-app
    scale ferry web
    error: "web" is not a process type with a number
    what to do: write PROCESS=N, for example web=3
    scale ferry wen=2
    error: the app has no process type "wen"
    what to do: did you mean "web"?
    more: shtetl explain yard-no-process
    roll-back ferry
    error: ferry has no release before the current one
    what to do: `shtetl yard releases ferry` lists them
    roll-back ferry 9
    error: ferry has no release 9
    what to do: `shtetl yard releases ferry` lists them
    more: shtetl explain yard-no-release
    health ferry web
    error: "web" is not an instance
    what to do: use a process type and a number, for example web.1
    logs ferry wen
    error: wen wrote nothing in release 1 of ferry
    what to do: `shtetl yard logs ferry` shows the output of all
    logs fery
    error: the yard has no app "fery"
    what to do: did you mean "ferry"?
    more: shtetl explain yard-no-app
    open fery
    error: the yard has no app "fery"
    what to do: did you mean "ferry"?
    more: shtetl explain yard-no-app
    release fery
    error: there is no image "fery"
      in the store: ferry:latest
      in the store: ferry:yard-1
    what to do: did you mean "ferry"?
    more: shtetl explain run-no-image
    "#);
}
