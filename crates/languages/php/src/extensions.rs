//! Extensions of PHP: which of them every image has, and which a package brings.

/// Extensions that every image has: built in, or with packages of the runtime.
const ALWAYS: [&str; 33] = [
    "calendar",
    "core",
    "ctype",
    "curl",
    "date",
    "exif",
    "ffi",
    "fileinfo",
    "filter",
    "ftp",
    "gettext",
    "hash",
    "iconv",
    "intl",
    "json",
    "libxml",
    "mbstring",
    "openssl",
    "pcntl",
    "pcre",
    "pdo",
    "phar",
    "posix",
    "readline",
    "reflection",
    "session",
    "sockets",
    "sodium",
    "spl",
    "standard",
    "tokenizer",
    "zip",
    "zlib",
];
/// Extensions of packages of the runtime that are named otherwise.
const IN_ANOTHER: [(&str, &str); 14] = [
    ("dom", "xml"),
    ("mysqli", "mysql"),
    ("mysqlnd", "mysql"),
    ("opcache", "cli"),
    ("pdo_mysql", "mysql"),
    ("pdo_pgsql", "pgsql"),
    ("pdo_sqlite", "sqlite3"),
    ("shmop", "common"),
    ("simplexml", "xml"),
    ("xmlreader", "xml"),
    ("xmlwriter", "xml"),
    ("xsl", "xml"),
    ("zend-opcache", "cli"),
    ("sysvshm", "common"),
];

/// The part of the runtime that has the extension, as packages are named; `None` when all images have it.
pub(super) fn part(extension: &str) -> Option<String> {
    let extension = extension.to_lowercase();
    if ALWAYS.contains(&extension.as_str()) {
        return None;
    }
    let other = IN_ANOTHER.iter().find(|(name, _)| *name == extension);
    Some(other.map_or_else(|| extension.replace('_', "-"), |(_, part)| (*part).to_owned()))
}
