//! The commands that the guides print, run as printed: in a folder with the sample apps, where the registries that they
//! name are a stand-in.

use crate::documents::{blocks, documents};
use crate::program;
use std::collections::BTreeSet;
use std::path::Path;
use testkit::oci_registry::{Faults, OciRegistry};
use testkit::program::Program;

/// Hosts that guides name; each is the stand-in here.
const REGISTRIES: [&str; 2] = ["harbour.example", "quay.example"];
/// What runs until somebody ends it is ended after a while, as by Ctrl-C; another machine is this one.
const SHELL: &str = r#"
set -eu
shtetl() {
    case "$*" in
        "run "* | *--follow* | "yard watch"*)
            status=0
            /usr/bin/timeout -s INT 4 "$SHTETL" "$@" || status=$?
            [ $status = 0 ] || [ $status = 124 ]
            ;;
        *) "$SHTETL" "$@" ;;
    esac
}
ssh() { shift; "$@"; }
SHTETL=$0
"#;

/// The guide whose apps have to run: stand-ins for their runtimes end at once.
const RUNNING: &str = "docs/yard.md";
/// Where their runtimes are, on a machine that has them.
const RUNTIMES: [&str; 2] = ["/usr/bin/node", "/usr/bin/python3"];

/// Sample apps that were built and pushed; a yard is stopped with it.
struct Place {
    program: Program,
    registry: OciRegistry,
}

impl Drop for Place {
    fn drop(&mut self) {
        let _ = self.program.run("yard stop");
    }
}

impl Place {
    fn of(guide: &str) -> Self {
        let program = match guide {
            RUNNING => program().with("PATH", "/usr/bin:/bin").with("SHTETL_HOST_ROOT", "/"),
            _ => program(),
        };
        let place = Self { program: program.with_demo(), registry: OciRegistry::start(Faults::default()) };
        for build in ["timetable --tag 13", "timetable --tag 14", "timetable", "fares"] {
            place.in_shell(&format!("shtetl build {build}"));
        }
        let host = place.registry.host();
        let _ = place.program.succeed(&format!("push timetable:14 {host}/ferry/timetable:14"));
        place
    }

    fn in_shell(&self, commands: &str) {
        let host = self.registry.host();
        let commands = REGISTRIES.iter().fold(commands.to_owned(), |text, name| text.replace(name, &host));
        let said = self.program.run_after(&format!("{SHELL}{commands}\nexit 0"), "");
        assert_eq!(said.code, 0, "{commands}\n{said}");
    }
}

#[test]
#[expect(clippy::print_stdout, reason = "a guide that is skipped is named")]
fn commands_of_the_guides_work_as_printed() {
    let mut tried = BTreeSet::new();
    for (guide, text) in documents() {
        let all = blocks(&text);
        let mut commands = all.iter().filter(|(kind, _)| *kind == "sh demo").peekable();
        if commands.peek().is_none() {
            continue;
        }
        if guide == RUNNING && !RUNTIMES.iter().all(|path| Path::new(path).exists()) {
            println!("{guide} was not tried: there is no {}", RUNTIMES.join(" or "));
            continue;
        }
        let place = Place::of(&guide);
        commands.for_each(|(_, block)| place.in_shell(block));
        tried.insert(guide);
    }
    assert!(tried.len() >= 6, "{tried:?}");
}
