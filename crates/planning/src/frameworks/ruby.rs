//! Frameworks and servers of Ruby.

use super::{Framework, process, task};

const RACKUP: &[&str] = &["bundle", "exec", "rackup", "--host", "0.0.0.0", "--port", "$PORT"];
const PUMA: &[&str] = &["bundle", "exec", "puma", "--bind", "tcp://0.0.0.0:$PORT"];

/// Frameworks of Ruby; the first that fits gives each process.
pub const RUBY: &[Framework] = &[
    Framework {
        package: "rails",
        marker: Some("config/application.rb"),
        object: None,
        script: None,
        starts: &[
            // The server itself: what `rails server` does besides is for those who develop.
            process("web", Some("puma"), PUMA),
            process(
                "web",
                Some("webrick"),
                &["bundle", "exec", "rails", "server", "--binding", "0.0.0.0", "--port", "$PORT"],
            ),
            task("migrate", Some("db/migrate/"), &["bundle", "exec", "rails", "db:migrate"]),
        ],
    },
    Framework {
        package: "sidekiq",
        marker: None,
        object: None,
        script: None,
        starts: &[process("worker", None, &["bundle", "exec", "sidekiq"])],
    },
    Framework {
        package: "solid_queue",
        marker: Some("bin/jobs"),
        object: None,
        script: None,
        starts: &[process("worker", None, &["bin/jobs"])],
    },
    Framework {
        package: "good_job",
        marker: None,
        object: None,
        script: None,
        starts: &[process("worker", None, &["bundle", "exec", "good_job", "start"])],
    },
    Framework {
        package: "puma",
        marker: Some("config.ru"),
        object: None,
        script: None,
        starts: &[process("web", None, PUMA)],
    },
    Framework {
        package: "unicorn",
        marker: Some("config.ru"),
        object: None,
        script: None,
        starts: &[process("web", None, &["bundle", "exec", "unicorn", "--listen", "0.0.0.0:$PORT"])],
    },
    Framework {
        package: "thin",
        marker: Some("config.ru"),
        object: None,
        script: None,
        starts: &[process(
            "web",
            None,
            &["bundle", "exec", "thin", "start", "--address", "0.0.0.0", "--port", "$PORT"],
        )],
    },
    Framework {
        package: "falcon",
        marker: Some("config.ru"),
        object: None,
        script: None,
        starts: &[process(
            "web",
            None,
            &["bundle", "exec", "falcon", "serve", "--bind", "http://0.0.0.0:$PORT"],
        )],
    },
    Framework {
        package: "rackup",
        marker: Some("config.ru"),
        object: None,
        script: None,
        starts: &[process("web", None, RACKUP)],
    },
    Framework {
        package: "rack",
        marker: Some("config.ru"),
        object: None,
        script: None,
        starts: &[process("web", Some("puma"), PUMA), process("web", Some("webrick"), RACKUP)],
    },
];
