//! What the code of an app imports, and which packages have it.

use source::SourceTree;
use std::collections::BTreeSet;

/// The modules of Python itself.
const STANDARD: &str = "__future__ abc aifc annotationlib antigravity argparse array ast asynchat asyncio asyncore atexit \
    audioop base64 bdb binascii bisect builtins bz2 cProfile calendar cgi cgitb chunk cmath cmd code codecs \
    codeop collections colorsys compileall compression concurrent configparser contextlib contextvars copy \
    copyreg crypt csv ctypes curses dataclasses datetime dbm decimal difflib dis distutils doctest email \
    encodings ensurepip enum errno faulthandler fcntl filecmp fileinput fnmatch fractions ftplib functools \
    gc genericpath getopt getpass gettext glob graphlib grp gzip hashlib heapq hmac html http idlelib \
    imaplib imghdr imp importlib inspect io ipaddress itertools json keyword lib2to3 linecache locale \
    logging lzma mailbox mailcap marshal math mimetypes mmap modulefinder msilib msvcrt multiprocessing \
    netrc nis nntplib nt ntpath nturl2path numbers opcode operator optparse os ossaudiodev pathlib pdb \
    pickle pickletools pipes pkgutil platform plistlib poplib posix posixpath pprint profile pstats pty pwd \
    py_compile pyclbr pydoc pydoc_data pyexpat queue quopri random re readline reprlib resource rlcompleter \
    runpy sched secrets select selectors shelve shlex shutil signal site smtpd smtplib sndhdr socket \
    socketserver spwd sqlite3 sre_compile sre_constants sre_parse ssl stat statistics string stringprep \
    struct subprocess sunau symtable sys sysconfig syslog tabnanny tarfile telnetlib tempfile termios \
    textwrap this threading time timeit tkinter token tokenize tomllib trace traceback tracemalloc tty \
    turtle turtledemo types typing unicodedata unittest urllib uu uuid venv warnings wave weakref webbrowser \
    winreg winsound wsgiref xdrlib xml xmlrpc zipapp zipfile zipimport zlib zoneinfo";

/// Modules of packages with other names, and of those that apps use most.
const KNOWN: [(&str, &[&str]); 67] = [
    ("Crypto", &["pycryptodome", "pycrypto"]),
    ("MySQLdb", &["mysqlclient"]),
    ("OpenSSL", &["pyopenssl"]),
    ("PIL", &["pillow"]),
    ("aiohttp", &["aiohttp"]),
    ("allauth", &["django-allauth"]),
    ("attr", &["attrs"]),
    ("boto3", &["boto3"]),
    ("bottle", &["bottle"]),
    ("bs4", &["beautifulsoup4"]),
    ("celery", &["celery"]),
    ("cherrypy", &["cherrypy"]),
    ("corsheaders", &["django-cors-headers"]),
    ("crispy_forms", &["django-crispy-forms"]),
    ("cv2", &["opencv-python", "opencv-python-headless", "opencv-contrib-python"]),
    ("dateutil", &["python-dateutil"]),
    ("debug_toolbar", &["django-debug-toolbar"]),
    ("decouple", &["python-decouple"]),
    ("dj_database_url", &["dj-database-url"]),
    ("django", &["django"]),
    ("docx", &["python-docx"]),
    ("dotenv", &["python-dotenv"]),
    ("environ", &["django-environ", "environ-config"]),
    ("fastapi", &["fastapi"]),
    ("flask", &["flask"]),
    ("flask_cors", &["flask-cors"]),
    ("flask_login", &["flask-login"]),
    ("flask_migrate", &["flask-migrate"]),
    ("flask_sqlalchemy", &["flask-sqlalchemy"]),
    ("flask_wtf", &["flask-wtf"]),
    ("git", &["gitpython"]),
    ("google", &["protobuf", "google-api-core"]),
    ("gunicorn", &["gunicorn"]),
    ("httpx", &["httpx"]),
    ("import_export", &["django-import-export"]),
    ("jinja2", &["jinja2"]),
    ("jose", &["python-jose"]),
    ("jwt", &["pyjwt"]),
    ("magic", &["python-magic"]),
    ("markdown", &["markdown"]),
    ("matplotlib", &["matplotlib"]),
    ("multipart", &["python-multipart"]),
    ("nacl", &["pynacl"]),
    ("numpy", &["numpy"]),
    ("openai", &["openai"]),
    ("pandas", &["pandas"]),
    ("psycopg", &["psycopg"]),
    ("psycopg2", &["psycopg2", "psycopg2-binary"]),
    ("pydantic", &["pydantic"]),
    ("pydantic_settings", &["pydantic-settings"]),
    ("pymongo", &["pymongo"]),
    ("redis", &["redis"]),
    ("requests", &["requests"]),
    ("rest_framework", &["djangorestframework"]),
    ("scipy", &["scipy"]),
    ("sklearn", &["scikit-learn"]),
    ("slugify", &["python-slugify"]),
    ("sqlalchemy", &["sqlalchemy"]),
    ("starlette", &["starlette", "fastapi"]),
    ("storages", &["django-storages"]),
    ("streamlit", &["streamlit"]),
    ("tensorflow", &["tensorflow"]),
    ("torch", &["torch"]),
    ("tornado", &["tornado"]),
    ("uvicorn", &["uvicorn"]),
    ("whitenoise", &["whitenoise"]),
    ("yaml", &["pyyaml"]),
];

