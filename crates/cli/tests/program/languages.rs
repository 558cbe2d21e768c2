//! `survey` of small sample trees, one for each language and framework.

use crate::program;

/// Surveys an app of these files; only what differs between languages is kept.
fn survey(files: &[(&str, &str)]) -> String {
    let program = program();
    for (path, text) in files {
        program.write(&format!("app/{path}"), text);
    }
    let survey = &program.json("survey app")["survey"];
    let mut lines = vec![format!("{}", survey["chosen"])];
    for finding in survey["findings"].as_array().unwrap() {
        let Some(constraint) = finding["runtime"]["constraint"].as_array() else { continue };
        let also = finding["runtime"]["also_said"]
            .as_array()
            .unwrap()
            .iter()
            .map(|s| format!(", {} in {}", s[0], s[1]["file"]));
        lines.push(format!(
            "{} {} in {} line {}{}",
            finding["runtime"]["runtime"],
            constraint[0],
            constraint[1]["file"],
            constraint[1]["line"],
            also.collect::<String>()
        ));
    }
    for process in survey["processes"].as_array().unwrap() {
        lines.push(format!(
            "{} {} {} {}",
            process["kind"], process["name"], process["command"], process["said"]["file"]
        ));
    }
    lines.join("\n").replace('"', "")
}

