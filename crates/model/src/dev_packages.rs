//! What building needs of a distribution: read from what compilers and scripts say when it is not there,
//! and known beforehand of packages that are used much. Names of packages are Debian's.

/// Something that a build looked for and did not find.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Missing {
    /// A header, program or library.
    pub what: String,
    /// The package that has it, where that is known.
    pub package: Option<&'static str>,
}

/// Headers, by how their paths begin.
const HEADERS: &[(&str, &str)] = &[
    ("Python.h", "python3-dev"),
    ("X11/", "libx11-dev"),
    ("bzlib.h", "libbz2-dev"),
    ("cairo", "libcairo2-dev"),
    ("cups/", "libcups2-dev"),
    ("curl/", "libcurl4-openssl-dev"),
    ("dbus/", "libdbus-1-dev"),
    ("event.h", "libevent-dev"),
    ("expat.h", "libexpat1-dev"),
    ("ffi.h", "libffi-dev"),
    ("fftw3.h", "libfftw3-dev"),
    ("ft2build.h", "libfreetype-dev"),
    ("gdal", "libgdal-dev"),
    ("geos_c.h", "libgeos-dev"),
    ("gif_lib.h", "libgif-dev"),
    ("glib.h", "libglib2.0-dev"),
    ("gmp.h", "libgmp-dev"),
    ("graphviz/", "libgraphviz-dev"),
    ("gsl/", "libgsl-dev"),
    ("gssapi", "libkrb5-dev"),
    ("hdf5.h", "libhdf5-dev"),
    ("jpeglib.h", "libjpeg62-turbo-dev"),
    ("krb5.h", "libkrb5-dev"),
    ("lber.h", "libldap-dev"),
    ("ldap.h", "libldap-dev"),
    ("libmemcached/", "libmemcached-dev"),
    ("libpq-fe.h", "libpq-dev"),
    ("librdkafka/", "librdkafka-dev"),
    ("libusb", "libusb-1.0-0-dev"),
    ("libvirt/", "libvirt-dev"),
    ("libxml/", "libxml2-dev"),
    ("libxslt/", "libxslt1-dev"),
    ("lmdb.h", "liblmdb-dev"),
    ("lz4.h", "liblz4-dev"),
    ("lzma.h", "liblzma-dev"),
    ("magic.h", "libmagic-dev"),
    ("mpfr.h", "libmpfr-dev"),
    ("mysql", "libmariadb-dev"),
    ("ncurses", "libncurses-dev"),
    ("openssl/", "libssl-dev"),
    ("pcap", "libpcap-dev"),
    ("pcre2.h", "libpcre2-dev"),
    ("png.h", "libpng-dev"),
    ("portaudio.h", "portaudio19-dev"),
    ("proj.h", "libproj-dev"),
    ("readline/", "libreadline-dev"),
    ("sasl/", "libsasl2-dev"),
    ("snappy", "libsnappy-dev"),
    ("sndfile.h", "libsndfile1-dev"),
    ("sodium.h", "libsodium-dev"),
    ("sql.h", "unixodbc-dev"),
    ("sqlext.h", "unixodbc-dev"),
    ("sqlite3.h", "libsqlite3-dev"),
    ("systemd/", "libsystemd-dev"),
    ("tiff.h", "libtiff-dev"),
    ("uv.h", "libuv1-dev"),
    ("vips/", "libvips-dev"),
    ("xmlsec/", "libxmlsec1-dev"),
    ("yaml.h", "libyaml-dev"),
    ("zlib.h", "zlib1g-dev"),
    ("zmq.h", "libzmq3-dev"),
    ("zstd.h", "libzstd-dev"),
];

