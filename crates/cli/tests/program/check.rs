//! `check`: every rule finds what it is for, and stays quiet where it must.

use crate::program;
use std::collections::BTreeSet;
use testkit::program::Program;

/// Writes an app and gives the codes that are found, those that break with an exclamation mark.
fn codes(files: &[(&str, &str)]) -> BTreeSet<String> {
    let program = program();
    for (path, text) in files {
        program.write(&format!("app/{path}"), text);
    }
    found(&program)
}

fn found(program: &Program) -> BTreeSet<String> {
    let said = program.run("check app --format json");
    let document: serde_json::Value = serde_json::from_str(&said.stdout).unwrap_or_else(|_| panic!("{said}"));
    let problems = document["problems"].as_array().unwrap();
    let code = |p: &serde_json::Value| {
        let mark = if p["severity"] == "error" { "!" } else { "" };
        format!("{}{mark}", p["code"].as_str().unwrap())
    };
    let codes: BTreeSet<String> = problems.iter().map(code).collect();
    assert_eq!(said.code == 1, codes.iter().any(|c| c.ends_with('!')), "{said}");
    codes
}

const START: (&str, &str) = ("package.json", r#"{"scripts":{"start":"node server.js"}}"#);
const RAILS: [(&str, &str); 3] =
    [("Gemfile", "gem \"rails\"\n"), ("Gemfile.lock", RAILS_LOCK), ("config/application.rb", "")];
const RAILS_LOCK: &str = "GEM\n  remote: https://gems.example/\n  specs:\n    rails (8.0.0)\n      railties\n    railties (8.0.0)\n\nDEPENDENCIES\n  rails\n";

const SPRING: (&str, &str) = (
    "pom.xml",
    "<project><artifactId>ferries</artifactId><dependencies><dependency><artifactId>spring-boot-starter-web</artifactId>\
     </dependency></dependencies><build><plugins><plugin><artifactId>spring-boot-maven-plugin</artifactId></plugin></plugins></build></project>",
);
const TIDE_LOCK: &str = "PATH\n  remote: tide\n  specs:\n    tide (1.0)\n\nDEPENDENCIES\n  tide!\n";
/// A buildpack that finds something wrong with every form.
const DEFINITION: &str = "format = \"shtetl/buildpack/1\"\nname = \"forms\"\nabout = \"\"\n\
    [[evidence]]\nfiles = \"*.form\"\ntells = \"a form\"\n\
    [[problems]]\ncode = \"any\"\nhas = \"*.form\"\nsays = \"a form\"\ndo = \"remove it\"\n";
const GO_MODULE: (&str, &str) = ("go.mod", "module ferry.example/app\n\ngo 1.22\n");
const GUNICORN: (&str, &str) = ("requirements.txt", "gunicorn==23.0 --hash=sha256:00\n");
const PYTHON_SCRIPT: (&str, &str) = ("app.py", "if __name__ == \"__main__\":\n    pass\n");
/// Locks one package that has no wheel.
const UV_LOCK: (&str, &str) = (
    "uv.lock",
    r#"version = 1
[[package]]
name = "app"
source = { virtual = "." }
dependencies = [{ name = "psycopg2" }]
[[package]]
name = "psycopg2"
version = "2.9.9"
source = { registry = "https://index.example/simple" }
sdist = { url = "https://index.example/psycopg2-2.9.9.tar.gz", hash = "sha256:00" }
"#,
);
const DEPENDS: (&str, &str) =
    ("package.json", r#"{"scripts":{"start":"node server.js"},"dependencies":{"pier":"1"}}"#);
const LOCK: (&str, &str) = (
    "package-lock.json",
    r#"{"lockfileVersion":3,"packages":{"":{"dependencies":{"pier":"1"}},"node_modules/pier":{"version":"1.0.0",
    "integrity":"sha256-47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU="}}}"#,
);
const MIRROR: (&str, &str) =
    ("shtetl.toml", "[source]\nexclude = [\"mirror\"]\n[addresses]\nnpm = \"mirror\"\n");

/// A code, a tree in which its rule finds, and one in which it must stay quiet.
type Case<'a> = (&'a str, &'a [(&'a str, &'a str)], &'a [(&'a str, &'a str)]);

/// A lockfile whose only package wants a version of Node.
const LOCKED_ENGINE: &str = r#"{"lockfileVersion":3,"packages":{"":{"dependencies":{"kelp":"1"}},
    "node_modules/kelp":{"version":"1.4.0","integrity":"sha512-AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA==","engines":{"node":"^22.12.0"}}}}"#;

const QUARKUS_WITH_FLYWAY: &str = "<project><artifactId>fog</artifactId><dependencies>\
<dependency><artifactId>quarkus-rest</artifactId></dependency>\
<dependency><artifactId>quarkus-flyway</artifactId></dependency></dependencies>\
<build><plugins><plugin><artifactId>quarkus-maven-plugin</artifactId></plugin></plugins></build></project>";

