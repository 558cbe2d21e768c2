//! Services that an app seems to need: by the drivers among its packages, and the variables that it reads.

use super::ReadSetting;
use config::AppConfig;
use model::service::is_secret;
use model::{Finding, ServiceKind, SettingRule};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// Packages that speak to a kind of service, as their registries call them.
const DRIVERS: [(ServiceKind, &[&str]); 6] = [
    (
        ServiceKind::Postgresql,
        &[
            "pg",
            "postgres",
            "pg-promise",
            "psycopg",
            "psycopg2",
            "psycopg2-binary",
            "asyncpg",
            "pg8000",
            "ext-pgsql",
            "ext-pdo_pgsql",
            "github.com/lib/pq",
            "github.com/jackc/pgx/v5",
            "org.postgresql:postgresql",
        ],
    ),
    (
        ServiceKind::Mysql,
        &[
            "mysql",
            "mysql2",
            "mariadb",
            "mysqlclient",
            "pymysql",
            "aiomysql",
            "trilogy",
            "ext-mysqli",
            "ext-pdo_mysql",
            "github.com/go-sql-driver/mysql",
            "com.mysql:mysql-connector-j",
            "org.mariadb.jdbc:mariadb-java-client",
        ],
    ),
    (
        ServiceKind::Redis,
        &[
            "redis",
            "ioredis",
            "bullmq",
            "bull",
            "sidekiq",
            "resque",
            "rq",
            "django-redis",
            "predis/predis",
            "ext-redis",
            "github.com/redis/go-redis/v9",
            "redis.clients:jedis",
        ],
    ),
    (
        ServiceKind::Memcached,
        &[
            "memcached",
            "memjs",
            "dalli",
            "pymemcache",
            "pylibmc",
            "ext-memcached",
            "github.com/bradfitz/gomemcache",
        ],
    ),
    (
        ServiceKind::Rabbitmq,
        &[
            "amqplib",
            "pika",
            "aio-pika",
            "bunny",
            "php-amqplib/php-amqplib",
            "github.com/rabbitmq/amqp091-go",
            "com.rabbitmq:amqp-client",
        ],
    ),
    (
        ServiceKind::ObjectStore,
        &[
            "@aws-sdk/client-s3",
            "boto3",
            "aioboto3",
            "s3fs",
            "aws-sdk-s3",
            "aws/aws-sdk-php",
            "league/flysystem-aws-s3-v3",
            "github.com/aws/aws-sdk-go-v2/service/s3",
            "software.amazon.awssdk:s3",
        ],
    ),
];

/// A service that an app seems to need.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FoundService {
    /// What it is.
    pub kind: ServiceKind,
    /// The package that speaks to it.
    pub driver: String,
    /// The variable from which the code seems to know it.
    pub variable: Option<String>,
}

/// The services that packages of the findings speak to.
pub(super) fn found<'f>(
    findings: impl Iterator<Item = &'f Finding>,
    reads: &BTreeMap<String, ReadSetting>,
) -> Vec<FoundService> {
    let declared: Vec<&String> = findings.flat_map(|finding| &finding.declared).collect();
    let driver_of = |(kind, names): (ServiceKind, &[&str])| {
        let driver = declared.iter().find(|name| names.contains(&name.to_lowercase().as_str()))?;
        let variable = Some(kind.usual_setting()).filter(|name| reads.contains_key(*name));
        Some(FoundService { kind, driver: (*driver).clone(), variable: variable.map(str::to_owned) })
    };
    DRIVERS.into_iter().filter_map(driver_of).collect()
}

/// The settings of an app, with those that its services give.
pub(super) fn settings(config: &AppConfig) -> BTreeMap<String, SettingRule> {
    let mut all = config.settings.clone();
    for (name, service) in &config.services {
        for (setting, template) in &service.gives {
            all.entry(setting.clone()).or_insert_with(|| SettingRule {
                value: None,
                required: true,
                secret: is_secret(template),
                about: Some(format!("provided by the service {name}")),
            });
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use model::Place;

    #[test]
    fn drivers_show_which_services_an_app_needs() {
        let mut finding = Finding::nothing("python", Vec::new());
        finding.declared = ["Django", "psycopg2-binary", "redis"].map(str::to_owned).into();
        let reads = [("DATABASE_URL".to_owned(), ReadSetting::secret(Place::new("settings.py", Some(4))))];
        let found = found(std::iter::once(&finding), &reads.into());
        let expected = |kind, driver: &str, variable: Option<&str>| FoundService {
            kind,
            driver: driver.to_owned(),
            variable: variable.map(str::to_owned),
        };
        assert_eq!(
            found,
            [
                expected(ServiceKind::Postgresql, "psycopg2-binary", Some("DATABASE_URL")),
                expected(ServiceKind::Redis, "redis", None),
            ]
        );
    }
}
