//! The store: content comes out as it was put in, or is recreated; other users cannot read it.

use crate::program;
use serde_json::Value;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::{env, fs};
use testkit::archives::sha256_hex;
use testkit::program::{Program, copy_tree};

/// What happens to a file of a store; places are in sixty-fourths of its length.
#[derive(Debug, Clone, Copy)]
enum Fault {
    /// One bit there is another one.
    Flipped(usize),
    /// The rest from there is gone.
    CutOff(usize),
    /// It is the content of another file of the same folder.
    Exchanged,
    /// It is a link to such a file.
    Linked,
    /// It is gone.
    Deleted,
    /// There is more behind its end.
    Grown,
}

/// Those that are tried on every file: a few, or with `SHTETL_FAULTS=N` in the environment flips and cuts at N places.
fn faults() -> Vec<Fault> {
    let places = env::var("SHTETL_FAULTS").ok().and_then(|text| text.parse().ok()).unwrap_or(1).clamp(1, 64);
    let places = (0..places).map(|number| (32 + number * 64 / places) % 64);
    let at_places = places.flat_map(|place| [Fault::Flipped(place), Fault::CutOff(place)]);
    at_places.chain([Fault::Exchanged, Fault::Linked, Fault::Deleted, Fault::Grown]).collect()
}

/// The files of a store that results are read from.
fn files_of(store: &Path) -> Vec<PathBuf> {
    let mut files = Vec::new();
    let mut pending = vec![store.to_owned()];
    while let Some(folder) = pending.pop() {
        for path in fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            let is_result = !["locks", "tmp", "ledger"].iter().any(|aside| path.ends_with(aside));
            if path.is_dir() && is_result {
                pending.push(path);
            } else if path.is_file() {
                files.push(path);
            }
        }
    }
    files.sort();
    files
}

fn damage(file: &Path, fault: Fault) {
    let mut bytes = fs::read(file).unwrap();
    let length = bytes.len();
    let sibling = || {
        let siblings = fs::read_dir(file.parent().unwrap()).unwrap().map(|entry| entry.unwrap().path());
        siblings.filter(|path| path.is_file() && path != file).max()
    };
    match fault {
        Fault::Flipped(place) => bytes[length * place / 64] ^= 4,
        Fault::CutOff(place) => bytes.truncate(length * place / 64),
        Fault::Exchanged => bytes = sibling().map(|path| fs::read(path).unwrap()).unwrap_or_default(),
        Fault::Grown => bytes.extend_from_slice(b"more"),
        Fault::Deleted | Fault::Linked => {
            fs::remove_file(file).unwrap();
            if let (Fault::Linked, Some(other)) = (fault, sibling()) {
                symlink(other, file).unwrap();
            }
            return;
        }
    }
    fs::write(file, bytes).unwrap();
}

/// Builds into an empty layout and checks every blob of it; gives the digest of the image.
fn build_into_layout(program: &Program, app: &str) -> Value {
    let layout = program.path("layout");
    let _ = fs::remove_dir_all(&layout);
    let built = program.json(&format!("build {app} --layout layout"));
    for blob in fs::read_dir(layout.join("blobs/sha256")).unwrap().map(|entry| entry.unwrap().path()) {
        assert_eq!(sha256_hex(&fs::read(&blob).unwrap()), blob.file_name().unwrap().to_str().unwrap());
    }
    built["digest"].clone()
}

fn no_fault_gets_into_an_image(app: &str) {
    let program = program().with_demo();
    let digest = build_into_layout(&program, app);
    let (store, whole) = (program.path("store"), program.path("whole"));
    copy_tree(&store, &whole);
    let files = files_of(&store);
    assert!(files.len() > 20, "{files:?}");
    for file in files {
        for fault in faults() {
            damage(&file, fault);
            assert_eq!(build_into_layout(&program, app), digest, "{fault:?}: {}", file.display());
            fs::remove_dir_all(&store).unwrap();
            copy_tree(&whole, &store);
        }
    }
}

#[test]
fn no_damaged_file_of_a_store_gets_into_an_image_of_node() {
    no_fault_gets_into_an_image("timetable");
}

#[test]
fn no_damaged_file_of_a_store_gets_into_an_image_of_python() {
    no_fault_gets_into_an_image("fares");
}

#[test]
fn damage_is_told_and_made_good() {
    let program = program().with_demo();
    let built = program.json("build notices");
    let digest = built["digest"].as_str().unwrap().replace("sha256:", "");
    fs::write(program.path("store/blobs/sha256").join(&digest), "{}").unwrap();
    assert_eq!(program.json("build notices")["digest"], built["digest"], "a damaged index is written again");

    let layer = built["layers"][3]["digest"].as_str().unwrap().replace("sha256:", "store/blobs/sha256/");
    damage(&program.path(&layer), Fault::Flipped(32));
    let said = program.run("build notices");
    assert!(said.stderr.contains("app files: running (its result was damaged"), "{said}");
    assert_eq!(program.json("build notices")["digest"], built["digest"]);
    assert!(!program.run("build notices").stderr.contains("damaged"), "it is told once");
}