/// Programs.
const PROGRAMS: &[(&str, &str)] = &[
    ("autoconf", "autoconf"),
    ("automake", "automake"),
    ("autoreconf", "autoconf"),
    ("bison", "bison"),
    ("cargo", "cargo"),
    ("cc", "gcc"),
    ("cmake", "cmake"),
    ("curl", "curl"),
    ("curl-config", "libcurl4-openssl-dev"),
    ("flex", "flex"),
    ("g++", "g++"),
    ("gcc", "gcc"),
    ("gdal-config", "gdal-bin"),
    ("geos-config", "libgeos-dev"),
    ("gfortran", "gfortran"),
    ("git", "git"),
    ("krb5-config", "libkrb5-dev"),
    ("libtoolize", "libtool"),
    ("make", "make"),
    ("mariadb_config", "libmariadb-dev"),
    ("meson", "meson"),
    ("mysql_config", "libmariadb-dev"),
    ("nasm", "nasm"),
    ("ninja", "ninja-build"),
    ("node", "nodejs"),
    ("patch", "patch"),
    ("perl", "perl"),
    ("pg_config", "libpq-dev"),
    ("pkg-config", "pkgconf"),
    ("python3", "python3"),
    ("rustc", "rustc"),
    ("swig", "swig"),
    ("unzip", "unzip"),
    ("wget", "wget"),
    ("which", "debianutils"),
    ("xml2-config", "libxml2-dev"),
    ("xslt-config", "libxslt1-dev"),
    ("xz", "xz-utils"),
];

/// Libraries, by the names that the linker or pkg-config knows.
const LIBRARIES: &[(&str, &str)] = &[
    ("cairo", "libcairo2-dev"),
    ("curl", "libcurl4-openssl-dev"),
    ("dbus-1", "libdbus-1-dev"),
    ("ffi", "libffi-dev"),
    ("gif", "libgif-dev"),
    ("girepository-2.0", "libgirepository-2.0-dev"),
    ("glib-2.0", "libglib2.0-dev"),
    ("gobject-introspection-1.0", "libgirepository1.0-dev"),
    ("jpeg", "libjpeg62-turbo-dev"),
    ("lber", "libldap-dev"),
    ("ldap", "libldap-dev"),
    ("libffi", "libffi-dev"),
    ("libjpeg", "libjpeg62-turbo-dev"),
    ("libpng", "libpng-dev"),
    ("libpq", "libpq-dev"),
    ("librsvg-2.0", "librsvg2-dev"),
    ("libsystemd", "libsystemd-dev"),
    ("libvirt", "libvirt-dev"),
    ("libxml-2.0", "libxml2-dev"),
    ("mariadb", "libmariadb-dev"),
    ("mysqlclient", "libmariadb-dev"),
    ("openssl", "libssl-dev"),
    ("pangocairo", "libpango1.0-dev"),
    ("pixman-1", "libpixman-1-dev"),
    ("pq", "libpq-dev"),
    ("sasl2", "libsasl2-dev"),
    ("sqlite3", "libsqlite3-dev"),
    ("ssl", "libssl-dev"),
    ("vips", "libvips-dev"),
    ("xml2", "libxml2-dev"),
    ("xmlsec1", "libxmlsec1-dev"),
    ("xslt", "libxslt1-dev"),
    ("z", "zlib1g-dev"),
];

