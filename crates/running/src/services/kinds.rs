//! What is known of each kind of service: its packages, how its data is made, and how it is started.

use crate::process::{INTERRUPT, TERMINATE};
use model::error::RunError;
use model::service::Access;
use model::{Error, PathFacts, Result, ServiceKind};
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

/// The user that an app comes in as.
const USER: &str = "app";

/// A service in its place.
#[derive(Debug, Clone)]
pub(super) struct Site {
    pub kind: ServiceKind,
    /// What the app calls it.
    pub name: String,
    pub password: String,
}

impl Site {
    /// The database that is made for the app.
    pub fn database(&self) -> String {
        match self.kind {
            ServiceKind::Redis => "0".to_owned(),
            ServiceKind::Memcached | ServiceKind::Rabbitmq => String::new(),
            ServiceKind::ObjectStore => bucket(&self.name),
            ServiceKind::Postgresql | ServiceKind::Mysql | ServiceKind::Mariadb => {
                self.name.replace('-', "_")
            }
        }
    }

    /// How the app reaches it.
    pub fn access(&self) -> Access {
        let (host, port, database) = (self.name.clone(), self.kind.port(), self.database());
        let (user, password) = match self.kind {
            ServiceKind::Memcached => ("", ""),
            ServiceKind::Redis => ("", self.password.as_str()),
            _ => (USER, self.password.as_str()),
        };
        let url = match self.kind.scheme() {
            // The key is not part of its address.
            Some(scheme) if self.kind == ServiceKind::ObjectStore => format!("{scheme}://{host}:{port}"),
            Some(scheme) => format!("{scheme}://{user}:{password}@{host}:{port}/{database}"),
            None => format!("{host}:{port}"),
        };
        let (user, password) = (user.to_owned(), password.to_owned());
        Access { url, host, port, user, password, database }
    }
}

/// The bucket of an object store; its names have at least three letters.
fn bucket(name: &str) -> String {
    if name.len() < 3 { format!("{name}-files") } else { name.to_owned() }
}

/// Its packages; nothing for what this program does itself.
pub(super) fn packages(kind: ServiceKind) -> &'static [&'static str] {
    match kind {
        ServiceKind::Postgresql => &["postgresql-17", "libpam0g"],
        ServiceKind::Mysql | ServiceKind::Mariadb => &["mariadb-server-core"],
        ServiceKind::Redis => &["redis-server"],
        ServiceKind::Memcached => &["memcached"],
        ServiceKind::Rabbitmq => &["rabbitmq-server", "bash", "coreutils", "gawk", "grep", "hostname", "sed"],
        ServiceKind::ObjectStore => &[],
    }
}

/// Files that are in its data folder before anything runs.
pub(super) fn files(site: &Site) -> Vec<(&'static str, String)> {
    match site.kind {
        ServiceKind::Postgresql => vec![("password", site.password.clone())],
        ServiceKind::Redis => vec![(
            "redis.conf",
            format!(
                "bind 127.0.0.1\nport {}\ndir /data\ndaemonize no\nrequirepass {}\n",
                site.kind.port(),
                site.password
            ),
        )],
        ServiceKind::Rabbitmq => vec![(
            "rabbitmq.conf",
            format!(
                "default_user = {USER}\ndefault_pass = {}\nlisteners.tcp.local = 127.0.0.1:{}\n",
                site.password,
                site.kind.port()
            ),
        )],
        ServiceKind::Mysql | ServiceKind::Mariadb | ServiceKind::Memcached | ServiceKind::ObjectStore => {
            Vec::new()
        }
    }
}

/// A program that makes data.
pub(super) struct Program {
    pub command: Vec<String>,
    /// What it reads from standard input.
    pub input: Vec<u8>,
}

/// What makes its data, in order.
pub(super) fn preparation(site: &Site, layers: &[PathBuf]) -> Result<Vec<Program>> {
    let database = site.database();
    Ok(match site.kind {
        ServiceKind::Postgresql => {
            let programs = postgresql_programs(site, layers)?;
            let make = words(&format!(
                "{programs}/initdb -D /data/db -U {USER} --pwfile=/data/password -A scram-sha-256 --locale=C.UTF-8 \
                 --encoding=UTF8 -N"
            ));
            let single = words(&format!("{programs}/postgres --single -D /data/db postgres"));
            let statement = format!("CREATE DATABASE \"{database}\";\n").into_bytes();
            vec![Program { command: make, input: Vec::new() }, Program { command: single, input: statement }]
        }
        ServiceKind::Mysql | ServiceKind::Mariadb => {
            vec![Program { command: words(MARIADB_BOOTSTRAP), input: mariadb_statements(site, layers)? }]
        }
        ServiceKind::Redis | ServiceKind::Memcached | ServiceKind::Rabbitmq | ServiceKind::ObjectStore => {
            Vec::new()
        }
    })
}

