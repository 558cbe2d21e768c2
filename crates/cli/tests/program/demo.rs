//! `demo`, with the runtimes of the machine that the tests run on.

use crate::program;

#[test]
fn the_demo_goes_through_the_whole_job_and_can_be_taken_up_again() {
    let program = program().without("SHTETL_HOST_ROOT").with("PATH", &std::env::var("PATH").unwrap());
    let said = program.succeed("demo apps --no-pause");
    for (runtime, app, answer) in [
        ("node", "timetable", "Sailings from Kestrel Harbour today"),
        ("python3", "fares", "audited 3 fares, 0 wrong"),
        ("python3", "notices", "<title>Notices of Kestrel Sound</title>"),
    ] {
        // The demo itself says which runtime the machine lacks.
        let missing = said.stdout.contains(&format!("{app} is left out"));
        assert_ne!(said.stdout.contains(answer), missing, "{runtime} for {app}\n{said}");
    }
    for part in [
        "nothing changed, nothing ran",
        "source: server.js changed",
        "layers  1 changed, 3 the same",
        "with the trusted key",
        "release 2 of timetable is now current",
        "release 3 of timetable is now current",
        "3 apps built, 3 unchanged",
        "What to try next",
    ] {
        assert!(said.stdout.contains(part), "{part}\n{said}");
    }
    let again = program.succeed("demo apps --no-pause");
    assert!(again.stdout.contains("\"Ferries from\" became \"Sailings from\""), "{again}");
    program.write("mine/file", "");
    let refused = program.run("demo mine --no-pause");
    assert!(refused.code == 2 && refused.stderr.contains("mine already exists"), "{refused}");
}

#[test]
fn without_runtimes_the_demo_shows_what_it_can() {
    let program = program().with("PATH", "/nowhere");
    let said = program.succeed("demo --no-pause");
    assert!(said.stdout.contains("timetable is left out: this machine has no node."), "{said}");
    assert!(said.stdout.contains("why node"), "{said}");
    assert!(said.stderr.contains("Try --base debian:trixie"), "{said}");
}