/// Words before and after a name, and what it is looked up in.
type Saying = (&'static str, &'static str, &'static [(&'static str, &'static str)]);

/// What stands around the name of something that was not found.
const SAYINGS: &[Saying] = &[
    ("fatal error: ", ": No such file or directory", HEADERS),
    ("No such file or directory: '", "'", PROGRAMS),
    ("Program '", "' not found", PROGRAMS),
    ("Could not find ", " executable", PROGRAMS),
    ("No package '", "' found", LIBRARIES),
    ("Package '", "', required by", LIBRARIES),
    ("Package ", " was not found in the pkg-config search path", LIBRARIES),
    ("Dependency \"", "\" not found", LIBRARIES),
    ("cannot find -l", ":", LIBRARIES),
    ("Error: ", " executable not found", PROGRAMS),
    (": ", ": cannot open shared object file", LOADED),
    (": ", ": command not found", PROGRAMS),
    (": ", ": not found", PROGRAMS),
];

/// A package that loads a library of the system.
pub struct SystemNeed {
    /// The buildpack.
    pub buildpack: &'static str,
    /// The package.
    pub package: &'static str,
    /// The library.
    pub library: &'static str,
    /// The packages of the distribution that have it and what else is loaded, with spaces between.
    pub run: &'static str,
    /// What it takes to build the package, where it has to be built; with spaces between.
    pub build: &'static str,
}

const fn need(
    buildpack: &'static str,
    package: &'static str,
    library: &'static str,
    run: &'static str,
    build: &'static str,
) -> SystemNeed {
    SystemNeed { buildpack, package, library, run, build }
}

/// Packages that are used much and load a library of the system.
pub const SYSTEM_NEEDS: &[SystemNeed] = &[
    need("python", "psycopg2", "libpq.so.5", "libpq5", "libpq-dev"),
    need("python", "psycopg", "libpq.so.5", "libpq5", ""),
    need("python", "psycopg-c", "libpq.so.5", "libpq5", "libpq-dev"),
    need("python", "mysqlclient", "libmariadb.so.3", "libmariadb3", "libmariadb-dev"),
    need("python", "python-magic", "libmagic.so.1", "libmagic1", ""),
    need(
        "python",
        "weasyprint",
        "libpango-1.0.so.0",
        "libpango-1.0-0 libpangoft2-1.0-0 libharfbuzz-subset0",
        "",
    ),
    need("python", "opencv-python", "libGL.so.1", "libgl1 libglib2.0-0", ""),
    need("python", "opencv-contrib-python", "libGL.so.1", "libgl1 libglib2.0-0", ""),
    need("python", "sounddevice", "libportaudio.so.2", "libportaudio2", ""),
    need("python", "pyzbar", "libzbar.so.0", "libzbar0", ""),
    need("python", "pyaudio", "libportaudio.so.2", "libportaudio2", "portaudio19-dev"),
    need("python", "cairocffi", "libcairo.so.2", "libcairo2", ""),
    need("python", "pycairo", "libcairo.so.2", "libcairo2", "libcairo2-dev"),
    need("python", "python-ldap", "libldap.so.2", "libldap2", "libldap-dev"),
    need("python", "gssapi", "libgssapi_krb5.so.2", "libgssapi-krb5-2", "libkrb5-dev"),
    need("python", "dbus-python", "libdbus-1.so.3", "libdbus-1-3", "libdbus-1-dev"),
    need("node", "pg-native", "libpq.so.5", "libpq5", "libpq-dev"),
    need("node", "libpq", "libpq.so.5", "libpq5", "libpq-dev"),
    need(
        "node",
        "canvas",
        "libcairo.so.2",
        "libcairo2 libpango-1.0-0 libpangocairo-1.0-0 libjpeg62-turbo libgif7 librsvg2-2",
        "libcairo2-dev libpango1.0-dev libjpeg62-turbo-dev libgif-dev librsvg2-dev",
    ),
    need("ruby", "pg", "libpq.so.5", "libpq5", "libpq-dev"),
    need("ruby", "mysql2", "libmariadb.so.3", "libmariadb3", "libmariadb-dev"),
];

/// Libraries that packages of several languages load, with the packages of Debian that have them.
const LOADED: &[(&str, &str)] = &[
    ("libGL.so.1", "libgl1"),
    ("libICE.so.6", "libice6"),
    ("libSM.so.6", "libsm6"),
    ("libX11.so.6", "libx11-6"),
    ("libXcomposite.so.1", "libxcomposite1"),
    ("libXdamage.so.1", "libxdamage1"),
    ("libXext.so.6", "libxext6"),
    ("libXfixes.so.3", "libxfixes3"),
    ("libXrandr.so.2", "libxrandr2"),
    ("libXrender.so.1", "libxrender1"),
    ("libasound.so.2", "libasound2"),
    ("libatk-1.0.so.0", "libatk1.0-0"),
    ("libatk-bridge-2.0.so.0", "libatk-bridge2.0-0"),
    ("libcups.so.2", "libcups2"),
    ("libcurl.so.4", "libcurl4"),
    ("libdrm.so.2", "libdrm2"),
    ("libexpat.so.1", "libexpat1"),
    ("libexslt.so.0", "libxslt1.1"),
    ("libffi.so.8", "libffi8"),
    ("libfontconfig.so.1", "libfontconfig1"),
    ("libfreetype.so.6", "libfreetype6"),
    ("libgbm.so.1", "libgbm1"),
    ("libgio-2.0.so.0", "libglib2.0-0"),
    ("libglib-2.0.so.0", "libglib2.0-0"),
    ("libgobject-2.0.so.0", "libglib2.0-0"),
    ("libgomp.so.1", "libgomp1"),
    ("libgthread-2.0.so.0", "libglib2.0-0"),
    ("libnspr4.so", "libnspr4"),
    ("libnss3.so", "libnss3"),
    ("libnssutil3.so", "libnss3"),
    ("libodbc.so.2", "libodbc2"),
    ("libpython3.11.so.1.0", "libpython3.11"),
    ("libpython3.13.so.1.0", "libpython3.13"),
    ("libsqlite3.so.0", "libsqlite3-0"),
    ("libssl.so.3", "libssl3"),
    ("libstdc++.so.6", "libstdc++6"),
    ("libxcb.so.1", "libxcb1"),
    ("libxkbcommon.so.0", "libxkbcommon0"),
    ("libxml2.so.2", "libxml2"),
    ("libxslt.so.1", "libxslt1.1"),
    ("libz.so.1", "zlib1g"),
];

/// The packages of Debian that have a library, where that is known.
pub fn library_packages(library: &str) -> Vec<&'static str> {
    if let Some((_, package)) = LOADED.iter().find(|(name, _)| *name == library) {
        return vec![package];
    }
    let known = SYSTEM_NEEDS.iter().find(|need| need.library == library);
    known.map(|need| need.run.split_whitespace().collect()).unwrap_or_default()
}

