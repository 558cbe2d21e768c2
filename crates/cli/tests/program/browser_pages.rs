//! Pages for a browser. `trials/browser` looks at them in one.

use crate::program;
use std::fs;
use testkit::program::Program;

fn page(program: &Program, arguments: &str) -> String {
    let said = program.succeed(&format!("{arguments} --page page.html"));
    assert!(said.stderr.contains("page written to page.html"), "{said}");
    fs::read_to_string(program.path("page.html")).unwrap()
}

#[test]
fn the_page_of_an_image_has_everything_in_one_file() {
    let program = program().with_demo();
    let _ = program.succeed("build timetable");
    let text = page(&program, "show timetable");
    for fetched in [" src=", "@import", "url(", "<link rel=\"stylesheet\""] {
        assert!(!text.contains(fetched), "{fetched}");
    }
    let hosts = text.matches("http").count();
    assert_eq!(hosts, 0, "it leads nowhere");
    for (what, expected) in [
        ("a package", "<td>tidewords</td>"),
        ("its size", " B</td>"),
        ("a layer", "<td>node packages</td>"),
        ("a part of the chart", "<title>tidewords "),
        ("a command", "node server.js"),
        ("a setting", "<code>HARBOUR</code>"),
        ("evidence", "package.json"),
        ("why a step ran", "never built here"),
        ("a bill of materials", "data-file=\"packages.cdx.json\""),
    ] {
        assert!(text.contains(expected), "{what}");
    }
    // What ran the second time is told, too; another machine does not know of the build.
    program.write("timetable/notice.txt", "late");
    let _ = program.succeed("build timetable");
    let text = page(&program, "show timetable");
    assert!(text.contains("its result was in the store") && text.contains("notice.txt new"));
    let _ = program.succeed("build timetable --archive timetable.tar");
    let elsewhere = format!("show timetable.tar --store {}", program.path("other").display());
    let text = page(&program, &elsewhere);
    assert!(!text.contains("How it was built") && text.contains("<td>tidewords</td>"));
}

#[test]
fn what_packages_say_of_themselves_is_text_in_a_page() {
    let program = program().with_demo();
    program.edit(
        "timetable/package.json",
        "\"name\"",
        "\"description\": \"<script>alert(1)</script>\", \"name\"",
    );
    program.write(
        "timetable/shtetl.toml",
        fs::read_to_string(program.path("timetable/shtetl.toml")).unwrap_or_default()
            + "\n[settings.HORN]\nabout = \"</td><script>alert(2)</script>\"\nvalue = \"x\"\n",
    );
    let _ = program.succeed("build timetable");
    let text = page(&program, "show timetable");
    assert!(text.contains("&lt;script&gt;alert(2)") && !text.contains("<script>alert"), "{text}");
}

#[test]
fn comparisons_and_past_builds_have_pages() {
    let program = program().with_demo();
    let _ = program.succeed("build timetable --tag 13");
    program.edit("timetable/server.js", "use strict", "use  strict");
    let _ = program.succeed("build timetable --tag 14");
    let text = page(&program, "compare timetable:13 timetable:14");
    assert!(
        text.contains("/app/server.js") && text.contains("Because these inputs of the step changed: source.")
    );
    // Builds of the ledger can be compared, too.
    assert_eq!(
        page(&program, "compare timetable#1 timetable#2")
            .replace("timetable#1 and timetable#2", "timetable:13 and timetable:14"),
        text
    );
    let missing = program.run("compare timetable#1 timetable#9");
    assert!(missing.code == 2 && missing.stderr.contains("no image of build 9 of timetable"), "{missing}");
    let same = page(&program, "compare timetable:14 timetable:14");
    assert!(same.contains("It is the same image."));
    assert_ne!(program.run("build missing").code, 0);
    let text = page(&program, "ledger");
    assert!(text.contains("<h3>timetable</h3>") && text.contains("server.js changed"), "{text}");
    for (file, expected) in [(".", "cannot be written"), ("nowhere/page.html", "cannot be written")] {
        let said = program.run(&format!("ledger --page {file}"));
        assert!(said.code == 2 && said.stderr.contains(expected), "{said}");
    }
}