#[test]
fn python_frameworks() {
    let wsgi = "application = get_wsgi_application()\n";
    insta::assert_snapshot!(survey(&[
        ("manage.py", ""), ("harbour/wsgi.py", wsgi), ("requirements.txt", "Django==5.1\ngunicorn==23.0\n"),
        (".python-version", "3.12\n"),
    ]), @"
    [python]
    python 3.12 in .python-version line 1
    process web [gunicorn,harbour.wsgi:application] harbour/wsgi.py
    task migrate [python,manage.py,migrate] harbour/wsgi.py
    ");
    let factory = "def create_app(config=None):\n    app = Flask(__name__)\n    return app\n";
    let files = [
        ("pyproject.toml", "[project]\ndependencies = [\"flask\", \"gunicorn\"]\n"),
        ("ferry/__init__.py", factory),
    ];
    insta::assert_snapshot!(survey(&files), @"
    [python]
    process web [gunicorn,ferry:create_app()] ferry/__init__.py
    ");
    insta::assert_snapshot!(survey(&[("manage.py", ""), ("harbour/wsgi.py", wsgi)]), @"
    [python]
    task migrate [python,manage.py,migrate] harbour/wsgi.py
    ");
    insta::assert_snapshot!(survey(&[
        ("src/ferry/main.py", "api: FastAPI = FastAPI()\n"), ("src/ferry/work.py", "queue = Celery('ferry')\n"),
        ("pyproject.toml", "[project]\nrequires-python = \">=3.10\"\ndependencies = [\"fastapi>=0.1\", \"uvicorn\", \"celery[redis]\", \"alembic\"]\n"),
        ("alembic.ini", ""),
    ]), @"
    [python]
    python >=3.10 in pyproject.toml line 2
    process web [uvicorn,src.ferry.main:api,--host,0.0.0.0,--port,$PORT] src/ferry/main.py
    process worker [celery,--app,src.ferry.work,worker] src/ferry/work.py
    task migrate [alembic,upgrade,head] pyproject.toml
    ");
}

#[test]
fn apps_of_python_that_a_function_makes_are_given_to_servers_in_their_way() {
    let factory = "def create_app(config=None):\n    return Flask(__name__)\n";
    let web = |declared: &str, files: &[(&str, &str)]| {
        let all = [&[("requirements.txt", declared)], files].concat();
        let all = survey(&all);
        let line = all.lines().find(|line| line.contains("process web")).unwrap_or("none").to_owned();
        line.split('[').nth(1).and_then(|rest| rest.split(']').next()).unwrap_or("none").to_owned()
    };
    let asgi = "def create_app():\n    app = FastAPI(title='a.b')\n    return app\n";
    for (declared, files, expected) in [
        ("flask\ngunicorn\n", &[("ferry/__init__.py", factory)][..], "gunicorn,ferry:create_app()"),
        (
            "flask\nwaitress\n",
            &[("ferry/__init__.py", factory)],
            "waitress-serve,--call,--listen=*:$PORT,ferry:create_app",
        ),
        (
            "fastapi[standard]\n",
            &[("api.py", asgi)],
            "uvicorn,--factory,api:create_app,--host,0.0.0.0,--port,$PORT",
        ),
        // What calls the function is what is meant.
        (
            "flask\ngunicorn\n",
            &[("ferry/__init__.py", factory), ("ferry/site.py", "app = create_app()\n")],
            "gunicorn,ferry.site:app",
        ),
        // A function that needs something cannot be called.
        (
            "falcon\ngunicorn\n",
            &[(
                "look.py",
                "def create_app(store):\n    app = falcon.App()\n\n\ndef get_app():\n    return create_app(None)\n",
            )],
            "gunicorn,look:get_app()",
        ),
        ("falcon\ngunicorn\n", &[("look.py", "def create_app(store):\n    app = falcon.App()\n")], "none"),
    ] {
        assert_eq!(web(declared, files), expected, "{declared} {files:?}");
    }
}

#[test]
fn a_script_starts_an_app_when_something_at_its_top_runs_on() {
    for (text, starts) in [
        ("if __name__ in {'__main__', '__mp_main__'}:\n    go()\n", true),
        ("import asyncio\nasyncio.run(sail())\n", true),
        ("import subprocess\nsubprocess.run(['tides'])\n", false),
        ("def main():\n    app.run()\n", false),
    ] {
        let survey = survey(&[("requirements.txt", "tides\n"), ("server.py", text)]);
        assert_eq!(survey.contains("process web [python,server.py]"), starts, "{text}: {survey}");
    }
    // A helper beside an app of another language does not tell of an app.
    let node = ("package.json", r#"{"scripts":{"start":"node a.js"}}"#);
    assert!(survey(&[node, ("server.py", "if __name__ == '__main__':\n    go()\n")]).starts_with("[node]"));
}

#[test]
fn programs_of_frameworks_are_given_the_script_of_the_app() {
    insta::assert_snapshot!(survey(&[
        ("requirements.txt", "streamlit\n"), ("pages/more.py", "import streamlit as st\n"), ("Home.py", "import streamlit as st\n"),
    ]), @"
    [python]
    process web [streamlit,run,Home.py,--server.address=0.0.0.0,--server.port=$PORT,--server.headless=true,--browser.gatherUsageStats=false] Home.py
    ");
    insta::assert_snapshot!(survey(&[("requirements.txt", "gradio\n"), ("app.py", "import gradio as gr\ngr.Interface().launch()\n")]), @"
    [python]
    process web [env,GRADIO_SERVER_NAME=0.0.0.0,GRADIO_SERVER_PORT=$PORT,python,app.py] app.py
    ");
    insta::assert_snapshot!(survey(&[("requirements.txt", "nicegui\n"), ("main.py", "from nicegui import ui\nui.run()\n")]), @"
    [python]
    process web [python,main.py] main.py
    ");
    insta::assert_snapshot!(survey(&[
        ("pyproject.toml", "[project]\nname = \"site\"\nversion = \"1\"\ndependencies = [\"pyramid\", \"waitress\", \"alembic\"]\n[project.scripts]\ninitialize_db = \"site:main\"\n"),
        ("production.ini", "[app:main]\nuse = egg:site\n[alembic]\nscript_location = site/alembic\n"),
    ]), @"
    [python]
    process web [python,-c,from os import environ; from pyramid.paster import get_app, setup_logging; from waitress import serve; setup_logging('production.ini'); serve(get_app('production.ini'), port=environ['PORT'])] production.ini
    task migrate [alembic,--config,production.ini,upgrade,head] production.ini
    ");
}

#[test]
fn node_frameworks_and_front_ends() {
    insta::assert_snapshot!(survey(&[
        ("package.json", r#"{"dependencies":{"next":"15"},"devDependencies":{"prisma":"6"},"engines":{"node":"22.x"}}"#),
        ("prisma/schema.prisma", ""), ("prisma/migrations/1/migration.sql", ""), (".nvmrc", "v22.1.0\n"),
    ]), @"
    [node]
    node 22.x in package.json line 1, 22.1.0 in .nvmrc
    process web [next,start] package.json
    task migrate [prisma,migrate,deploy] package.json
    ");
    insta::assert_snapshot!(survey(&[
        ("package.json", r#"{"scripts":{"build":"vite build"},"devDependencies":{"vite":"6"}}"#),
        ("Gemfile", "ruby '3.3.1'\ngem 'rails'\ngem 'puma'\ngem \"sidekiq\"\n"), ("Gemfile.lock", "GEM\n  specs:\n    rails (8.0.1)\n\nDEPENDENCIES\n  rails\n\nRUBY VERSION\n   ruby 3.3.1p55\n"),
        ("config/application.rb", ""), ("db/migrate/1_boats.rb", ""),
    ]), @"
    [ruby,node]
    ruby 3.3.1 in Gemfile line 1, 3.3.1 in Gemfile.lock
    process web [bundle,exec,puma,--bind,tcp://0.0.0.0:$PORT] Gemfile
    process worker [bundle,exec,sidekiq] Gemfile
    task migrate [bundle,exec,rails,db:migrate] Gemfile
    ");
}

#[test]
fn ruby_php_java_and_go() {
    insta::assert_snapshot!(survey(&[("Gemfile", "gem 'rackup'\n"), ("config.ru", ""), (".ruby-version", "3.2.2\n")]), @"
    [ruby]
    ruby 3.2.2 in .ruby-version line 1
    process web [bundle,exec,rackup,--host,0.0.0.0,--port,$PORT] Gemfile
    ");
    insta::assert_snapshot!(survey(&[
        ("composer.json", "{\"require\":{\"php\":\"^8.2\"},\n\"config\":{\"platform\":{\"php\":\"8.2.7\"}}}"),
        ("public/index.php", ""), ("artisan", ""), ("database/migrations/1.php", ""), ("app/Jobs/Sail.php", ""),
    ]), @"
    [php]
    php ^8.2 in composer.json line 1, 8.2.7 in composer.json
    process web [apache2,-D,FOREGROUND,-f,/opt/php/web.conf,-c,DocumentRoot /app/public] public/index.php
    process worker [php,artisan,queue:work] artisan
    task migrate [php,artisan,migrate,--force] artisan
    ");
    insta::assert_snapshot!(survey(&[("pom.xml", "<project><parent><artifactId>base</artifactId><version>3</version></parent>
        <artifactId>ferries</artifactId><version>1.2</version><properties><java.version>21</java.version></properties>
        <dependencies><dependency><artifactId>spring-boot-starter-web</artifactId></dependency></dependencies>
        <build><plugins><plugin><artifactId>spring-boot-maven-plugin</artifactId></plugin></plugins></build></project>")]), @"
    [java]
    java 21 in pom.xml line 2
    process web [java,-Dserver.port=$PORT,@start.args] pom.xml
    ");
    insta::assert_snapshot!(survey(&[("build.gradle.kts", "java { toolchain { languageVersion = JavaLanguageVersion.of(17) } }\n")]), @"
    [java]
    java 17 in build.gradle.kts line 1
    ");
    insta::assert_snapshot!(survey(&[
        ("go.mod", "module ferry.example/fleet\n\ngo 1.22\ntoolchain go1.22.3\n"),
        ("cmd/Sail_Plan/main.go", "package main\n\nfunc main() {}\n"), ("cmd/fog/main.go", "package main\n\nfunc main() {}\n"),
        ("internal/tide.go", "package internal\n"),
    ]), @"
    [go]
    go 1.22 in go.mod line 3
    process fog [bin/fog] cmd/fog/main.go
    process sail-plan [bin/Sail_Plan] cmd/Sail_Plan/main.go
    ");
}

#[test]
fn what_is_already_built() {
    let program = program();
    let jar = testkit::archives::zip_archive(&vec![(
        "META-INF/MANIFEST.MF".into(),
        b"Main-Class: ferry.Main\nBuild-Jdk-Spec: 17\n".to_vec(),
    )]);
    program.write("jar/ferries.jar", &jar);
    program.write("cut/ferries.jar", &jar[..30]);
    program.write("program/bin/ferryd", testkit::host::program_that_prints("sails"));
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(program.path("program/bin/ferryd"), mode).unwrap();
    for (app, buildpack, command) in
        [("jar", "java", "java -jar ferries.jar"), ("program", "go", "./bin/ferryd")]
    {
        let survey = &program.json(&format!("survey {app}"))["survey"];
        assert_eq!(survey["chosen"][0], buildpack);
        let words: Vec<_> = survey["processes"][0]["command"]
            .as_array()
            .unwrap()
            .iter()
            .map(|w| w.as_str().unwrap())
            .collect();
        assert_eq!(words.join(" "), command);
    }
    let cut = &program.json("survey cut")["survey"];
    assert_eq!(cut["findings"][4]["evidence"][1]["tells"], "it is not a complete archive");
    program.write("maven/pom.xml", "<project><artifactId>ferries</artifactId></project>");
    program.write("maven/shtetl.toml", "[process.web]\nrun = \"java -jar target/ferries.jar\"\n");
    let refused = program.run("check maven");
    assert!(
        refused.stdout.contains("a Maven project without a runnable module is not supported by this version"),
        "{refused}"
    );
    let module = |name: &str| {
        let plugin = "<build><plugins><plugin><artifactId>spring-boot-maven-plugin</artifactId></plugin></plugins></build>";
        program.write(
            &format!("fleet/{name}/pom.xml"),
            format!("<project><artifactId>{name}</artifactId>{plugin}</project>"),
        );
    };
    ["pier", "quay"].into_iter().for_each(module);
    let modules = "<modules><module>pier</module><module>quay</module></modules>";
    program.write("fleet/pom.xml", format!("<project><packaging>pom</packaging>{modules}</project>"));
    let said = program.run("check fleet").stdout;
    assert!(said.contains("several modules are runnable: pier, quay"), "{said}");
    program.write("fleet/shtetl.toml", "[buildpacks.java]\nmodule = \"pier\"\n");
    let said = program.run("check fleet").stdout;
    assert!(
        said.contains("no address is configured for maven packages") && !said.contains("modules"),
        "{said}"
    );
    // A program that needs no library needs no base either.
    let _ = program.succeed("build program --layout image");
    assert_eq!(program.json("survey program")["survey"]["base"][0], "empty");
    let shown = program.succeed("show program").stdout;
    assert!(shown.starts_with("program:latest  on empty, linux/amd64\n"), "{shown}");
}

#[test]
fn every_server_of_python_is_started_on_the_port_of_the_process() {
    let frameworks =
        [("flask", "Flask("), ("falcon", "falcon.App("), ("quart", "Quart("), ("litestar", "Litestar(")];
    for (framework, object) in frameworks {
        let source = format!("app = {object})\n");
        let with = |server: &str| {
            let declared = format!("{framework}\n{server}\n");
            survey(&[("requirements.txt", declared.as_str()), ("app.py", source.as_str())])
        };
        let servers = match framework {
            "flask" | "falcon" => &["gunicorn", "uwsgi"][..],
            _ => &["uvicorn", "hypercorn"],
        };
        for server in servers {
            let line =
                with(server).lines().find(|line| line.contains("process web")).unwrap_or_default().to_owned();
            assert!(
                line.contains(&format!("[{server},")) && line.contains("app:app"),
                "{framework} {server}: {line}"
            );
            // gunicorn reads the variable by itself.
            assert!(*server == "gunicorn" || line.contains("$PORT"), "{line}");
        }
        // Quart brings one.
        assert_eq!(with("requests").contains("process web"), framework == "quart", "{framework}");
    }
}
