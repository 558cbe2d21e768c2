//! `run`: as root and as anybody, and what the process sees.

use crate::program;
use serde_json::Value;
use std::fs;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Child, Stdio};
use testkit::archives::sha256_hex;
use testkit::program::Program;

/// A user without rights, as far as the tests know.
const NOBODY: u32 = 65534;

/// The program, with the stand-in for `node` of this real machine, and an app for it built.
pub fn with_app() -> Program {
    let program = program();
    fs::create_dir(program.path("bin")).unwrap();
    let stand_in = Path::new(env!("CARGO_BIN_EXE_shtetl")).with_file_name("examples/stand-in-runtime");
    fs::copy(&stand_in, program.path("bin/node")).unwrap();
    let program = program.without("SHTETL_HOST_ROOT");
    let path = format!("{}:/usr/bin:/bin", program.path("bin").display());
    let program = program.with("PATH", &path);
    program.write("ferry/package.json", r#"{"scripts":{"start":"node page.html"}}"#);
    program.write("ferry/page.html", "the ferry sails\n");
    program.write(
        "ferry/shtetl.toml",
        "[base]\nfrom = \"host\"\n[task.audit]\nrun = \"node --say 0\"\n[task.fail]\nrun = \"node --say 7\"\n[task.gone]\nrun = \"no-such-program\"\n[settings]\nHARBOUR = \"Kestrel\"\nTOKEN = { required = true, secret = true }\n",
    );
    let _ = program.succeed("build ferry --anyway --layout image");
    program
}

/// A running web process; ended with the test, however that ends.
struct Served {
    child: Child,
    port: u16,
}

impl Drop for Served {
    fn drop(&mut self) {
        // It may have ended already, which is fine.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Starts the web process and waits until it answers.
fn serve(program: &Program, network: &str) -> Served {
    serve_with(program, &["run", "image", "--port", "0", "--network", network, "--set", "TOKEN=hunter2"]).0
}

/// The same with these arguments, and what it says after that.
fn serve_with(program: &Program, arguments: &[&str]) -> (Served, impl Iterator<Item = String> + use<>) {
    let mut command = program.command(arguments);
    let child = command.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    let mut served = Served { child, port: 0 };
    let mut lines = BufReader::new(served.child.stderr.take().unwrap()).lines().map_while(Result::ok);
    let mut said = Vec::new();
    for line in lines.by_ref() {
        if let Some((_, address)) = line.split_once("answers on http://127.0.0.1:") {
            served.port = address.trim_end_matches('/').parse().unwrap();
            return (served, lines);
        }
        said.push(line);
    }
    panic!("it never answered: {said:?}");
}

fn answers_and_ends(program: &Program) {
    let mut served = serve(program, "own");
    let (status, body) = running::http::ask(served.port, "/").unwrap();
    assert_eq!((status, body.as_str()), (200, "the ferry sails\n"));
    let kill = std::process::Command::new("kill").arg(served.child.id().to_string()).status().unwrap();
    assert!(kill.success());
    assert_eq!(served.child.wait().unwrap().code(), Some(0), "SIGTERM ends it cleanly");
    assert!(running::http::ask(served.port, "/").is_err(), "nothing is left running");
}

#[test]
fn a_web_process_answers_and_ends_cleanly() {
    answers_and_ends(&with_app());
}

#[test]
fn it_does_so_for_a_user_without_rights() {
    let program = with_app();
    // Everybody but the superuser ran the test above as such a user already.
    if Program::may_act_as_others() {
        let program = program.with("SHTETL_STORE", "nobodys-store").as_user(NOBODY);
        answers_and_ends(&program);
        let said = program.run("run image audit --set TOKEN=hunter2");
        assert_eq!(said.code, 0, "{said}");
        assert!(said.stdout.starts_with("user 1000\ncapabilities 0000000000000000\n"), "{said}");
    }
}

#[test]
fn what_a_process_writes_is_kept_where_that_is_wanted_and_the_image_stays_as_it_is() {
    let program = with_app();
    program.edit("ferry/shtetl.toml", "[task.audit]", "[task.audit]\nwritable = [\".\"]");
    let _ = program.succeed("build ferry --anyway");
    let audit = |more: &str| program.succeed(&format!("run ferry audit {more} --set TOKEN=hunter2")).stdout;
    assert!(audit("").contains("may write true false true"));
    assert!(!program.path("kept").exists());
    assert!(audit("--data kept").contains("may write true false true"));
    assert_eq!(fs::read_to_string(program.path("kept/x")).unwrap(), "x");
    // What is kept is there again, over what the image has.
    fs::write(program.path("kept/page.html"), "changed").unwrap();
    assert!(program.succeed("build ferry --anyway").stdout.contains("nothing ran"));
}

/// Changes the only image of a layout so that its first layer comes once more, above all others.
fn repeat_first_layer(layout: &Path) {
    let blob =
        |digest: &Value| layout.join("blobs/sha256").join(&digest.as_str().unwrap()["sha256:".len()..]);
    let read = |path: &Path| -> Value { serde_json::from_slice(&fs::read(path).unwrap()).unwrap() };
    let write = |value: &Value, of: &mut Value| {
        let bytes = serde_json::to_vec(value).unwrap();
        of["digest"] = Value::from(format!("sha256:{}", sha256_hex(&bytes)));
        of["size"] = Value::from(bytes.len());
        fs::write(blob(&of["digest"]), bytes).unwrap();
    };
    let repeat = |list: &mut Value| {
        let list = list.as_array_mut().unwrap();
        list.push(list[0].clone());
    };
    let mut index = read(&layout.join("index.json"));
    let mut manifest = read(&blob(&index["manifests"][0]["digest"]));
    let mut config = read(&blob(&manifest["config"]["digest"]));
    repeat(&mut config["rootfs"]["diff_ids"]);
    repeat(&mut manifest["layers"]);
    write(&config, &mut manifest["config"]);
    write(&manifest, &mut index["manifests"][0]);
    fs::write(layout.join("index.json"), serde_json::to_vec(&index).unwrap()).unwrap();
}

#[test]
fn an_image_may_have_the_same_layer_twice() {
    let program = with_app();
    repeat_first_layer(&program.path("image"));
    let said = program.run("run image audit --set TOKEN=hunter2");
    assert_eq!(said.code, 0, "{said}");
    assert!(said.stdout.contains("folder /app"), "{said}");
}

#[test]
fn a_process_sees_only_its_image() {
    let program = with_app();
    insta::assert_snapshot!(program.run("run ferry audit --set TOKEN=hunter2 -- --from 2026"), @"
    user 1000
    capabilities 0000000000000000
    no new privileges 1
    filter 2
    folder /app
    processes 2
    may write false false true
    host root 0
    HARBOUR Kestrel
    TOKEN hunter2
    PATH /app/node_modules/.bin:/opt/node/bin:/usr/local/bin:/usr/bin:/bin
    arguments --from 2026
    --- exit 0
    ");
}

#[test]
fn the_status_is_the_process_own_and_faults_are_told() {
    let program = with_app();
    assert_eq!(program.run("run ferry fail --set TOKEN=hunter2").code, 7);
    insta::assert_snapshot!(program.run("run ferry gone --set TOKEN=hunter2"), @r#"
    --- stderr
    error: the image cannot start "no-such-program": No such file or directory (os error 2)
    what to do: check the command of the process type; `shtetl show` lists it
    more: shtetl explain sandbox-not-started
    --- exit 1
    "#);
    insta::assert_snapshot!(program.run("run ferry audit"), @"
    --- stderr
    error: no value for TOKEN
    what to do: give one: --set TOKEN=VALUE
    more: shtetl explain run-settings-missing
    --- exit 2
    ");
    insta::assert_snapshot!(program.run("run ferry audit --set hunter2"), @"
    --- stderr
    error: --set hunter2: the environment has no such variable
    what to do: export hunter2, or write --set hunter2=VALUE
    --- exit 2
    ");
    let taken = std::net::TcpListener::bind("0.0.0.0:0").unwrap();
    let port = taken.local_addr().unwrap().port();
    let said = program.run(&format!("run ferry --port {port} --set TOKEN=hunter2"));
    assert_eq!(said.code, 3, "{said}");
    assert!(said.stderr.contains("is in use"), "{said}");
}

#[test]
fn a_web_process_that_ends_at_once_is_not_waited_for() {
    let program = with_app();
    program.edit("ferry/package.json", "node page.html", "node --say 7");
    let _ = program.succeed("build ferry --anyway");
    let started = std::time::Instant::now();
    assert_eq!(program.run("run ferry --port 0 --set TOKEN=hunter2").code, 7);
    // Half of what a process that lives is given to listen.
    assert!(started.elapsed() < std::time::Duration::from_secs(5));
}

#[test]
fn killing_the_program_kills_the_process() {
    let program = with_app();
    // On its own network, nobody could tell.
    let mut served = serve(&program, "host");
    let port = served.port;
    served.child.kill().unwrap();
    served.child.wait().unwrap();
    let deadline = std::time::Instant::now() + std::time::Duration::from_secs(10);
    while running::http::ask(port, "/").is_ok() {
        assert!(std::time::Instant::now() < deadline, "the process outlived the program");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
}

#[test]
fn a_secret_is_nowhere_in_the_store() {
    let program = with_app();
    let _ = program.succeed("run ferry audit --set TOKEN=hunter2");
    let mut pending = vec![program.path("store")];
    while let Some(folder) = pending.pop() {
        for entry in fs::read_dir(folder).unwrap().flatten() {
            match entry.file_type().unwrap() {
                kind if kind.is_dir() => pending.push(entry.path()),
                kind if kind.is_file() => {
                    let bytes = fs::read(entry.path()).unwrap();
                    assert!(!bytes.windows(7).any(|w| w == b"hunter2"), "{}", entry.path().display());
                }
                _ => {}
            }
        }
    }
}

#[test]
fn a_write_that_failed_is_named_with_the_line_to_add() {
    let program = with_app();
    program.edit(
        "ferry/shtetl.toml",
        "[task.fail]",
        "[task.keep]\nrun = \"node --keep data/tides.json\"\n[task.fail]",
    );
    program.write("ferry/data/.keep", "");
    let _ = program.succeed("build ferry --anyway");
    let said = program.run("run ferry keep --set TOKEN=x").stderr;
    let notes: Vec<&str> = said.lines().filter(|line| line.starts_with("note:")).collect();
    let note = "note: keep could not write to data: in shtetl.toml, under [task.keep]: writable = [\"data\"], and build again; \
        run --data DIR keeps what it writes";
    assert_eq!(notes, [note], "once, however often it is tried: {said}");
}

#[test]
fn ports_of_this_machine_lead_to_the_port_that_each_process_has_for_itself() {
    let program = with_app();
    let (one, other) = (serve(&program, "own"), serve(&program, "own"));
    assert_ne!(one.port, other.port);
    for served in [&one, &other] {
        assert_eq!(running::http::ask(served.port, "/").unwrap().0, 200);
        // Connections are led on one by one, and many at once.
        std::thread::scope(|scope| {
            for _ in 0..16 {
                scope.spawn(|| {
                    assert_eq!(running::http::ask(served.port, "/").unwrap().1, "the ferry sails\n")
                });
            }
        });
    }
}

#[test]
fn a_process_reaches_the_ports_of_this_machine_that_it_is_given() {
    let program = with_app();
    let database = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = database.local_addr().unwrap().port();
    program.edit("ferry/shtetl.toml", "[task.fail]", "[task.ask]\nrun = \"node --ask\"\n[task.fail]");
    let _ = program.succeed("build ferry --anyway");
    std::thread::spawn(move || {
        for mut stream in database.incoming().flatten() {
            let _ = stream.write_all(b"the tide is high");
        }
    });
    let ask = |more: &str| program.run(&format!("run ferry ask --set TOKEN=x {more} -- {port}"));
    let alone = ask("");
    assert_eq!(alone.code, 1, "{alone}");
    let told = alone.stderr.replace(&port.to_string(), "[port]");
    insta::assert_snapshot!(told, @"
    Error: Connection refused (os error 111): 127.0.0.1:[port]
    note: ask has its own network: run --reach [port] lets it reach that port on this machine
    ");
    for network in [format!("--reach {port}"), "--network host".to_owned()] {
        let said = ask(&network);
        assert_eq!(said.stdout, "the tide is high\n", "{network}: {said}");
    }
}

#[test]
fn a_secret_need_not_stand_in_the_command_line() {
    let program = with_app();
    program.write("live.env", "# of the pier\nTOKEN=hunter2\nHARBOUR=\"Fog Sound\"\n");
    let lines = |said: &testkit::program::Said| -> Vec<String> {
        assert_eq!(said.code, 0, "{said}");
        let is_setting = |line: &&str| line.starts_with("TOKEN") || line.starts_with("HARBOUR");
        said.stdout.lines().filter(is_setting).map(str::to_owned).collect()
    };
    let of_file = program.run("run ferry audit --settings-file live.env");
    assert_eq!(lines(&of_file), ["HARBOUR Fog Sound", "TOKEN hunter2"]);
    // What is said last and nearest counts.
    let both = program.run("run ferry audit --settings-file live.env --set HARBOUR=Kestrel");
    assert_eq!(lines(&both), ["HARBOUR Kestrel", "TOKEN hunter2"]);
    let mut command = program.command(["run", "ferry", "audit", "--settings-file", "-"]);
    let mut child =
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(b"TOKEN=whispered\n").unwrap();
    let said = program.said(&child.wait_with_output().unwrap());
    assert_eq!(lines(&said), ["HARBOUR Kestrel", "TOKEN whispered"]);
    program.write("wrong.env", "TOKEN=hunter2\nhunter2\n");
    insta::assert_snapshot!(program.run("run ferry audit --settings-file wrong.env"), @"
    --- stderr
    error: wrong.env line 2 is not NAME=VALUE
    what to do: write one setting on each line; lines starting with # are comments
    --- exit 2
    ");
    insta::assert_snapshot!(program.run("run ferry audit --settings-file none.env").stderr, @"
    error: none.env: No such file or directory (os error 2)
    what to do: give a file with lines NAME=VALUE, or - for standard input
    ");
    insta::assert_snapshot!(program.run("run ferry audit --set TOKEN").stderr, @"
    error: --set TOKEN: the environment has no such variable
    what to do: export TOKEN, or write --set TOKEN=VALUE
    ");
    let from_environment = program.with("TOKEN", "exported").run("run ferry audit --set TOKEN");
    assert_eq!(lines(&from_environment), ["HARBOUR Kestrel", "TOKEN exported"]);
}

#[test]
fn a_process_that_listens_elsewhere_answers_and_is_told_where() {
    let program = with_app();
    let fixed = "[process.web]\nrun = \"env PORT=9123 node page.html\"\n[task.fail]";
    program.edit("ferry/shtetl.toml", "[task.fail]", fixed);
    let _ = program.succeed("build ferry --anyway --tag fixed");
    let (served, lines) = serve_with(&program, &["run", "ferry:fixed", "--port", "0", "--set", "TOKEN=x"]);
    assert_eq!(running::http::ask(served.port, "/").unwrap(), (200, "the ferry sails\n".to_owned()));
    let note: Vec<String> = lines.skip_while(|line| !line.starts_with("note:")).take(2).collect();
    assert_eq!(
        note,
        [
            "note: web listens on port 9123, but the image declares another one",
            "what to do: in shtetl.toml, under [process.web]: port = 9123, and build again",
        ]
    );
}
