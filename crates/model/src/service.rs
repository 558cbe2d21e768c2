//! Services that an app needs while it runs: databases, caches, queues.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A kind of service.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs, reason = "their names say what they are")]
pub enum ServiceKind {
    Postgresql,
    Mysql,
    Mariadb,
    Redis,
    Memcached,
    Rabbitmq,
    ObjectStore,
}

impl ServiceKind {
    /// All of them.
    pub const ALL: [Self; 7] = [
        Self::Postgresql,
        Self::Mysql,
        Self::Mariadb,
        Self::Redis,
        Self::Memcached,
        Self::Rabbitmq,
        Self::ObjectStore,
    ];

    /// As it is written.
    pub fn name(self) -> &'static str {
        match self {
            Self::Postgresql => "postgresql",
            Self::Mysql => "mysql",
            Self::Mariadb => "mariadb",
            Self::Redis => "redis",
            Self::Memcached => "memcached",
            Self::Rabbitmq => "rabbitmq",
            Self::ObjectStore => "object-store",
        }
    }

    /// The kind of this name.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }

    /// The port that it has by convention; object stores have none, so theirs is our choice.
    pub fn port(self) -> u16 {
        match self {
            Self::Postgresql => 5432,
            Self::Mysql | Self::Mariadb => 3306,
            Self::Redis => 6379,
            Self::Memcached => 11211,
            Self::Rabbitmq => 5672,
            Self::ObjectStore => 9099,
        }
    }

    /// The scheme of its URLs (RFC 3986, 3.1), as clients commonly expect it; nothing where clients want `host:port`.
    pub fn scheme(self) -> Option<&'static str> {
        match self {
            Self::Postgresql => Some("postgresql"),
            Self::Mysql | Self::Mariadb => Some("mysql"),
            Self::Redis => Some("redis"),
            Self::Memcached => None,
            Self::Rabbitmq => Some("amqp"),
            Self::ObjectStore => Some("http"),
        }
    }

    /// The default settings that it provides, each with its template; the first one has the address.
    pub fn default_gives(self) -> &'static [(&'static str, &'static str)] {
        match self {
            Self::Postgresql | Self::Mysql | Self::Mariadb => &[("DATABASE_URL", "{url}")],
            Self::Redis => &[("REDIS_URL", "{url}")],
            Self::Memcached => &[("MEMCACHED_SERVERS", "{url}")],
            Self::Rabbitmq => &[("AMQP_URL", "{url}")],
            // What clients of the S3 style read by themselves, and the usual name for the bucket.
            Self::ObjectStore => &[
                ("AWS_ENDPOINT_URL", "{url}"),
                ("AWS_ACCESS_KEY_ID", "{user}"),
                ("AWS_SECRET_ACCESS_KEY", "{password}"),
                ("AWS_REGION", "us-east-1"),
                ("S3_BUCKET", "{database}"),
            ],
        }
    }

    /// The setting by which the code of an app usually knows it.
    pub fn usual_setting(self) -> &'static str {
        match self {
            Self::ObjectStore => "S3_BUCKET",
            _ => self.default_gives()[0].0,
        }
    }
}

/// A service that an app declares.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Service {
    /// What it is.
    pub kind: ServiceKind,
    /// The settings that it fills, each with a template such as `{url}`.
    pub gives: BTreeMap<String, String>,
}

/// What a template may name.
pub const PARTS: [&str; 6] = ["url", "host", "port", "user", "password", "database"];

/// Where a service is, and how to get in.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs, reason = "the fields say what they are")]
pub struct Access {
    /// All of it in one.
    pub url: String,
    pub host: String,
    pub port: u16,
    pub user: String,
    pub password: String,
    pub database: String,
}

impl Access {
    /// A template with its parts filled in.
    pub fn fill(&self, template: &str) -> String {
        let mut filled = String::new();
        let mut rest = template;
        while let Some((before, after)) = rest.split_once('{') {
            filled.push_str(before);
            match after.split_once('}').and_then(|(name, after)| Some((self.part(name)?, after))) {
                Some((part, after)) => {
                    filled.push_str(&part);
                    rest = after;
                }
                None => {
                    filled.push('{');
                    rest = after;
                }
            }
        }
        filled + rest
    }

    fn part(&self, name: &str) -> Option<String> {
        Some(match name {
            "url" => self.url.clone(),
            "host" => self.host.clone(),
            "port" => self.port.to_string(),
            "user" => self.user.clone(),
            "password" => self.password.clone(),
            "database" => self.database.clone(),
            _ => return None,
        })
    }
}

/// The parts that a template names, or the first that does not exist.
pub fn parts_of(template: &str) -> Result<Vec<&str>, &str> {
    let named = template.split('{').skip(1).filter_map(|after| Some(after.split_once('}')?.0));
    named.map(|name| if PARTS.contains(&name) { Ok(name) } else { Err(name) }).collect()
}

/// Whether what a template gives must not be shown.
pub fn is_secret(template: &str) -> bool {
    parts_of(template).is_ok_and(|parts| parts.iter().any(|part| matches!(*part, "url" | "password")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn templates_are_filled() {
        let access = Access {
            url: "redis://:pw@cache:6379/0".to_owned(),
            host: "cache".to_owned(),
            port: 6379,
            user: String::new(),
            password: "pw".to_owned(),
            database: "0".to_owned(),
        };
        assert_eq!(access.fill("{url}"), access.url);
        assert_eq!(access.fill("{host}:{port}/{database}?{other}{"), "cache:6379/0?{other}{");
        assert_eq!(parts_of("{host}:{prt}"), Err("prt"));
        assert_eq!(parts_of("tcp://{host}:{port}"), Ok(vec!["host", "port"]));
        assert!(is_secret("{url}") && !is_secret("{host}"));
    }
}
