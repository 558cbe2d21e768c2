//! How languages read variables, and what names of variables tell.

/// How a language reads a variable.
pub(super) struct Pattern {
    /// File name endings.
    pub(super) endings: &'static [&'static str],
    /// What stands before the name.
    pub(super) before: &'static str,
    /// Whether the name is quoted; otherwise it follows directly.
    pub(super) quoted: bool,
    /// Signs after the name (and what closes it) that give a default.
    pub(super) default: &'static [&'static str],
    /// Whether the code fails when there is neither value nor default.
    pub(super) strict: bool,
}

pub(super) const SCRIPT: &[&str] = &[".js", ".mjs", ".cjs", ".ts", ".mts", ".cts", ".jsx", ".tsx"];
const PYTHON: &[&str] = &[".py"];
const RUBY: &[&str] = &[".rb", ".ru"];
const PHP: &[&str] = &[".php"];
const JAVA: &[&str] = &[".java", ".kt"];
const GO: &[&str] = &[".go"];
const PROPERTIES: &[&str] = &["application.properties", "application.yml", "application.yaml"];

pub(super) const PATTERNS: &[Pattern] = &[
    Pattern { endings: SCRIPT, before: "process.env.", quoted: false, default: &["??", "||"], strict: false },
    Pattern { endings: SCRIPT, before: "process.env[", quoted: true, default: &["??", "||"], strict: false },
    Pattern { endings: PYTHON, before: "os.environ[", quoted: true, default: &[], strict: true },
    Pattern {
        endings: PYTHON,
        before: "os.environ.get(",
        quoted: true,
        default: &[",", "or "],
        strict: false,
    },
    Pattern { endings: PYTHON, before: "getenv(", quoted: true, default: &[",", "or "], strict: false },
    Pattern { endings: RUBY, before: "ENV[", quoted: true, default: &["||"], strict: false },
    Pattern { endings: RUBY, before: "ENV.fetch(", quoted: true, default: &[",", "{", "do"], strict: true },
    Pattern { endings: PHP, before: "getenv(", quoted: true, default: &["?:", "??"], strict: false },
    Pattern { endings: PHP, before: "$_ENV[", quoted: true, default: &["??"], strict: false },
    Pattern { endings: PHP, before: " env(", quoted: true, default: &[","], strict: false },
    Pattern { endings: JAVA, before: "System.getenv(", quoted: true, default: &[], strict: false },
    Pattern { endings: GO, before: "os.Getenv(", quoted: true, default: &[], strict: false },
    Pattern { endings: GO, before: "os.LookupEnv(", quoted: true, default: &[""], strict: false },
    Pattern { endings: PROPERTIES, before: "${", quoted: false, default: &[":"], strict: true },
];

/// Variables that every image or shell has, or that only tell which kind of run it is.
pub(super) const USUAL: &[&str] = &[
    "PORT",
    "HOME",
    "HOMEPATH",
    "PATH",
    "PWD",
    "USER",
    "LANG",
    "TZ",
    "TMPDIR",
    "HOSTNAME",
    "SHELL",
    "TERM",
    "CI",
    "NODE_ENV",
    "RAILS_ENV",
    "RACK_ENV",
    "DEBUG",
    // The variables of CGI (RFC 3875, section 4.1).
    "CONTENT_LENGTH",
    "CONTENT_TYPE",
    "PATH_INFO",
    "QUERY_STRING",
    "REMOTE_ADDR",
    "REMOTE_HOST",
    "REMOTE_PORT",
    "REMOTE_USER",
    "REQUEST_URI",
    "SCRIPT_FILENAME",
    "DOCUMENT_ROOT",
    "AUTH_TYPE",
    "GATEWAY_INTERFACE",
    "SERVER_ADDR",
    "SERVER_SOFTWARE",
    "SERVER_ADMIN",
    "PHP_AUTH_USER",
    "PHP_AUTH_PW",
    "PHP_SELF",
    "HTTPS",
    // What tools and systems tell their own programs.
    "BUNDLE_GEMFILE",
    "GEM_HOME",
    "PYTHONPATH",
    "PYTHONHASHSEED",
    "VIRTUAL_ENV",
    "NODE_OPTIONS",
    "NODE_PATH",
    "TEMP",
    "TMP",
    "EDITOR",
    "VISUAL",
    "DISPLAY",
    "APPDATA",
    "LOCALAPPDATA",
    "USERPROFILE",
    "XDG_CONFIG_HOME",
    "XDG_CACHE_HOME",
    "XDG_DATA_HOME",
    "XDG_RUNTIME_DIR",
    "LC_ALL",
    "COLUMNS",
    "FORCE_COLOR",
    "NO_COLOR",
    "WERKZEUG_RUN_MAIN",
    "DJANGO_SETTINGS_MODULE",
    "REQUEST_METHOD",
    "SCRIPT_NAME",
    "SERVER_NAME",
    "SERVER_PORT",
    "SERVER_PROTOCOL",
];

/// Whether the name of a variable looks like that of a secret.
pub fn looks_secret(name: &str) -> bool {
    const PARTS: [&str; 8] =
        ["SECRET", "TOKEN", "PASSWORD", "PASSWD", "PRIVATE", "CREDENTIAL", "API_KEY", "APIKEY"];
    const ENDS: [&str; 5] = ["_KEY", "_DSN", "DATABASE_URL", "_PASS", "_PWD"];
    PARTS.iter().any(|p| name.contains(p)) || ENDS.iter().any(|e| name.ends_with(e))
}

/// Whether the name of a variable looks like that of something that an app cannot do without: a secret, or a place.
pub fn looks_needed(name: &str) -> bool {
    const PARTS: [&str; 12] = [
        "URL", "URI", "HOST", "ADDR", "ENDPOINT", "SERVER", "BUCKET", "BROKER", "DATABASE", "USER", "SMTP",
        "DOMAIN",
    ];
    looks_secret(name) || PARTS.iter().any(|part| name.contains(part))
}
