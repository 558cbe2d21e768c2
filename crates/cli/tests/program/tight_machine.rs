//! Machines that give little: small limits, full disks, file systems that can only be read.

use crate::program;
use std::time::Duration;
use testkit::program::Program;

/// Pages with a chart that does not get shorter when it is compressed.
fn with_app() -> Program {
    let program = program().with_demo();
    let mut state = 1_u32;
    let chart: Vec<u8> = std::iter::repeat_with(|| {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        state.to_be_bytes()[0]
    })
    .take(300_000)
    .collect();
    program.write("notices/site/chart.bin", chart);
    let _ = program.succeed("build notices --layout first");
    program
}

#[test]
fn a_limit_for_the_size_of_files_is_told_in_place_of_a_silent_end() {
    let program = with_app();
    let said = program.run_after("ulimit -f 8", "build notices --layout out --store fresh");
    assert!(said.code == 3 && said.stderr.contains("the limit for file sizes (ulimit -f)"), "{said}");
    assert_eq!(program.run("build notices --store fresh").code, 0, "what is half written does no harm");
}

#[test]
fn too_few_open_files_are_told_at_once_and_few_will_do() {
    let program = with_app();
    insta::assert_snapshot!(program.run_after("ulimit -n 16", "build notices"), @"
    --- stderr
    error: the limit for open files is 16, and at least 64 are needed
    what to do: raise the limit: ulimit -n 1024
    more: shtetl explain machine-few-files
    --- exit 3
    ");
    let said = program.run_after("ulimit -n 64", "build notices --store fresh");
    assert_eq!(said.code, 0, "{said}");
}

#[test]
#[expect(clippy::print_stdout, reason = "a test that is skipped says so")]
fn a_full_disk_is_told_where_it_is_full() {
    if !Program::may_act_as_others() {
        println!("not tried: only the superuser mounts a small disk");
        return;
    }
    let program = with_app();
    std::fs::create_dir(program.path("small")).unwrap();
    // Mounted for this process alone.
    let within = |arguments: &str| {
        let mount = "/bin/mount -t tmpfs -o size=100k tmpfs small";
        let inside =
            format!("exec /usr/bin/unshare -m /bin/sh -c '{mount} && exec \"$0\" \"$@\"' \"$0\" \"$@\"");
        program.run_after(&inside, arguments)
    };
    for (arguments, place) in [
        ("build notices --layout small/out", "error: small/out/blobs/sha256/"),
        ("build notices --archive small/out.tar", "error: small/.out.tar."),
        // What is written first when the disk is full differs from run to run.
        ("build notices --store small/store", "store"),
    ] {
        let said = within(arguments);
        assert!(said.code == 3 && said.stderr.contains(": the disk is full"), "{said}");
        assert!(said.stderr.contains(place), "{said}");
    }
    assert_eq!(program.json("store check")["checked"]["damaged"], serde_json::json!([]));
}

#[test]
#[expect(clippy::print_stdout, reason = "a test that is skipped says so")]
fn what_a_store_holds_can_be_read_where_it_cannot_be_written() {
    if !Program::may_act_as_others() {
        println!("not tried: only the superuser mounts the store read-only");
        return;
    }
    let program = with_app();
    // What was left alone for two seconds is remembered from then on: here it cannot be.
    std::thread::sleep(Duration::from_millis(2_100));
    let within = |arguments: &str| {
        let mount = "/bin/mount --bind store store && /bin/mount -o remount,ro,bind store";
        let inside =
            format!("exec /usr/bin/unshare -m /bin/sh -c '{mount} && exec \"$0\" \"$@\"' \"$0\" \"$@\"");
        program.run_after(&inside, arguments)
    };
    for reading in [
        "survey notices",
        "check notices",
        "settings notices",
        "addresses notices",
        "show notices",
        "ledger notices",
        "store usage",
        "store check",
        "build notices --dry-run",
    ] {
        let said = within(reading);
        assert_eq!(said.code, 0, "{reading}: {said}");
    }
    for writing in ["build notices", "run notices", "store prune --keep 1GB"] {
        let said = within(writing);
        assert!(said.code == 3 && said.stderr.contains("the file system is read-only"), "{writing}: {said}");
    }
}