const CASES: &[Case<'_>] = &[
    ("start-missing!", &[("package.json", "{}")], &[START, ("server.js", "")]),
    (
        "server-missing!",
        &[("requirements.txt", "flask==3.0 --hash=sha256:00\n"), ("app.py", "app = Flask(__name__)\n")],
        &[
            ("requirements.txt", "flask==3.0 --hash=sha256:00\ngunicorn==23.0 --hash=sha256:01\n"),
            ("app.py", "app = Flask(__name__)\n"),
        ],
    ),
    (
        "start-file!",
        &[START, ("index.html", "")],
        // What a build script makes need not be there.
        &[
            ("package.json", r#"{"scripts":{"start":"node dist/server.js","build":"tsc"}}"#),
            ("src/server.ts", ""),
        ],
    ),
    (
        "start-program!",
        &[RAILS[0], RAILS[1], RAILS[2], ("shtetl.toml", "[process.worker]\nrun = \"bundle exec sidekiq\"\n")],
        &[RAILS[0], RAILS[1], RAILS[2]],
    ),
    ("start-program!", &[("package.json", r#"{"scripts":{"start":"tides"}}"#)], &[START, ("server.js", "")]),
    // What a shell can do by itself is no program.
    (
        "start-program!",
        &[START, ("server.js", ""), ("shtetl.toml", "[task.a]\nrun = \"sh -c 'leave 0'\"\n")],
        &[START, ("server.js", ""), ("shtetl.toml", "[task.a]\nrun = \"sh -c 'read line; exit 0'\"\n")],
    ),
    (
        "runtime-unsupported",
        &[
            ("package.json", r#"{"scripts":{"start":"node server.js"},"engines":{"node":"20"}}"#),
            ("server.js", ""),
        ],
        &[
            ("package.json", r#"{"scripts":{"start":"node server.js"},"engines":{"node":"24"}}"#),
            ("server.js", ""),
        ],
    ),
    (
        "runtime-older",
        &[
            (
                "package.json",
                r#"{"scripts":{"start":"node server.js"},"engines":{"node":"20"},"dependencies":{"kelp":"1"}}"#,
            ),
            ("package-lock.json", LOCKED_ENGINE),
            ("server.js", ""),
        ],
        &[
            (
                "package.json",
                r#"{"scripts":{"start":"node server.js"},"engines":{"node":"22"},"dependencies":{"kelp":"1"}}"#,
            ),
            ("package-lock.json", LOCKED_ENGINE),
            ("server.js", ""),
        ],
    ),
    (
        "build-network!",
        &[(
            "package.json",
            r#"{"scripts":{"start":"node server.js","build":"npm install rimraf && tides"}}"#,
        )],
        &[("package.json", r#"{"scripts":{"start":"node server.js","build":"npm install && tides"}}"#)],
    ),
    (
        "build-network!",
        &[
            ("package.json", r#"{"scripts":{"start":"node server.js","build":"tides build"}}"#),
            ("app/layout.tsx", "import { Inter } from 'next/font/google';\n"),
        ],
        &[
            ("package.json", r#"{"scripts":{"start":"node server.js","build":"tides build"}}"#),
            ("app/layout.tsx", "import font from 'next/font/local'; // next/font/local\n"),
        ],
    ),
    // Under a server, the lines that only the script itself runs do not count.
    (
        "port-fixed!",
        &[("app.py", "if __name__ == \"__main__\":\n    app.run(port=5000)\n")],
        &[
            GUNICORN,
            ("app.py", "app = make()\nif __name__ == \"__main__\":\n    app.run(port=5000)\n"),
            ("shtetl.toml", "[process.web]\nrun = \"gunicorn app:app\"\n"),
        ],
    ),
    (
        "port-fixed!",
        &[START, ("server.js", "const port = process.env.APP_PORT || 3000;\napp.listen(port);\n")],
        &[
            START,
            ("server.js", "const port = process.env.APP_PORT || 3000;\napp.listen(port);\n"),
            ("shtetl.toml", "[settings]\nAPP_PORT = \"8080\"\n"),
        ],
    ),
    // What the start does not lead to listens to nothing.
    (
        "port-fixed!",
        &[START, ("server.js", "require('./lib/serve')\n"), ("lib/serve.js", "app.listen(3000)\n")],
        &[
            START,
            ("server.js", "require('./lib/serve')\n"),
            ("lib/serve.js", ""),
            ("old.js", "app.listen(3000)\n"),
        ],
    ),
    (
        "port-fixed!",
        &[
            GUNICORN,
            ("app.py", "app = 1"),
            ("shtetl.toml", "[process.web]\nrun = \"gunicorn -b :5000 app:app\"\n"),
        ],
        &[
            GUNICORN,
            ("app.py", "app = 1"),
            ("shtetl.toml", "[process.web]\nrun = \"gunicorn -b :$PORT app:app\"\n"),
        ],
    ),
    (
        "setting-undeclared!",
        &[GUNICORN, ("app.py", "class Settings(BaseSettings):\n    harbour_url: str\n")],
        &[GUNICORN, ("app.py", "class Settings(BaseSettings):\n    harbour_url: str = \"x\"\n")],
    ),
    // Neither what the start does not lead to nor what serves development.
    (
        "setting-undeclared",
        &[START, ("server.js", "console.log(process.env.HARBOUR_URL)\n")],
        &[
            START,
            ("server.js", "1\n"),
            ("old.js", "console.log(process.env.HARBOUR_URL)\n"),
            ("vite.config.ts", "console.log(process.env.HARBOUR_URL)\n"),
        ],
    ),
    (
        "name-reserved!",
        &[START, ("server.js", ""), ("lib/.wh.tides", "")],
        &[START, ("server.js", ""), ("lib/.white", "")],
    ),
    ("build-program!", &[("mkdocs.yml", "")], &[("mkdocs.yml", ""), ("requirements.txt", "mkdocs==1.6\n")]),
    (
        "start-module!",
        &[GUNICORN, ("shtetl.toml", "[process.web]\nrun = \"gunicorn fares:app\"\n")],
        &[
            GUNICORN,
            ("fares.py", "app = 1"),
            ("shtetl.toml", "[process.web]\nrun = \"gunicorn fares:app\"\n"),
        ],
    ),
    (
        "import-undeclared!",
        &[START, ("server.js", "const _ = require('lodash');\n")],
        &[START, ("server.js", "const fs = require('fs');\n")],
    ),
    (
        "start-file!",
        &[SPRING, ("shtetl.toml", "[process.web]\nrun = \"java -jar target/ferries-1.0.jar\"\n")],
        &[
            SPRING,
            (
                "shtetl.toml",
                "[addresses]\nmaven = \"none\"\n[process.web]\nrun = \"java -Xmx1g @start.args\"\n",
            ),
        ],
    ),
    (
        "start-file!",
        &[SPRING, ("shtetl.toml", "[build]\nrun = \"make\"\n")],
        &[
            SPRING,
            (
                "shtetl.toml",
                "[build]\nrun = \"make\"\n[process.web]\nrun = \"java -jar target/ferries.jar\"\n",
            ),
        ],
    ),
    (
        "embed-missing!",
        &[
            GO_MODULE,
            (
                "main.go",
                "package main\n\n//go:embed dist pages/*.html\nvar files embed.FS\n\nfunc main() {}\n",
            ),
            ("dist/a.css", ""),
        ],
        &[
            GO_MODULE,
            ("main.go", "package main\n\n//go:embed dist\nvar files embed.FS\n\nfunc main() {}\n"),
            ("dist/a.css", ""),
        ],
    ),
    ("start-file!", &[START, ("Server.js", "")], &[START, ("server.js", ""), ("Other.js", "")]),
    (
        "start-file!",
        &[
            ("package.json", r#"{"scripts":{"start":"node lib/run.js"}}"#),
            (".gitignore", "lib/\n"),
            ("lib/run.js", ""),
        ],
        &[
            ("package.json", r#"{"scripts":{"start":"node lib/run.js"}}"#),
            (".gitignore", "lib/\n"),
            ("lib/run.js", ""),
            ("shtetl.toml", "[source]\ninclude = [\"lib/run.js\"]\n"),
        ],
    ),
    (
        "docroot-missing!",
        &[("index.php", ""), ("shtetl.toml", "[buildpacks.php]\ndocroot = \"pages\"\n")],
        &[
            ("index.php", ""),
            ("pages/index.php", ""),
            ("shtetl.toml", "[buildpacks.php]\ndocroot = \"pages/\"\n"),
        ],
    ),
    (
        "docroot-missing!",
        &[
            ("index.html", ""),
            (
                "shtetl.toml",
                "[buildpacks]\norder = [\"static\"]\n\n[buildpacks.static]\ndocroot = \"dist\"\n",
            ),
        ],
        // A build makes it.
        &[
            ("package.json", r#"{"scripts":{"build":"node build.js"}}"#),
            ("build.js", ""),
            ("shtetl.toml", "[buildpacks.static]\ndocroot = \"dist\"\n"),
        ],
    ),
    (
        "migration-untied",
        &[("pom.xml", QUARKUS_WITH_FLYWAY)],
        // It does so by itself.
        &[
            ("pom.xml", QUARKUS_WITH_FLYWAY),
            ("src/main/resources/application.properties", "quarkus.flyway.migrate-at-start=true\n"),
        ],
    ),
    (
        "migration-untied",
        &[RAILS[0], RAILS[1], RAILS[2], ("db/migrate/1_boats.rb", "")],
        &[
            RAILS[0],
            RAILS[1],
            RAILS[2],
            ("db/migrate/1_boats.rb", ""),
            ("shtetl.toml", "[task.migrate]\nbefore = \"release\"\n"),
        ],
    ),
    (
        "port-fixed!",
        &[START, ("server.js", "app.listen(3000);\n")],
        &[START, ("server.js", "app.listen(process.env.PORT || 3000);\n")],
    ),
    (
        "port-fixed!",
        &[
            ("go.mod", "module ferry.example/ferryd\n"),
            ("main.go", "package main\n\nfunc main() {\n\thttp.ListenAndServe(\":9000\", nil)\n}\n"),
            ("shtetl.toml", "[process.web]\nport = 9001\n"),
        ],
        &[
            ("go.mod", "module ferry.example/ferryd\n"),
            ("main.go", "package main\n\nfunc main() {\n\thttp.ListenAndServe(\":9000\", nil)\n}\n"),
            ("shtetl.toml", "[process.web]\nport = 9000\n"),
        ],
    ),
    (
        "loopback-only",
        &[START, ("server.js", "app.listen(process.env.PORT, \"127.0.0.1\");\n")],
        &[START, ("server.js", "// not on \"127.0.0.1\"\napp.listen(process.env.PORT, \"0.0.0.0\");\n")],
    ),
    (
        "loopback-only!",
        &[("requirements.txt", ""), ("shtetl.toml", "[process.web]\nrun = \"fogd --host 127.0.0.1\"\n")],
        &[("requirements.txt", ""), ("shtetl.toml", "[process.web]\nrun = \"fogd --host 0.0.0.0\"\n")],
    ),
    (
        "development-package!",
        &[
            ("package.json", r#"{"scripts":{"start":"node server.js"},"devDependencies":{"lamplight":"1"}}"#),
            (
                "package-lock.json",
                r#"{"lockfileVersion":3,"packages":{"":{"devDependencies":{"lamplight":"1"}}}}"#,
            ),
            ("server.js", "require('./lib/light');\n"),
            ("lib/light.js", "const { check } = require('lamplight');\n"),
        ],
        // A file that only people run may use it.
        &[
            ("package.json", r#"{"scripts":{"start":"node server.js"},"devDependencies":{"lamplight":"1"}}"#),
            (
                "package-lock.json",
                r#"{"lockfileVersion":3,"packages":{"":{"devDependencies":{"lamplight":"1"}}}}"#,
            ),
            ("server.js", "// require('lamplight')\n"),
            ("check.js", "const { check } = require('lamplight');\n"),
        ],
    ),
    (
        "import-missing!",
        &[START, ("server.js", "const a = require('./Boats');\n"), ("boats.js", "")],
        &[
            START,
            (
                "server.js",
                "const a = require('./boats');\nimport './deck/index.js';\nconst b = require('./fares');\nconst c = require('./mast');\n",
            ),
            ("boats.js", ""),
            ("deck/index.js", ""),
            ("fares.json", "{}"),
            ("mast/package.json", r#"{"main":"top.js"}"#),
            ("mast/top.js", ""),
        ],
    ),
    (
        "buildpack-problem!",
        &[
            GO_MODULE,
            ("main.go", "package main\n\nfunc main() {}\n"),
            ("go.mod", "module ferry.example/app\n\ngo 1.22\n\nreplace a.example/b => ../b\n"),
        ],
        &[
            ("main.go", "package main\n\nfunc main() {}\n"),
            ("go.mod", "module ferry.example/app\n\ngo 1.22\n\nreplace a.example/b => ./b\n"),
            ("b/go.mod", "module a.example/b\n"),
        ],
    ),
    (
        "start-file!",
        &[
            ("package.json", r#"{"scripts":{"start":"node server.js","build":"node tools/make.js"}}"#),
            ("server.js", ""),
            ("tools/make.js", ""),
            (".gitignore", "tools/\n"),
        ],
        &[
            ("package.json", r#"{"scripts":{"start":"node server.js","build":"node tools/make.js"}}"#),
            ("server.js", ""),
            ("tools/make.js", ""),
        ],
    ),
    (
        // A package as it is published: its build was run before.
        "buildpack-problem",
        &[
            ("package.json", r#"{"scripts":{"start":"node server.js","build":"node tools/make.js"}}"#),
            ("server.js", ""),
        ],
        &[
            ("package.json", r#"{"scripts":{"start":"node server.js","build":"node tools/make.js"}}"#),
            ("server.js", ""),
            ("tools/make.js", ""),
        ],
    ),
    (
        // It may never be run.
        "import-missing",
        &[START, ("server.js", "function later() {\n  return require('./boats');\n}\n")],
        &[START, ("server.js", "function later() {\n  return require('./boats');\n}\n"), ("boats.js", "")],
    ),
    (
        "lock-missing",
        &[
            ("package.json", r#"{"scripts":{"start":"node server.js"},"dependencies":{"berth":"1"}}"#),
            ("server.js", ""),
        ],
        &[START, ("server.js", "")],
    ),
    (
        "lock-missing",
        &[("requirements.txt", "quayside>=1\n"), ("app.py", "if __name__ == \"__main__\":\n")],
        &[
            ("requirements.txt", "quayside==1 --hash=sha256:00\n"),
            ("app.py", "if __name__ == \"__main__\":\n"),
        ],
    ),
    ("lock-stale!", &[("Gemfile", "gem \"rails\"\ngem \"fog\"\n"), RAILS[1], RAILS[2]], &RAILS),
    (
        "lock-stale!",
        &[
            ("composer.json", r#"{"require":{"php":"^8.2","kestrel/fog":"^1"}}"#),
            ("composer.lock", r#"{"packages":[{"name":"kestrel/fog-horn","version":"1"}]}"#),
            ("index.php", ""),
        ],
        &[
            ("composer.json", r#"{"require":{"php":"^8.2","kestrel/fog":"^1"}}"#),
            ("composer.lock", "{\"packages\": [\n{\n\"name\": \"kestrel/fog\"}]}"),
            ("index.php", ""),
        ],
    ),
    (
        "lock-stale!",
        &[
            ("go.mod", "module harbour.test/ferry\nrequire (\n\tharbour.test/fog v1.2.0\n)\n"),
            ("go.sum", "harbour.test/fog v1.1.0 h1:x\n"),
            ("main.go", "package main\n\nfunc main() {}\n"),
        ],
        &[
            ("go.mod", "module harbour.test/ferry\nrequire harbour.test/fog v1.2.0 // indirect\n"),
            ("go.sum", "harbour.test/fog v1.2.0 h1:x\n"),
            ("main.go", "package main\n\nfunc main() {}\n"),
        ],
    ),
    (
        "system-library",
        &[
            ("requirements.txt", "psycopg2==2.9 --hash=sha256:00\n"),
            ("app.py", "if __name__ == \"__main__\":\n"),
        ],
        &[
            ("requirements.txt", "psycopg2-binary==2.9 --hash=sha256:00\n"),
            ("app.py", "if __name__ == \"__main__\":\n"),
        ],
    ),
    (
        "system-library",
        &[PYTHON_SCRIPT, ("requirements.txt", "psycopg2==2.9 --hash=sha256:00\n")],
        &[
            PYTHON_SCRIPT,
            ("requirements.txt", "psycopg2==2.9 --hash=sha256:00\n"),
            ("shtetl.toml", "[base]\npackages = [\"libpq5\"]\n"),
        ],
    ),
    (
        "system-library",
        &[
            PYTHON_SCRIPT,
            ("requirements.txt", "weasyprint==63.0 --hash=sha256:00\n"),
            ("shtetl.toml", "[base]\npackages = [\"libpango-1.0-0\"]\n"),
        ],
        &[
            PYTHON_SCRIPT,
            ("requirements.txt", "weasyprint==63.0 --hash=sha256:00\n"),
            (
                "shtetl.toml",
                "[base]\npackages = [\"libpango-1.0-0\", \"libpangoft2-1.0-0\", \"libharfbuzz-subset0\"]\n",
            ),
        ],
    ),
    (
        "build-package!",
        &[PYTHON_SCRIPT, UV_LOCK],
        &[PYTHON_SCRIPT, UV_LOCK, ("shtetl.toml", "[base]\nbuild-packages = [\"libpq-dev\"]\n")],
    ),
    (
        "runtime-unmet!",
        &[
            ("package.json", r#"{"engines":{"node":"^99"},"scripts":{"start":"node server.js"}}"#),
            ("server.js", ""),
            ("shtetl.toml", "[base]\nfrom = \"host\"\n"),
        ],
        &[
            ("package.json", r#"{"engines":{"node":">=20"},"scripts":{"start":"node server.js"}}"#),
            ("server.js", ""),
        ],
    ),
    (
        "runtime-unmet!",
        &[PYTHON_SCRIPT, ("pyproject.toml", "[project]\nrequires-python = \">=3.14\"\n")],
        &[PYTHON_SCRIPT, ("pyproject.toml", "[project]\nrequires-python = \">=3.9\"\n")],
    ),
    (
        "runtime-contradiction",
        &[
            ("package.json", r#"{"engines":{"node":">=20"},"scripts":{"start":"node server.js"}}"#),
            (".node-version", "18.1.0\n"),
            ("server.js", ""),
        ],
        &[
            ("package.json", r#"{"engines":{"node":">=20"},"scripts":{"start":"node server.js"}}"#),
            (".node-version", "v20.3.0\n"),
            ("server.js", ""),
        ],
    ),
    (
        "setting-undeclared!",
        &[("app.py", "import os\nurl = os.environ[\"BOOKINGS\"]\nif __name__ == \"__main__\":\n    pass\n")],
        &[
            (
                "app.py",
                "import os\nurl = os.environ.get(\"BOOKINGS\", \"\")\nif __name__ == \"__main__\":\n    pass\n",
            ),
            ("tests/test_app.py", "import os\nos.environ[\"ONLY_IN_TESTS\"]\n"),
        ],
    ),
    (
        "setting-undeclared",
        &[START, ("server.js", "const url = process.env.BOOKINGS_URL;\n")],
        &[
            START,
            ("server.js", "const url = process.env.BOOKINGS_URL;\nconst p = process.env.NODE_ENV;\n"),
            ("shtetl.toml", "[settings]\nBOOKINGS_URL = { required = true }\n"),
        ],
    ),
    (
        "setting-reserved!",
        &[START, ("server.js", ""), ("shtetl.toml", "[settings]\nPORT = \"80\"\n")],
        &[START, ("server.js", ""), ("shtetl.toml", "[settings]\nPORT_NAME = \"west\"\n")],
    ),
    (
        "setting-misplaced",
        &[START, ("server.js", ""), ("shtetl.toml", "[settings]\nNODE_VERSION = \"20\"\n")],
        &[START, ("server.js", ""), ("shtetl.toml", "[buildpacks.node]\nversion = \"20\"\n")],
    ),
    (
        "secret-committed!",
        &[START, ("server.js", ""), ("shtetl.toml", "[settings]\nAPI_TOKEN = \"hunter2\"\n")],
        &[
            START,
            ("server.js", ""),
            ("shtetl.toml", "[settings]\nAPI_TOKEN = { secret = true }\nTOKEN_LIFE = { required = true }\n"),
        ],
    ),
    (
        "data-unwritable!",
        &[PYTHON_SCRIPT, ("db.py", "os.makedirs(app.instance_path, exist_ok=True)\n")],
        &[
            PYTHON_SCRIPT,
            ("db.py", "os.makedirs(app.instance_path, exist_ok=True)\n"),
            ("shtetl.toml", "[process.web]\nwritable = [\"instance\"]\n"),
        ],
    ),
    (
        "content-unexpected",
        &[START, ("server.js", ""), ("tools/site-packages/fog.py", "")],
        &[START, ("server.js", ""), ("tools/fog.py", ""), ("crew.sql", "small")],
    ),
    (
        "package-withdrawn!",
        &[DEPENDS, LOCK, ("server.js", ""), MIRROR],
        &[DEPENDS, LOCK, ("server.js", ""), MIRROR, ("mirror/pier/-/pier-1.0.0.tgz", "there")],
    ),
    (
        "buildpack-problem",
        &[
            START,
            ("server.js", ""),
            ("shtetl.toml", "[buildpacks]\nadd = [\"forms\"]\n"),
            ("forms/definition.toml", DEFINITION),
            ("tide.form", ""),
        ],
        &[
            START,
            ("server.js", ""),
            ("shtetl.toml", "[buildpacks]\nadd = [\"forms\"]\n"),
            ("forms/definition.toml", DEFINITION),
        ],
    ),
    (
        "buildpack-problem!",
        &[
            ("Gemfile", "gem 'tide', path: 'tide'\n"),
            ("Gemfile.lock", TIDE_LOCK),
            ("tide/tide.gemspec", "Gem::Specification.new do |s|\n  s.files = `git ls-files`.split\nend\n"),
            ("shtetl.toml", "[process.web]\nrun = \"ruby tide/tide.gemspec\"\n"),
        ],
        &[
            ("Gemfile", "gem 'tide', path: 'tide'\n"),
            ("Gemfile.lock", TIDE_LOCK),
            (
                "tide/tide.gemspec",
                "Gem::Specification.new do |s|\n  # git ls-files\n  s.files = Dir['lib/*']\nend\n",
            ),
            ("shtetl.toml", "[process.web]\nrun = \"ruby tide/tide.gemspec\"\n"),
        ],
    ),
    (
        "plan-fails!",
        &[
            GO_MODULE,
            ("main.go", "package main\n\nfunc main() {}\n"),
            ("shtetl.toml", "[buildpacks.go]\nlinker-flags = [\"-X main.commit=$COMMIT\"]\n"),
        ],
        &[START, ("server.js", "")],
    ),
    (
        "house-base!",
        &[
            START,
            ("server.js", ""),
            ("shtetl.toml", "rules = \"house.toml\"\n"),
            ("house.toml", "[allow]\nbases = [\"oci:*\"]\n"),
        ],
        &[
            START,
            ("server.js", ""),
            ("shtetl.toml", "rules = \"house.toml\"\n"),
            ("house.toml", "[allow]\nbases = [\"debian:*\"]\n"),
        ],
    ),
    (
        "house-buildpack!",
        &[
            START,
            ("server.js", ""),
            ("shtetl.toml", "rules = \"house.toml\"\n"),
            ("house.toml", "[allow]\nbuildpacks = [\"python\"]\n"),
        ],
        &[
            START,
            ("server.js", ""),
            ("shtetl.toml", "rules = \"house.toml\"\n"),
            ("house.toml", "[allow]\nbuildpacks = [\"node\"]\n"),
        ],
    ),
    (
        "house-registry!",
        &[
            START,
            ("server.js", ""),
            ("shtetl.toml", "rules = \"house.toml\"\n[addresses]\nnpm = \"https://packages.example/npm\"\n"),
            ("house.toml", "[allow]\nregistries = [\"other.example\"]\n"),
        ],
        &[
            START,
            ("server.js", ""),
            ("shtetl.toml", "rules = \"house.toml\"\n[addresses]\nnpm = \"https://packages.example/npm\"\n"),
            ("house.toml", "[allow]\nregistries = [\"packages.*\"]\n"),
        ],
    ),
    (
        "house-setting!",
        &[
            START,
            ("server.js", ""),
            ("shtetl.toml", "rules = \"house.toml\"\n"),
            ("house.toml", "[require]\nsettings = [\"REGION\"]\n"),
        ],
        &[
            START,
            ("server.js", ""),
            ("shtetl.toml", "rules = \"house.toml\"\n[settings]\nREGION = \"north\"\n"),
            ("house.toml", "[require]\nsettings = [\"REGION\"]\n"),
        ],
    ),
    (
        "house-support!",
        &[
            ("package.json", r#"{"scripts":{"start":"node server.js"},"engines":{"node":"24"}}"#),
            ("server.js", ""),
            ("shtetl.toml", "rules = \"house.toml\"\n"),
            ("house.toml", "[require]\nsupport-days = 36500\n"),
        ],
        &[
            ("package.json", r#"{"scripts":{"start":"node server.js"},"engines":{"node":"24"}}"#),
            ("server.js", ""),
            ("shtetl.toml", "rules = \"house.toml\"\n"),
            ("house.toml", "[require]\nsupport-days = 1\n"),
        ],
    ),
];

#[test]
fn every_rule_finds_what_it_is_for_and_is_quiet_elsewhere() {
    for (code, bad, good) in CASES {
        let found = codes(bad);
        assert!(found.contains(*code), "{code} was not found among {found:?} in {bad:?}");
        let found = codes(good);
        assert!(!found.contains(*code), "{code} was found in {good:?}");
    }
}

#[test]
fn every_rule_has_a_case_and_a_place_in_the_documents() {
    let documents = include_str!("../../../../docs/troubleshooting.md");
    let rules = program().json("check --rules");
    for rule in rules["rules"].as_array().unwrap() {
        let code = rule["code"].as_str().unwrap();
        let has_case = CASES.iter().any(|(c, ..)| c.trim_end_matches('!') == code);
        // One rule looks at what a build left: see `libraries_that_an_image_lacks_…`.
        assert!(has_case || code == "library-missing", "{code} has no case");
        assert!(documents.contains(&format!("### {code}\n")), "{code} is not in docs/troubleshooting.md");
    }
}

#[test]
fn the_demo_apps_are_sound() {
    let program = program().with_demo();
    let said = ["timetable", "fares", "notices", "harbourmap", "bookings", "depot", "buoy", "cargo-desk"]
        .map(|app| program.run(&format!("check {app} --address maven=https://packages.example")).stdout);
    insta::assert_snapshot!(said.concat(), @"
    timetable  no problems found
    fares  no problems found
    notices  no problems found
    harbourmap  no problems found
    bookings  no problems found
    depot  no problems found
    buoy  no problems found
    cargo-desk  no problems found
    ");
}

#[test]
fn problems_are_told_with_place_and_advice() {
    let program = program();
    program.write("app/package.json", START.1);
    program.write("app/server.js", "const key = process.env.API_KEY;\napp.listen(3000, 'localhost');\n");
    insta::assert_snapshot!(program.run("check app"), @r#"
    app  will fail: 1 error, 3 warnings

      port-fixed  server.js line 2: the code listens on port 3000, and web is expected on 8080
        what to do: read the port from PORT, or in shtetl.toml, under [process.web]: port = 3000

      loopback-only  server.js line 2: the code listens on the loopback address only
        what to do: listen on 0.0.0.0: a process on 127.0.0.1 cannot be reached from outside its container

      runtime-unsupported  node 20.19.2 reached its end of support on 2026-04-30
        what to do: in shtetl.toml, under [buildpacks.node]: version = "24"

      setting-undeclared  server.js line 1: API_KEY is read without a default and is not declared
        what to do: in shtetl.toml, under [settings]: API_KEY = { required = true, secret = true }

    more about a code: shtetl explain CODE
    --- exit 1
    "#);
}

/// A tree of a Python app that is locked, with the command that starts it.
fn served(requirements: &str, files: &[(&str, &str)], command: &str) -> BTreeSet<String> {
    let config = format!("[process.web]\nrun = {command:?}\n");
    let own = [("requirements.txt", requirements), ("shtetl.toml", &config)];
    codes(&[&own[..], files].concat())
}

/// A tree of a Node app with one locked package that has a command, and the script that starts it.
fn started(script: &str, files: &[(&str, &str)]) -> BTreeSet<String> {
    let manifest = format!(
        r#"{{"scripts":{{"start":{script:?},"serve":"node a.js"}},"dependencies":{{"pier":"1"}},"devDependencies":{{"@nestjs/cli":"1"}}}}"#
    );
    let lock = r#"{"lockfileVersion":3,"packages":{"":{"dependencies":{"pier":"1"},"devDependencies":{"@nestjs/cli":"1"}},
        "node_modules/pier":{"version":"1.0.0","integrity":"sha256-47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=",
        "bin":{"moor":"moor.js"}},
        "node_modules/@nestjs/cli":{"version":"1.0.0","dev":true,"bin":{"nest":"nest.js"},
        "integrity":"sha256-47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU="}}}"#;
    let own = [("package.json", manifest.as_str()), ("package-lock.json", lock)];
    codes(&[&own[..], files].concat())
}

#[test]
fn a_start_command_names_programs_that_the_image_will_have() {
    const LOCKED: &str = "gunicorn==23.0 --hash=sha256:00\n";
    let app = [("fares.py", "app = 1\n")];
    for (requirements, command, is_there) in [
        (LOCKED, "gunicorn fares:app", true),
        (LOCKED, "env A=1 gunicorn fares:app", true),
        (LOCKED, "cd /app && exec gunicorn fares:app", true),
        (LOCKED, "gunicron fares:app", false),
        ("tariff==1 --hash=sha256:00\n", "gunicorn fares:app", false),
        ("tariff==1 --hash=sha256:00\n", "cd /app && gunicorn fares:app", false),
        // A console script of some package that nobody knows, and one that its package is called after.
        (LOCKED, "quayside fares:app", true),
        ("quayside==1 --hash=sha256:00\n", "quayside fares:app", true),
    ] {
        let found = served(requirements, &app, command);
        assert_eq!(found.contains("start-program!"), !is_there, "{command}: {found:?}");
    }
    let app = [("a.js", "")];
    for (script, is_there) in [
        ("node a.js", true),
        ("moor", true),
        ("npm run serve", true),
        ("NODE_ENV=production node a.js", true),
        ("moor check && node a.js", true),
        ("npm run sail", false),
        ("nod a.js", false),
        ("pnpm --filter api start", false),
        ("moor check && tides", false),
    ] {
        let found = started(script, &app);
        assert_eq!(found.contains("start-program!"), !is_there, "{script}: {found:?}");
    }
}

#[test]
fn servers_are_given_modules_and_objects_that_are_there() {
    const LOCKED: &str = "gunicorn==23.0 --hash=sha256:00\n";
    for (file, command, is_there) in [
        ("fares.py", "gunicorn fares:app", true),
        ("fares/__init__.py", "gunicorn 'fares:app'", true),
        ("src/fares.py", "gunicorn fares:app", true),
        ("back/fares.py", "gunicorn --chdir back fares:app", true),
        ("fares.py", "gunicorn fare:app", false),
        ("fares.py", "gunicorn fares:ap", false),
    ] {
        let found = served(LOCKED, &[(file, "app = make()\n")], command);
        assert_eq!(found.contains("start-module!"), !is_there, "{command} with {file}: {found:?}");
    }
}

#[test]
fn what_the_code_imports_on_its_way_from_the_start_is_declared() {
    const LOCKED: &str = "gunicorn==23.0 --hash=sha256:00\npython-dotenv==1 --hash=sha256:00\n";
    for (text, other, is_declared) in [
        ("import json, own\nfrom dotenv import x\nfrom lib.tides import y\n", "", true),
        ("import requests\n", "", false),
        ("import own\n", "import yaml\n", false),
        // What nothing reaches, and what a function imports, may never be needed.
        ("def late():\n    import yaml\n", "import yaml\n", true),
    ] {
        let app = format!("{text}app = 1\n");
        let files = [("fares.py", app.as_str()), ("own.py", other), ("lib/tides.py", "")];
        let found = served(LOCKED, &files, "gunicorn fares:app");
        assert_eq!(found.contains("import-undeclared!"), !is_declared, "{text}: {found:?}");
    }
    for (text, is_declared) in [
        (
            "const fs = require('node:fs');\nconst path = require('path/posix');\nconst p = require('pier');\n",
            true,
        ),
        ("const own = require('#own');\nimport x from '@/own';\n", true),
        ("const _ = require('lodash');\n", false),
        ("require('./b');\n", false),
    ] {
        let found = started("node a.js", &[("a.js", text), ("b.js", "import y from '@tide/tables';\n")]);
        assert_eq!(found.contains("import-undeclared!"), !is_declared, "{text}: {found:?}");
    }
}

#[test]
fn a_rails_app_needs_a_server_and_a_folder_for_a_database_that_is_a_file() {
    let program = program();
    let gems = |names: &[&str]| {
        let asked: String = names.iter().map(|name| format!("gem '{name}'\n")).collect();
        let specs: String = names.iter().map(|name| format!("    {name} (8.0.1)\n")).collect();
        let wanted: String = names.iter().map(|name| format!("  {name}\n")).collect();
        program.write("quay/Gemfile", format!("{asked}gem 'pg' if ENV['BERTHS']\n"));
        program.write(
            "quay/Gemfile.lock",
            format!("GEM\n  remote: /gems\n  specs:\n{specs}\nDEPENDENCIES\n{wanted}"),
        );
    };
    program.write("quay/config.ru", "run Rails.application\n");
    program.write("quay/config/application.rb", "module Quay\nend\n");
    program
        .write("quay/config/database.yml", "production:\n  adapter: sqlite3\n  database: db/quay.sqlite3\n");
    program.write("quay/db/migrate/1_berths.rb", "");
    gems(&["rails", "sqlite3"]);
    insta::assert_snapshot!(program.run("check quay"), @r#"
    quay  will fail: 1 error, 3 warnings

      server-missing  Gemfile: rails: it needs a server, and none is declared (puma, webrick)
        what to do: run `bundle add puma` and commit Gemfile and Gemfile.lock

      migration-untied  Gemfile: the task migrate runs only when it is started by hand
        what to do: in shtetl.toml, under [task.migrate]: before = "release"

      setting-undeclared  config/application.rb: SECRET_KEY_BASE is read without a default and is not declared
        what to do: in shtetl.toml, under [settings]: SECRET_KEY_BASE = { required = true, secret = true }

      data-unwritable  config/database.yml line 3: the database is the file db/quay.sqlite3, but the image is read-only
        what to do: in shtetl.toml, under [task.migrate]: writable = ["db"]

    more about a code: shtetl explain CODE
    --- exit 1
    "#);
    gems(&["rails", "sqlite3", "puma"]);
    insta::assert_snapshot!(program.run("check quay"), @r#"
    quay  no errors: 3 warnings

      migration-untied  Gemfile: the task migrate runs only when it is started by hand
        what to do: in shtetl.toml, under [task.migrate]: before = "release"

      setting-undeclared  config/application.rb: SECRET_KEY_BASE is read without a default and is not declared
        what to do: in shtetl.toml, under [settings]: SECRET_KEY_BASE = { required = true, secret = true }

      data-unwritable  config/database.yml line 3: the database is the file db/quay.sqlite3, but the image is read-only
        what to do: in shtetl.toml, under [process.web] and [task.migrate]: writable = ["db"]

    more about a code: shtetl explain CODE
    --- exit 0
    "#);
}
