//! Frameworks and servers of Python.

use super::{Framework, Start, process, task};

/// uWSGI, speaking HTTP itself, and ending when it is asked to.
const UWSGI: &[&str] =
    &["uwsgi", "--http-socket", ":$PORT", "--module", "{object}", "--master", "--die-on-term"];
const GUNICORN: &[&str] = &["gunicorn", "{object}"];
const WAITRESS: &[&str] = &["waitress-serve", "--listen=*:$PORT", "{object}"];
const UVICORN: &[&str] = &["uvicorn", "{object}", "--host", "0.0.0.0", "--port", "$PORT"];
const HYPERCORN: &[&str] = &["hypercorn", "{object}", "--bind", "0.0.0.0:$PORT"];
const DAPHNE: &[&str] = &["daphne", "-b", "0.0.0.0", "-p", "$PORT", "{object}"];
const GRANIAN: &[&str] =
    &["granian", "--interface", "asgi", "--host", "0.0.0.0", "--port", "$PORT", "{object}"];

const OF_WSGI: &[Start] = &[
    process("web", Some("gunicorn"), GUNICORN),
    process("web", Some("waitress"), WAITRESS),
    process("web", Some("uwsgi"), UWSGI),
];
const OF_ASGI: &[Start] = &[
    process("web", Some("uvicorn"), UVICORN),
    process("web", Some("hypercorn"), HYPERCORN),
    process("web", Some("granian"), GRANIAN),
    process("web", Some("daphne"), DAPHNE),
];

/// A framework whose app is made by `object`, and run by a server.
const fn served(package: &'static str, object: &'static str, starts: &'static [Start]) -> Framework {
    Framework { package, marker: None, object: Some(object), script: None, starts }
}

/// A package with one command.
const fn started(package: &'static str, marker: Option<&'static str>, starts: &'static [Start]) -> Framework {
    Framework { package, marker, object: None, script: None, starts }
}

/// A framework whose program is given the script of the app, which begins a line with `script`.
const fn given(package: &'static str, script: &'static str, starts: &'static [Start]) -> Framework {
    Framework { package, marker: None, object: None, script: Some(script), starts }
}

/// The frameworks; for each process type, the first that fits.
pub const PYTHON: &[Framework] = &[
    Framework {
        package: "django",
        marker: Some("manage.py"),
        object: Some("get_wsgi_application("),
        script: None,
        starts: &[
            process("web", Some("gunicorn"), GUNICORN),
            process("web", Some("waitress"), WAITRESS),
            process("web", Some("uwsgi"), UWSGI),
            task("migrate", None, &["python", "manage.py", "migrate"]),
        ],
    },
    served("django", "get_asgi_application(", OF_ASGI),
    served("channels", "ProtocolTypeRouter(", OF_ASGI),
    served("flask", "Flask(", OF_WSGI),
    started("flask-migrate", None, &[task("migrate", Some("migrations/"), &["flask", "db", "upgrade"])]),
    served("dash", "app.server", OF_WSGI),
    served("connexion", "AsyncApp(", OF_ASGI),
    served("connexion", "FlaskApp(", OF_ASGI),
    served("fastapi", "FastAPI(", OF_ASGI),
    served("litestar", "Litestar(", OF_ASGI),
    served("quart", "Quart(", OF_ASGI),
    served("starlette", "Starlette(", OF_ASGI),
    served("blacksheep", "Application(", OF_ASGI),
    served("falcon", "falcon.App(", OF_WSGI),
    served("falcon", "falcon.asgi.App(", OF_ASGI),
    served("bottle", "Bottle(", OF_WSGI),
    served(
        "sanic",
        "Sanic(",
        &[process("web", None, &["sanic", "{object}", "--host", "0.0.0.0", "--port", "$PORT"])],
    ),
    served(
        "aiohttp",
        "web.Application(",
        &[process(
            "web",
            Some("gunicorn"),
            &["gunicorn", "--worker-class", "aiohttp.GunicornWebWorker", "{object}"],
        )],
    ),
    given(
        "streamlit",
        "import streamlit",
        &[process(
            "web",
            None,
            &[
                "streamlit",
                "run",
                "{script}",
                "--server.address=0.0.0.0",
                "--server.port=$PORT",
                "--server.headless=true",
                "--browser.gatherUsageStats=false",
            ],
        )],
    ),
    given(
        "chainlit",
        "import chainlit",
        &[process(
            "web",
            None,
            &["chainlit", "run", "{script}", "--headless", "--host", "0.0.0.0", "--port", "$PORT"],
        )],
    ),
    given(
        "gradio",
        "import gradio",
        &[process(
            "web",
            None,
            &["env", "GRADIO_SERVER_NAME=0.0.0.0", "GRADIO_SERVER_PORT=$PORT", "python", "{script}"],
        )],
    ),
    served("celery", "Celery(", &[process("worker", None, &["celery", "--app", "{module}", "worker"])]),
    started("alembic", Some("alembic.ini"), &[task("migrate", None, &["alembic", "upgrade", "head"])]),
];