/// Whether a module is one of Python itself.
pub fn is_standard(module: &str) -> bool {
    STANDARD.split_whitespace().any(|name| name == module)
}

/// The packages that provide a module, the most usual first; none where only its name tells.
pub fn providers(module: &str) -> &'static [&'static str] {
    KNOWN.iter().find(|(name, _)| *name == module).map_or(&[], |(_, packages)| packages)
}

/// The packages that these files import, as far as the names of modules tell.
pub fn imported_packages<'f>(tree: &SourceTree, files: impl Iterator<Item = &'f String>) -> Vec<String> {
    let mut packages = BTreeSet::new();
    for file in files {
        let Ok(Some(text)) = tree.read_text(file) else { continue };
        let folder = file.rsplit_once('/').map_or("", |(folder, _)| folder);
        let foreign = |module: &String| {
            !module.starts_with('.')
                && local_files(tree, folder, module).is_empty()
                && !is_folder(tree, folder, module)
        };
        for module in top_imports(&text).into_iter().map(|(_, module)| module).filter(foreign) {
            let top = module.split('.').next().unwrap_or(&module);
            if !is_standard(top) {
                packages.insert(package_of(top).to_owned());
            }
        }
    }
    packages.into_iter().collect()
}

/// The package that is most likely meant by the name of a module.
pub fn package_of(module: &str) -> &str {
    providers(module).first().copied().unwrap_or(module)
}

/// The modules that a file imports whenever it is run, with their lines (from 0).
pub fn top_imports(text: &str) -> Vec<(usize, String)> {
    let mut found = Vec::new();
    let mut in_text = false;
    for (number, line) in text.lines().enumerate() {
        let quotes = line.matches("\"\"\"").count() + line.matches("'''").count();
        let begins_in_text = in_text;
        in_text ^= quotes % 2 == 1;
        if begins_in_text || quotes > 0 {
            continue;
        }
        if let Some(rest) = line.strip_prefix("import ") {
            let names = rest.split('#').next().unwrap_or(rest).split(',');
            let names = names.filter_map(|name| name.split_whitespace().next());
            found.extend(names.filter(|name| is_module(name)).map(|name| (number, name.to_owned())));
        } else if let Some((module, _)) =
            line.strip_prefix("from ").and_then(|rest| rest.split_once(" import"))
            && is_module(module.trim())
        {
            found.push((number, module.trim().to_owned()));
        }
    }
    found
}

fn is_module(name: &str) -> bool {
    !name.is_empty() && name.chars().all(|c| c.is_alphanumeric() || c == '_' || c == '.')
}

/// The file of the source that a module is, seen from a file in `folder`.
pub fn local_files(tree: &SourceTree, folder: &str, module: &str) -> Vec<String> {
    let dots = module.len() - module.trim_start_matches('.').len();
    let path = module.trim_start_matches('.').replace('.', "/");
    let roots: Vec<String> = match dots {
        0 => vec![String::new(), folder.to_owned(), "src".to_owned()],
        dots => {
            let parts: Vec<&str> = folder.split('/').collect();
            vec![parts[..parts.len().saturating_sub(dots - 1)].join("/")]
        }
    };
    let below = |root: &String| if root.is_empty() { path.clone() } else { format!("{root}/{path}") };
    let file = |path: String| [format!("{path}.py"), format!("{path}/__init__.py")];
    roots.iter().map(below).flat_map(file).filter(|file| tree.has(file)).take(1).collect()
}

/// Whether the first name of a module is a folder or a file of the source.
pub fn is_folder(tree: &SourceTree, folder: &str, module: &str) -> bool {
    let top = module.split('.').next().unwrap_or(module);
    let starts = [format!("{top}/"), format!("{top}.py"), format!("src/{top}/"), format!("src/{top}.py")];
    let beside = format!("{folder}/{top}/");
    tree.files()
        .keys()
        .any(|file| file.starts_with(&beside) || starts.iter().any(|start| file.starts_with(start.as_str())))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_is_imported_whenever_a_file_runs_counts() {
        let text = "import os, yaml as y  # x\nfrom PIL import Image\n    import lazy\n\"\"\"\nimport told\n\"\"\"\n\
            from .own import x\n";
        let found: Vec<_> = top_imports(text).into_iter().map(|(_, module)| module).collect();
        assert_eq!(found, ["os", "yaml", "PIL", ".own"]);
    }
}
