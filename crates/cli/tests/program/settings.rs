//! `settings`, variants and house rules.

use crate::program;
use testkit::program::Program;

fn with_layers() -> Program {
    let program = program();
    program.write("house.toml", "locked = [\"base\", \"settings.REGION\"]\n[base]\nfrom = \"host\"\n[settings]\nREGION = \"north\"\nLOG_LEVEL = \"info\"\n");
    program.write("app/package.json", r#"{"scripts":{"start":"node server.js"}}"#);
    program
        .write("app/server.js", "const { a } = process.env.BOOKINGS_URL;\nlet b = process.env.FOG ?? 1;\n");
    program.write(
        "app/shtetl.toml",
        "rules = \"../house.toml\"\n\n[process.web]\nmemory = \"64MiB\"\n\n[settings]\nLOG_LEVEL = \"debug\"\nAPI_TOKEN = \"hunter2\"\n\n[variant.live.process.web]\ninstances = 4\n[variant.live.settings]\nLOG_LEVEL = \"warn\"\n",
    );
    program
}

#[test]
fn every_value_knows_its_layer() {
    let program = with_layers();
    insta::assert_snapshot!(program.run("settings app"), @r#"
    app

    settings
      API_TOKEN     (secret)             shtetl.toml line 8
      LOG_LEVEL     debug                shtetl.toml line 7
      REGION        north                house rules, house.toml line 5, locked
      BOOKINGS_URL  not declared         read in server.js line 1
      FOG           default in the code  read in server.js line 2

    process types and tasks
      web       node server.js  package.json line 1
        memory  "64MiB"         shtetl.toml line 4
        port    8080            default

    build
      base.from  "host"           house rules, house.toml line 3, locked
      rules      "../house.toml"  shtetl.toml line 1
    --- exit 0
    "#);
    insta::assert_snapshot!(program.run("settings app --variant live"), @r#"
    app  variant live

    settings
      API_TOKEN     (secret)             shtetl.toml line 8
      LOG_LEVEL     warn                 variant live, shtetl.toml line 13
      REGION        north                house rules, house.toml line 5, locked
      BOOKINGS_URL  not declared         read in server.js line 1
      FOG           default in the code  read in server.js line 2

    process types and tasks
      web          node server.js  package.json line 1
        instances  4               variant live, shtetl.toml line 11
        memory     "64MiB"         shtetl.toml line 4
        port       8080            default

    build
      base.from  "host"           house rules, house.toml line 3, locked
      rules      "../house.toml"  shtetl.toml line 1
    --- exit 0
    "#);
    let json = program.json("settings app --variant live");
    assert_eq!(json["origins"]["settings.LOG_LEVEL.value"]["name"], "live");
    assert!(!json.to_string().contains("hunter2"));
}

#[test]
fn what_house_rules_say_is_told_as_theirs() {
    let program = with_layers();
    program.write(
        "house.toml",
        "[base]\nfrom = \"host\"\n[buildpacks.node]\nversion = \">=20\"\n[process.tides]\nrun = \"node server.js\"\n[process.worker]\nmemory = \"64MiB\"\n[addresses]\nnpm = \"mirror\"\n",
    );
    let survey = &program.json("survey app")["survey"];
    assert_eq!(survey["base"][1]["file"], "house.toml");
    assert_eq!(survey["findings"][0]["runtime"]["constraint"][1]["file"], "house.toml");
    assert_eq!(survey["processes"][1]["said"], serde_json::json!({ "file": "house.toml", "line": 6 }));
    assert_eq!(survey["processes"].as_array().unwrap().len(), 2, "a rule for a worker makes none");
    let npm = &program.json("addresses app")["addresses"][0]["in_force_first"][0];
    assert_eq!((npm["origin"].as_str(), npm["said_by"].as_str()), (Some("house-rules"), Some("house.toml")));
}

#[test]
fn a_variant_changes_documents_and_runs_no_step() {
    let program = with_layers();
    // A secret is nothing to build with.
    assert_eq!(program.run("build app").code, 1);
    program.edit("app/shtetl.toml", "API_TOKEN = \"hunter2\"\n", "");
    let _ = program.succeed("build app");
    let live = program.json("build app --tag live --variant live");
    assert!(live["steps"].as_array().unwrap().iter().all(|s| s["because"].is_null()), "{live}");
    assert_eq!(live["processes"][0]["instances"], 4);
    let record = program.json("show app:live --record");
    assert_eq!(record["settings"]["LOG_LEVEL"]["value"], "warn");
    assert_eq!(record["settings"]["REGION"]["value"], "north");
}

#[test]
fn locked_values_and_unknown_variants_are_refused() {
    let program = with_layers();
    insta::assert_snapshot!(program.run("settings app --variant life"), @r#"
    --- stderr
    error: shtetl.toml has no variant "life"
    what to do: did you mean "live"?
    more: shtetl explain config-unknown-variant
    --- exit 2
    "#);
    program.edit(
        "app/shtetl.toml",
        "[variant.live.settings]\n",
        "[variant.live.settings]\nREGION = \"south\"\n",
    );
    insta::assert_snapshot!(program.run("settings app"), @r#"
    --- stderr
    error: app/shtetl.toml has 1 fault
    shtetl.toml line 13: variant.live.settings.REGION: the house rules (house.toml) do not let apps change this
      13 | REGION = "·····"
         |          ~~~~~~~
    what to do: correct the file; nothing was built
    more: shtetl explain config-faults
    --- exit 2
    "#);
    program.write("strict.toml", "locked = [\"process.web.memory\"]\n");
    insta::assert_snapshot!(program.run("build app --house-rules strict.toml"), @r#"
    --- stderr
    error: app/shtetl.toml has 1 fault
    shtetl.toml line 4: process.web.memory: the house rules (strict.toml) do not let apps change this
      4 | memory = "64MiB"
        |          ~~~~~~~
    what to do: correct the file; nothing was built
    more: shtetl explain config-faults
    --- exit 2
    "#);
}

#[test]
fn init_writes_what_was_found_and_never_overwrites() {
    let program = program();
    program.write("app/Gemfile", "ruby '3.3.1'\ngem 'rails'\ngem 'puma'\n");
    program.write("app/Gemfile.lock", "    rails (8.0.1)\n");
    program
        .write("app/config/application.rb", "key = ENV.fetch(\"MAPS_API_KEY\")\nport = ENV[\"FOG\"] || 1\n");
    program.write("app/db/migrate/1_boats.rb", "");
    insta::assert_snapshot!(program.run("init app"), @r#"
    written: app/shtetl.toml

      # How this app becomes images. Everything is optional: commented-out lines show what `shtetl survey`
      # finds by itself.

      # name = "app"                           # the folder's name

      [base]
      # from = "debian:trixie"                 # the default

      # [buildpacks.ruby]
      # version = "3.3.1"                      # found in Gemfile line 1

      # [process.web]
      # run = "bundle exec puma --bind tcp://0.0.0.0:$PORT" # found in Gemfile
      # port = 8080                            # the process reads it from PORT
      # health = "/healthz"                    # a path that answers with success when the process is healthy

      [task.migrate]
      # run = "bundle exec rails db:migrate"   # found in Gemfile
      before = "release"                       # runs once before a new release takes over

      [settings]
      # FOG = ""                               # has a default, read in config/application.rb line 2
      MAPS_API_KEY = { required = true, secret = true } # read in config/application.rb line 1
      SECRET_KEY_BASE = { required = true, secret = true } # read in config/application.rb

      # [variant.live.process.web]
      # instances = 2                          # a named set of changes: build --variant live

    next: shtetl check app
    --- exit 0
    "#);
    let before = program.json("survey app");
    assert_eq!(
        before["survey"]["settings"]["MAPS_API_KEY"]["secret"], true,
        "what was written is read again"
    );
    insta::assert_snapshot!(program.run("init app"), @"
    --- stderr
    error: app/shtetl.toml already exists
    what to do: it is never overwritten; `shtetl settings` shows the effective values
    --- exit 2
    ");
}
