//! `--watch`: an edit is an image, and an answer.

use crate::followed::Followed;
use crate::run::with_app;
use std::fs;
use testkit::program::Program;

fn ferry() -> Program {
    let program = with_app();
    program.write(
        "ferry/shtetl.toml",
        "[base]\nfrom = \"host\"\n[process.web]\nrun = \"node page.html\"\nhealth = \"/\"\n\
         [process.bell]\nrun = \"node --use time\"\n",
    );
    program.write("ferry/.gitignore", "*.log\n");
    program
}

#[test]
fn an_edit_is_answered_by_a_new_instance() {
    let program = ferry();
    let mut watch = Followed::start(&program, "run ferry --watch --port 0");
    let healthy = watch.wait_for("web.1  * healthy");
    let port = healthy.rsplit(':').next().unwrap().trim_end_matches('/').parse().unwrap();
    let page = || running::http::ask(port, "/").unwrap().1;
    assert_eq!(page(), "the ferry sails\n");
    program.write("ferry/page.html", "the ferry rests\n");
    assert!(watch.wait_for("changed after").ends_with(": bell, web"));
    assert_eq!(page(), "the ferry rests\n");
    // As many editors do: another file takes the place of the old one.
    program.write("page.new", "the ferry is back\n");
    fs::rename(program.path("page.new"), program.path("ferry/page.html")).unwrap();
    watch.wait_for("changed after");
    assert_eq!(page(), "the ferry is back\n");
    // Only what changed is started again.
    program.edit("ferry/shtetl.toml", "node --use time", "node --use time again");
    assert!(watch.wait_for("changed after").ends_with(": bell"));
    // What is wrong stands there until it is right; what runs goes on.
    program.edit("ferry/shtetl.toml", "health = ", "helth = ");
    watch.wait_for("no key \"helth\"");
    watch.wait_for("waiting for a change");
    assert_eq!(page(), "the ferry is back\n");
    program.edit("ferry/shtetl.toml", "helth = ", "health = ");
    program.write("ferry/page.html", "the ferry sails on\n");
    watch.wait_for("changed after");
    assert_eq!(page(), "the ferry sails on\n");
    assert_eq!(watch.end("-INT"), Some(0));
    assert!(running::http::ask(port, "/").is_err());
}

#[test]
fn settings_in_a_file_are_followed_without_a_build() {
    let program = ferry();
    program.edit("ferry/shtetl.toml", "node --use time", "sh -c 'node --say 0; node --use time'");
    program.edit("ferry/shtetl.toml", "sh -c 'node --say 0; node --use time'", "node --say 0");
    program.write("live.env", "HARBOUR=Kestrel\n");
    let mut watch = Followed::start(&program, "run ferry --watch --port 0 --settings-file live.env");
    watch.wait_for("| HARBOUR Kestrel");
    program.write("live.env", "HARBOUR=Fog\n");
    watch.wait_for("| HARBOUR Fog");
    assert!(!watch.seen.iter().any(|line| line.contains("page.html changed")), "{:#?}", watch.seen);
}

#[test]
fn a_build_follows_the_source_and_nothing_else() {
    let program = ferry();
    let mut watch = Followed::start(&program, "build ferry --watch");
    watch.wait_for("ferry:latest  build");
    program.write("ferry/noise.log", "ignored");
    program.write("ferry/page.html", "two");
    watch.wait_for("page.html changed");
    watch.wait_for("ferry:latest  build");
    // A folder that is new, and what comes into it afterwards.
    fs::create_dir(program.path("ferry/pier")).unwrap();
    program.write("ferry/pier/one.txt", "1");
    watch.wait_for("pier/one.txt new");
    watch.wait_for("ferry:latest  build");
    program.write("ferry/pier/one.txt", "2");
    watch.wait_for("pier/one.txt changed");
    watch.wait_for("ferry:latest  build");
    assert_eq!(watch.end("-INT"), Some(0));
    assert!(!watch.seen.iter().any(|line| line.contains("noise.log")), "{:#?}", watch.seen);
}

#[test]
fn only_a_folder_can_be_watched() {
    let program = ferry();
    insta::assert_snapshot!(program.run("build ferry/page.html --watch").stderr, @"
    error: --watch needs a folder
    what to do: give the folder of the app, without --rev
    ");
    insta::assert_snapshot!(program.run("run nothing --watch").stderr, @"
    error: --watch needs a folder
    what to do: give the folder of the app, without --rev
    ");
    assert_eq!(program.run("run ferry web --watch").code, 2);
}