/// What a program that failed says it did not find, each once, in the order of the lines.
pub fn in_output(lines: impl IntoIterator<Item = impl AsRef<str>>) -> Vec<Missing> {
    let mut found: Vec<Missing> = Vec::new();
    for line in lines {
        let Some(missing) = SAYINGS.iter().find_map(|saying| said(line.as_ref(), saying)) else { continue };
        if !found.contains(&missing) {
            found.push(missing);
        }
    }
    found
}

fn said(line: &str, (before, after, table): &Saying) -> Option<Missing> {
    // The last place that fits: words before may be part of a path, or of a sentence.
    let what = line.rmatch_indices(before).find_map(|(at, _)| {
        let rest = &line[at + before.len()..];
        let what = &rest[..rest.find(after)?];
        (!what.is_empty() && !what.contains(char::is_whitespace)).then_some(what)
    })?;
    // A header is told by the beginning of its path, and is needed in any case.
    let is_header = before.starts_with("fatal error");
    let name = if is_header { what } else { what.rsplit('/').next().unwrap_or(what) };
    let meant = |(known, _): &&(&str, &str)| if is_header { name.starts_with(known) } else { name == *known };
    let package = table.iter().find(meant).map(|(_, package)| *package);
    // Many programs are looked for that nobody needs: those that are not known tell nothing.
    (package.is_some() || is_header).then(|| Missing { what: what.to_owned(), package })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_missing_is_read_from_what_compilers_and_scripts_say() {
        for (line, expected) in [
            (
                "psycopg/psycopg.h:35:10: fatal error: libpq-fe.h: No such file or directory",
                Some(("libpq-fe.h", Some("libpq-dev"))),
            ),
            (
                "src/fog.c:1:10: fatal error: harbour/fog.h: No such file or directory",
                Some(("harbour/fog.h", None)),
            ),
            ("Error: pg_config executable not found.", Some(("pg_config", Some("libpq-dev")))),
            ("/bin/sh: 1: cmake: not found", Some(("cmake", Some("cmake")))),
            ("bash: line 1: /usr/bin/make: command not found", Some(("/usr/bin/make", Some("make")))),
            (
                "LoadError: libexslt.so.0: cannot open shared object file: No such file or directory - /fog.so",
                Some(("libexslt.so.0", Some("libxslt1.1"))),
            ),
            ("FileNotFoundError: [Errno 2] No such file or directory: 'git'", Some(("git", Some("git")))),
            ("No package 'libpq' found", Some(("libpq", Some("libpq-dev")))),
            (
                "/usr/bin/ld: cannot find -lxslt: No such file or directory",
                Some(("xslt", Some("libxslt1-dev"))),
            ),
            ("configure: the harbour was: not found", None),
            ("warning: helper: not found", None),
        ] {
            let found = in_output([line]);
            let told = found.first().map(|m| (m.what.as_str(), m.package));
            assert_eq!(told, expected, "{line}");
        }
    }
}