#[test]
fn a_store_is_its_users_alone() {
    let program = program().with_demo();
    let store = program.path("store");
    let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
    let _ = program.succeed("build notices");
    assert_eq!(mode(&store), 0o700);
    fs::set_permissions(&store, fs::Permissions::from_mode(0o755)).unwrap();
    let _ = program.succeed("build notices");
    assert_eq!(mode(&store), 0o700, "an open store is closed");

    if Program::may_act_as_others() {
        std::os::unix::fs::chown(&store, Some(65_534), None).unwrap();
        let said = program.run("build notices");
        assert_eq!(said.code, 2, "a store of somebody else is not used: {said}");
    }
}

#[test]
fn a_layout_leaves_other_files_alone() {
    let program = program().with_demo();
    let _ = program.succeed("build notices --layout release");
    let notes = ["release/notes.txt", "release/blobs/sha256/notes.txt"];
    for note in notes {
        program.write(note, "sailing on Monday\n");
    }
    let first = files_of(&program.path("release"));
    program.write("notices/new.html", "<p>new</p>");
    let _ = program.succeed("build notices --layout release");
    let second = files_of(&program.path("release"));
    assert_eq!(first.len(), second.len(), "the blobs of the image before are gone: {first:?} {second:?}");
    for note in notes {
        assert_eq!(fs::read_to_string(program.path(note)).unwrap(), "sailing on Monday\n");
    }
    let _ = program.succeed("show release");

    // The folder that the command is run in, with the source in it, is no layout.
    let before = files_of(&program.path("notices"));
    for folder in [".", "notices", "notices/index.html"] {
        let said = program.run(&format!("build notices --layout {folder}"));
        assert_eq!(said.code, 2, "{said}");
    }
    assert_eq!(files_of(&program.path("notices")), before);
}

#[test]
fn two_builds_into_one_layout_take_turns() {
    let program = program().with_demo();
    let digests = ["fares", "timetable"].map(|app| program.json(&format!("build {app}"))["digest"].clone());
    for _ in 0..5 {
        let commands = ["fares", "timetable"].map(|app| {
            let mut command = program.command(["build", app, "--layout", "release"]);
            command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null());
            command.spawn().unwrap()
        });
        for mut command in commands {
            assert!(command.wait().unwrap().success());
        }
        let shown = program.json("show release")["digest"].clone();
        assert!(digests.contains(&shown), "{shown} is none of {digests:?}");
    }
}

#[test]
fn a_store_without_its_checks_is_read_and_checked_again() {
    let program = program().with_demo();
    let digest = program.json("build fares")["digest"].clone();
    fs::remove_dir_all(program.path("store/blobs/verified")).unwrap();
    let again = program.json("build fares");
    assert_eq!(again["digest"], digest);
    assert!(again["steps"].as_array().unwrap().iter().all(|step| step["because"].is_null()), "{again:#}");
}

#[test]
fn pruning_leaves_images_whole_and_what_is_gone_is_made_again() {
    let program = program().with_demo();
    let built =
        ["fares", "timetable", "notices"].map(|app| program.json(&format!("build {app}"))["digest"].clone());
    let told = program.json("store prune --older 0d --dry-run")["pruned"].clone();
    let before = files_of(&program.path("store/blobs"));
    assert!(told["bytes"].as_u64().unwrap() > 0 && !before.is_empty());
    let _ = program.succeed("store prune --older 0d");
    // Images can still be shown and written, without recreating anything.
    for (app, digest) in ["fares", "timetable", "notices"].iter().zip(&built) {
        assert_eq!(program.json(&format!("show {app}"))["digest"], *digest);
        let again = program.json(&format!("build {app} --layout release-{app}"));
        assert_eq!(again["digest"], *digest, "{app}");
        assert!(again["steps"].as_array().unwrap().iter().all(|step| step["because"].is_null()), "{again:#}");
    }
    // What a forgotten image alone needs goes, and comes again when it is built.
    let _ = program.succeed("store forget timetable");
    assert_eq!(program.run("show timetable").code, 2);
    let _ = program.succeed("store prune --older 0d");
    let again = program.json("build timetable");
    assert_eq!(again["digest"], built[1]);
    assert!(again["steps"].as_array().unwrap().iter().any(|step| !step["because"].is_null()), "{again:#}");
    // Down to nothing but images that have a name.
    let left = program.json("store prune --keep 0kB")["pruned"]["left"].as_u64().unwrap();
    assert!(left > 0);
    assert_eq!(program.json("build fares")["digest"], built[0]);
}

