//! A build command that compiles for real: with the compiler of the machine that runs the tests.

use crate::debian::{with_archive, workshop_packages};
use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use testkit::debian::{Item, Package, Signer};

/// What a compilation of C without shared libraries takes.
const PROGRAMS: [&str; 4] = ["cc1", "collect2", "as", "ld"];
const FILES: [&str; 9] = [
    "crt1.o",
    "crti.o",
    "crtn.o",
    "crtbeginT.o",
    "crtend.o",
    "libgcc.a",
    "libgcc_eh.a",
    "libc.a",
    "liblto_plugin.so",
];

fn answer(program: &str, argument: &str) -> Option<String> {
    let output = Command::new(program).arg(argument).output().ok()?;
    output.status.success().then(|| String::from_utf8_lossy(&output.stdout).trim().to_owned())
}

/// The shared libraries of a program, by the names under which they are loaded.
pub fn libraries(program: &Path) -> Vec<PathBuf> {
    let listed = answer("ldd", program.to_str().unwrap()).unwrap_or_default();
    let path = |line: &str| line.split_whitespace().find(|word| word.starts_with('/')).map(PathBuf::from);
    listed.lines().filter_map(path).collect()
}

/// The compiler's files as they lie on the machine; nothing when it lacks one of them.
fn compiler() -> Option<BTreeSet<PathBuf>> {
    let mut files = BTreeSet::from([PathBuf::from("/usr/bin/gcc")]);
    for name in PROGRAMS {
        let told = PathBuf::from(answer("gcc", &format!("-print-prog-name={name}"))?);
        files.insert(if told.is_absolute() { told } else { Path::new("/usr/bin").join(told) });
    }
    let shared: Vec<PathBuf> = files.iter().flat_map(|program| libraries(program)).collect();
    files.extend(shared);
    for name in FILES {
        files.insert(PathBuf::from(answer("gcc", &format!("-print-file-name={name}"))?));
    }
    files.iter().all(|file| file.is_absolute() && file.exists()).then_some(files)
}

/// A package that installs files of the machine where they lie.
pub fn package(name: &str, files: &BTreeSet<PathBuf>) -> Package {
    let mut package = Package::new(name, "1", "", &[]);
    for file in files {
        // The folder may be written with steps back; the name is the one that is asked for.
        let folder = file.parent().unwrap().canonicalize().unwrap();
        let path = folder.join(file.file_name().unwrap());
        package = package.with(&format!(".{}", path.display()), Item::Program(fs::read(file).unwrap()));
        if path.to_string_lossy().contains("/ld-linux") {
            let wanted = format!("./usr/lib64/{}", path.file_name().unwrap().to_string_lossy());
            package = package.with(&wanted, Item::Program(fs::read(file).unwrap()));
        }
    }
    package
}

#[test]
#[expect(clippy::print_stdout, reason = "a test that cannot run says so")]
fn a_build_command_compiles_and_what_it_made_runs() {
    let Some(files) = compiler() else {
        println!("skipped: this machine has no complete C compiler");
        return;
    };
    let mut packages = workshop_packages();
    packages.retain(|one| one.name != "libhorn-dev");
    packages.push(package("libhorn-dev", &files));
    let program = with_archive(&Signer::new(), &packages, "");
    let source = "int puts(const char *);\nint main(void) {\n    return puts(\"the horn sounds\") < 0;\n}\n";
    program.write("app/src/horn.c", source);
    program.write("app/dist/readme", "");
    let build = "build-packages = [\"libhorn-dev\"]\n[process.web]\nrun = [\"dist/horn\"]\n[build]\n\
        run = [\"gcc\", \"-ffreestanding\", \"-static\", \"-o\", \"dist/horn\", \"src/horn.c\"]\nkeep = [\"dist/**\"]\n[addresses]";
    program.edit("app/shtetl.toml", "[addresses]", build);
    let first = program.json("build app");
    let said = program.succeed("run app");
    assert!(said.stdout.contains("the horn sounds"), "{said}");
    // The same from an empty store, and something else from another source.
    assert_eq!(program.json("build app --store other")["digest"], first["digest"]);
    program.edit("app/src/horn.c", "sounds", "is silent");
    let _ = program.succeed("build app");
    let said = program.succeed("run app");
    assert!(said.stdout.contains("the horn is silent"), "{said}");
    // What does not compile is told with the compiler's own words.
    program.edit("app/src/horn.c", "return", "retrun");
    let failed = program.run("build app");
    assert!(failed.code == 1 && failed.stderr.contains("retrun"), "{failed}");
}