/// What starts it.
pub(super) fn command(site: &Site, layers: &[PathBuf]) -> Result<Vec<String>> {
    let port = site.kind.port();
    Ok(match site.kind {
        ServiceKind::Postgresql => {
            let programs = postgresql_programs(site, layers)?;
            words(&format!(
                "{programs}/postgres -D /data/db -p {port} -c listen_addresses=127.0.0.1 -c unix_socket_directories=/tmp"
            ))
        }
        ServiceKind::Mysql | ServiceKind::Mariadb => words(&format!(
            "mariadbd --no-defaults --datadir=/data --tmpdir=/tmp --lc-messages-dir=/usr/share/mariadb \
             --bind-address=127.0.0.1 --port={port} --socket=/tmp/mysqld.sock --pid-file=/tmp/mysqld.pid --skip-name-resolve"
        )),
        ServiceKind::Redis => words("redis-server /data/redis.conf"),
        ServiceKind::Memcached => words(&format!("memcached -l 127.0.0.1 -p {port} -m 64 -U 0")),
        ServiceKind::Rabbitmq => {
            let folder = only_folder(site, layers, "usr/lib/rabbitmq/lib")?;
            vec![format!("/usr/lib/rabbitmq/lib/{folder}/sbin/rabbitmq-server")]
        }
        ServiceKind::ObjectStore => Vec::new(),
    })
}

/// The signal for an orderly shutdown, even with open connections.
pub(super) fn end_signal(kind: ServiceKind) -> u8 {
    match kind {
        ServiceKind::Postgresql => INTERRUPT,
        _ => TERMINATE,
    }
}

/// Its environment.
pub(super) fn environment(site: &Site) -> BTreeMap<String, String> {
    let mut all = vec![
        ("PATH", "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin".to_owned()),
        ("HOME", "/data".to_owned()),
        ("LANG", "C.UTF-8".to_owned()),
    ];
    if site.kind == ServiceKind::Rabbitmq {
        all.extend([
            ("RABBITMQ_NODENAME", "rabbit@localhost".to_owned()),
            ("RABBITMQ_MNESIA_BASE", "/data/mnesia".to_owned()),
            ("RABBITMQ_LOG_BASE", "/data/log".to_owned()),
            ("RABBITMQ_LOGS", "-".to_owned()),
            ("RABBITMQ_CONFIG_FILE", "/data/rabbitmq.conf".to_owned()),
            ("RABBITMQ_ENABLED_PLUGINS_FILE", "/data/enabled_plugins".to_owned()),
            ("RABBITMQ_CONF_ENV_FILE", "/data/none".to_owned()),
        ]);
    }
    all.into_iter().map(|(name, value)| (name.to_owned(), value)).collect()
}

fn words(line: &str) -> Vec<String> {
    line.split_whitespace().map(str::to_owned).collect()
}

/// The folder of the programs of PostgreSQL, which has its version in it.
fn postgresql_programs(site: &Site, layers: &[PathBuf]) -> Result<String> {
    Ok(format!("/usr/lib/postgresql/{}/bin", only_folder(site, layers, "usr/lib/postgresql")?))
}

/// The name of the last folder in a folder of the root.
fn only_folder(site: &Site, layers: &[PathBuf], folder: &str) -> Result<String> {
    let mut found = Vec::new();
    for layer in layers {
        found.extend(model::folder::entries(&layer.join(folder))?);
    }
    let name = found.last().and_then(|path| path.file_name()).map(|name| name.to_string_lossy().into_owned());
    name.ok_or_else(|| missing(site, folder))
}

fn missing(site: &Site, path: &str) -> Error {
    let service = site.name.clone();
    Error::Run(RunError::ServiceNotPrepared {
        service,
        lines: vec![format!("its packages do not contain /{path}")],
    })
}

/// How the tables of MariaDB are made: by its server, which reads statements and ends.
const MARIADB_BOOTSTRAP: &str = "mariadbd --no-defaults --bootstrap --datadir=/data --tmpdir=/tmp \
    --lc-messages-dir=/usr/share/mariadb --skip-log-bin";

/// Its own statements for its tables, in order.
const MARIADB_TABLES: [&str; 5] = [
    "mariadb_system_tables.sql",
    "mariadb_performance_tables.sql",
    "mariadb_system_tables_data.sql",
    "maria_add_gis_sp_bootstrap.sql",
    "mariadb_sys_schema.sql",
];

/// What the server reads to make its tables and the database of the app.
fn mariadb_statements(site: &Site, layers: &[PathBuf]) -> Result<Vec<u8>> {
    let mut all =
        b"create database mysql;\nuse mysql;\nSET @auth_root_socket=NULL;\nSET @skip_auth_anonymous=1;\n"
            .to_vec();
    for name in MARIADB_TABLES {
        let of = |layer: &PathBuf| layer.join("usr/share/mariadb").join(name);
        let file = layers.iter().map(of).find(|path| path.is_file());
        let file = file.ok_or_else(|| missing(site, &format!("usr/share/mariadb/{name}")))?;
        all.extend(fs::read(&file).facts(Path::new(name))?);
        all.push(b'\n');
    }
    let (database, password) = (site.database(), &site.password);
    let own = format!(
        "FLUSH PRIVILEGES;\nCREATE DATABASE `{database}` CHARACTER SET utf8mb4;\n\
         CREATE USER '{USER}'@'%' IDENTIFIED BY '{password}';\nGRANT ALL PRIVILEGES ON `{database}`.* TO '{USER}'@'%';\n"
    );
    all.extend(own.into_bytes());
    Ok(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_says_how_it_is_reached() {
        let url = |kind| Site { kind, name: "pier-side".to_owned(), password: "pw".to_owned() }.access().url;
        assert_eq!(
            ServiceKind::ALL.map(url),
            [
                "postgresql://app:pw@pier-side:5432/pier_side",
                "mysql://app:pw@pier-side:3306/pier_side",
                "mysql://app:pw@pier-side:3306/pier_side",
                "redis://:pw@pier-side:6379/0",
                "pier-side:11211",
                "amqp://app:pw@pier-side:5672/",
                "http://pier-side:9099",
            ]
        );
    }
}