#[test]
fn nothing_is_pruned_of_what_young_steps_or_damaged_images_need() {
    let program = program().with_demo();
    let digest = program.json("build fares")["digest"].clone();
    assert_eq!(program.json("store prune --older 30d")["pruned"]["bytes"], 0);
    // An image whose documents cannot be read may need anything.
    let index = digest.as_str().unwrap().trim_start_matches("sha256:").to_owned();
    program.write(&format!("store/blobs/sha256/{index}"), "damaged");
    let layers = || files_of(&program.path("store/blobs/sha256")).len();
    let before = layers();
    let said = program.succeed("store prune --older 0d");
    assert!(said.stderr.contains("no image data was removed"), "{said}");
    assert_eq!(layers(), before);
    let said = program.run("store check");
    assert_eq!(said.code, 1, "{said}");
    assert!(said.stdout.contains(&index), "{said}");
    let _ = program.succeed("store check --repair");
    assert_eq!(program.json("build fares")["digest"], digest);
    assert_eq!(program.run("store check").code, 0);
}

#[test]
fn everything_that_is_verified_when_it_is_read_is_verified_by_a_check() {
    let program = program().with_demo();
    for app in ["fares", "timetable", "notices"] {
        let _ = program.succeed(&format!("build {app}"));
    }
    assert_eq!(program.run("store check").code, 0);
    let mut spoilt = 0;
    for folder in ["blobs/sha256", "steps", "ledger", "images", "fragments/zstd-4", "trees"] {
        for file in files_of(&program.path("store").join(folder)) {
            let whole = fs::read(&file).unwrap();
            let mut other = whole.clone();
            let middle = other.len() / 2;
            other[middle] ^= 0x10;
            fs::write(&file, &other).unwrap();
            let said = program.run("store check");
            let name = file.strip_prefix(program.path("store")).unwrap().display().to_string();
            assert!(said.code == 1 && said.stdout.contains(&format!("{name}  damaged")), "{said}");
            fs::write(&file, &whole).unwrap();
            spoilt += 1;
        }
    }
    assert!(spoilt > 30, "{spoilt}");
    assert_eq!(program.run("store check").code, 0);
}

#[test]
fn a_store_stays_within_the_limit_of_its_user() {
    let program = program().with_demo();
    program.write("home/.config/shtetl/config.toml", "[store]\nkeep = \"500kB\"\n");
    let size = |program: &Program| -> u64 {
        let kinds = program.json("store usage")["kinds"].as_array().unwrap().clone();
        kinds.iter().map(|kind| kind["bytes"].as_u64().unwrap()).sum()
    };
    let mut told = 0;
    for round in 0..12_u8 {
        // Each round another file of 100 kB that does not get shorter.
        let mut state = u32::from(round) + 1;
        let mut next = || {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            state.to_be_bytes()[0]
        };
        program.write("notices/chart.bin", (0..100_000).map(|_| next()).collect::<Vec<u8>>());
        let said = program.succeed("build notices");
        told += usize::from(said.stderr.contains("to keep it below 500 kB"));
        // On the disk, files take whole blocks.
        assert!(size(&program) < 600_000, "round {round}");
    }
    assert!(told > 3, "{told}");
    assert!(program.succeed("build notices").stdout.contains("nothing ran"), "the image itself stays");
}

#[test]
fn builds_pruning_and_checks_beside_each_other_do_no_harm() {
    const COMMANDS: [&str; 7] = [
        "build fares --format json",
        "build notices --format json",
        "build fares --layout out --format json",
        "store prune --older 0d",
        "store check --repair",
        "store usage",
        "show fares",
    ];
    let program = program().with_demo();
    let right = ["fares", "notices"].map(|app| program.json(&format!("build {app}"))["digest"].clone());
    std::thread::scope(|scope| {
        for first in 0..4 {
            let (program, right) = (&program, &right);
            scope.spawn(move || {
                for step in 0..14 {
                    // Each thread goes through them in another order.
                    let command = COMMANDS[(first * 3 + step * (first + 1)) % COMMANDS.len()];
                    let said = program.run(command);
                    assert!(!said.stderr.contains("panicked"), "{command}: {said}");
                    if let Some(built) = command.strip_prefix("build ") {
                        assert_eq!(said.code, 0, "{command}: {said}");
                        let digest = serde_json::from_str::<Value>(&said.stdout).unwrap()["digest"].clone();
                        assert_eq!(digest, right[usize::from(built.starts_with("notices"))], "{command}");
                    } else {
                        // Nobody prunes while others are at work.
                        assert!(
                            said.code == 0 || command.contains("prune") && said.code == 3,
                            "{command}: {said}"
                        );
                    }
                }
            });
        }
    });
    assert_eq!(program.run("store check").code, 0);
    assert_eq!(program.json("build fares")["digest"], right[0]);
}

#[test]
fn limits_that_are_none_and_images_that_are_not_there_are_refused() {
    let program = program();
    for (arguments, code) in [
        ("store prune", 2),
        ("store prune --keep 20", 2),
        ("store prune --older soon", 2),
        ("store prune --keep 1GB --older 3d", 2),
        ("store forget ferry", 2),
        ("store usage", 0),
        ("store check", 0),
    ] {
        let said = program.run(arguments);
        assert_eq!(said.code, code, "{arguments}: {said}");
    }
}
