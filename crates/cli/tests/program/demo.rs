//! `demo`, with the runtimes of the machine that the tests run on.

use crate::program;

#[test]
fn the_demo_goes_through_the_whole_job() {
    let program = program().without("SHTETL_HOST_ROOT").with("PATH", &std::env::var("PATH").unwrap());
    let said = program.succeed("demo apps --no-pause");
    for (runtime, app, answer) in [
        ("node", "timetable", "Sailings from Kestrel Harbour today"),
        ("python3", "fares", "audited 3 fares, 0 wrong"),
        ("python3", "notices", "<title>Notices of Kestrel Sound</title>"),
    ] {
        // The demo itself says which runtime the machine lacks.
        let missing = said.stderr.contains(&format!("the demo goes on without {app}"));
        assert_ne!(said.stdout.contains(answer), missing, "{runtime} for {app}\n{said}");
    }
    assert!(
        said.stdout.contains("nothing changed, nothing ran") && said.stdout.contains("changed\n"),
        "{said}"
    );
    let again = program.run("demo apps --no-pause");
    assert_eq!(again.code, 2, "an earlier demo is not written over: {again}");
}
