//! What is different between two images.

use crate::run::with_app;
use serde_json::Value;
use testkit::program::Program;

/// An app in two versions.
fn twice() -> Program {
    let program = with_app();
    program.write("ferry/lighthouse.txt", "dark");
    program.write("ferry/run.sh", "#!/bin/sh\n");
    let _ = program.succeed("build ferry --anyway --tag old");
    program.write("ferry/page.html", "the ferry sails at noon\n");
    program.write("ferry/notice.txt", "closed");
    std::fs::remove_file(program.path("ferry/lighthouse.txt")).unwrap();
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(program.path("ferry/run.sh"), mode).unwrap();
    program.edit("ferry/shtetl.toml", "--say 7", "--say 8");
    program.edit("ferry/shtetl.toml", "HARBOUR = \"Kestrel\"\n", "");
    let _ = program.succeed("build ferry --anyway --tag new");
    program
}

#[test]
fn two_images_differ_in_files_settings_and_process_types() {
    let program = twice();
    let said = program.succeed("compare ferry:old ferry:new").stdout;
    let plain: Vec<&str> = said.lines().filter(|line| !line.contains("source")).collect();
    insta::assert_snapshot!(plain.join("\n"), @"
    ferry:old and ferry:new  3.8 MB and 3.8 MB, −2 B
      process fail     node --say 7 → node --say 8
      setting HARBOUR  there → not there

    layers  1 changed, 2 the same
        removed  app/lighthouse.txt   4 B
        added    app/notice.txt       6 B
        changed  app/page.html       24 B  +8 B
        changed  app/run.sh          10 B  mode 644 → 755
    ");
    let document = program.json("compare ferry:old ferry:new");
    let layer = &document["layers"][0];
    assert_eq!(layer["because"], serde_json::json!(["source"]));
    let paths: Vec<&str> =
        layer["files"].as_array().unwrap().iter().map(|file| file["path"].as_str().unwrap()).collect();
    assert_eq!(paths, ["app/lighthouse.txt", "app/notice.txt", "app/page.html", "app/run.sh"]);
    assert_eq!(document["processes"]["fail"]["after"]["command"][2], "8");
    assert_eq!(document["settings"]["HARBOUR"]["after"], Value::Bool(false));
}

#[test]
fn the_same_image_is_the_same_wherever_it_is() {
    let program = twice();
    let _ = program.succeed("build ferry --anyway --tag new --layout layout --archive new.tar");
    for other in ["ferry:new", "layout", "new.tar"] {
        let said = program.succeed(&format!("compare ferry:new {other}")).stdout;
        assert!(said.contains("the same image"), "{said}");
    }
    let said = program.run("compare ferry:new nothing");
    assert_eq!(said.code, 2, "{said}");
}
