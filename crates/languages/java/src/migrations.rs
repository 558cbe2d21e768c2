//! Tools that migrate a database: whether the app has one, and how it runs without the app.

use crate::pom::{Pom, Poms};
use crate::sources;
use model::{Evidence, Result, Sign};
use source::SourceTree;

/// Beginnings of artifact names, with the tool that they bring.
const TOOLS: [(&str, &str); 9] = [
    ("flyway-", "Flyway"),
    ("spring-boot-starter-flyway", "Flyway"),
    ("quarkus-flyway", "Flyway"),
    ("micronaut-flyway", "Flyway"),
    ("liquibase-", "Liquibase"),
    ("spring-boot-starter-liquibase", "Liquibase"),
    ("quarkus-liquibase", "Liquibase"),
    ("micronaut-liquibase", "Liquibase"),
    ("dropwizard-migrations", "Liquibase"),
];
/// The first Spring Boot that can end once everything is prepared (`spring.context.exit` of its framework 6.1).
const SPRING_ENDS: (u32, u32) = (3, 2);
/// Configuration files of a Quarkus app, in its resources.
const QUARKUS_FILES: [&str; 3] = ["application.properties", "application.yaml", "application.yml"];

/// Words before and after another one.
type Around = (Vec<String>, Vec<String>);

/// What a framework does with such a tool.
#[derive(Debug, PartialEq, Eq)]
struct Use {
    task: Option<Around>,
    /// Whether the app migrates whenever it starts.
    at_start: bool,
}

/// A tool that an app has.
#[derive(Debug)]
pub(crate) struct Migrations {
    /// What says so.
    pub evidence: Evidence,
    /// Words of a command that migrates and ends, before and after the file that starts the app.
    pub task: Option<Around>,
}

/// Finds it. `server_file` is the configuration that a Dropwizard app is given.
pub(crate) fn found(
    tree: &SourceTree,
    poms: &Poms,
    pom: &Pom,
    framework: &str,
    server_file: Option<&str>,
) -> Result<Option<Migrations>> {
    let found = TOOLS.iter().find_map(|(artifact, tool)| Some((tool, poms.dependency(pom, artifact)?)));
    let Some((tool, (artifact, place))) = found else { return Ok(None) };
    let Use { task, at_start } = how(tree, poms, pom, framework, tool, server_file)?;
    let evidence = |tells: String| Evidence::speaks_for(place, artifact, tells);
    let evidence = match at_start {
        true => evidence(format!("{tool} migrates the database whenever the app starts"))
            .as_sign(Sign::MigratesAtStart),
        false => evidence(format!("{tool} migrates the database")),
    };
    Ok(Some(Migrations { evidence, task }))
}

fn how(
    tree: &SourceTree,
    poms: &Poms,
    pom: &Pom,
    framework: &str,
    tool: &str,
    server_file: Option<&str>,
) -> Result<Use> {
    let words = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect::<Vec<_>>();
    if framework.starts_with("Spring Boot") {
        let version = poms.version(pom, "spring-boot").and_then(|version| major_and_minor(&version));
        let ends = version.is_some_and(|version| version >= SPRING_ENDS);
        let task = ends.then(|| (words(&["-Dspring.context.exit=onRefresh"]), Vec::new()));
        return Ok(Use { task, at_start: true });
    }
    if framework == "Quarkus" {
        let property = format!("quarkus.{}.migrate-at-start", tool.to_lowercase());
        let at_start = quarkus_says(tree, pom, &property)?;
        let task = words(&["-Dquarkus.init-and-exit=true", &format!("-D{property}=true")]);
        return Ok(Use { task: Some((task, Vec::new())), at_start });
    }
    if framework == "Dropwizard" {
        let sources = sources::texts(tree, &pom.folder)?;
        let has_command = sources.iter().any(|(_, text)| text.contains("MigrationsBundle"));
        let command = ["db", "migrate"].into_iter().chain(server_file);
        let task = has_command.then(|| (Vec::new(), words(&command.collect::<Vec<_>>())));
        return Ok(Use { task, at_start: false });
    }
    Ok(Use { task: None, at_start: framework == "Micronaut" })
}

/// The first two numbers of a version.
fn major_and_minor(version: &str) -> Option<(u32, u32)> {
    let mut numbers = version.split('.').map(|part| part.parse().ok());
    Some((numbers.next()??, numbers.next()??))
}

/// Whether the configuration of a Quarkus app says that a property is true, for all profiles.
fn quarkus_says(tree: &SourceTree, pom: &Pom, property: &str) -> Result<bool> {
    let last = property.rsplit('.').next().unwrap_or_default();
    for file in QUARKUS_FILES {
        let path = model::in_folder(&pom.folder, &format!("src/main/resources/{file}"));
        let text = tree.read(&path)?.unwrap_or_default();
        let (key, sign) = if file.ends_with(".properties") { (property, '=') } else { (last, ':') };
        let is_true = |line: &str| {
            line.split_once(sign).is_some_and(|(name, value)| name.trim() == key && value.trim() == "true")
        };
        if text.lines().any(is_true) {
            return Ok(true);
        }
    }
    Ok(false)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The words of the task, and whether the app migrates at its start.
    fn of(inside: &str, framework: &str, files: &[(&str, &str)]) -> (Option<String>, bool) {
        let folder = tempfile::tempdir().unwrap();
        let pom = format!("<project><artifactId>fog</artifactId>{inside}</project>");
        for (path, text) in files.iter().chain(&[("pom.xml", pom.as_str())]) {
            let path = folder.path().join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        }
        let tree = testkit::tree::tree_of(folder.path());
        let poms = Poms::read(&tree).unwrap().unwrap();
        let found = found(&tree, &poms, &poms.0[""], framework, Some("config.yml")).unwrap();
        let Some(Migrations { evidence, task }) = found else { return (None, false) };
        let words = task.map(|(before, after)| [before, vec!["@".to_owned()], after].concat().join(" "));
        (words, evidence.sign == Some(Sign::MigratesAtStart))
    }

    fn depends(artifact: &str) -> String {
        format!("<dependencies><dependency><artifactId>{artifact}</artifactId></dependency></dependencies>")
    }

    #[test]
    fn spring_boot_migrates_at_its_start_and_from_3_2_on_by_a_task_too() {
        let with = |version: &str| {
            let parent = format!(
                "<parent><artifactId>spring-boot-starter-parent</artifactId><version>{version}</version></parent>"
            );
            of(&(parent + &depends("flyway-core")), "Spring Boot", &[])
        };
        let task = "-Dspring.context.exit=onRefresh @".to_owned();
        assert_eq!(with("3.2.0"), (Some(task.clone()), true));
        assert_eq!(with("3.1.9"), (None, true));
        let managed = "<properties><boot>4.0.1</boot></properties><dependencyManagement><dependencies><dependency>
<artifactId>spring-boot-dependencies</artifactId><version>${boot}</version></dependency></dependencies></dependencyManagement>";
        let inside = managed.to_owned() + &depends("liquibase-core");
        assert_eq!(of(&inside, "Spring Boot with Jersey", &[]), (Some(task), true));
        assert_eq!(of(&depends("flyway-core"), "Spring Boot", &[]), (None, true), "of which version?");
    }

    #[test]
    fn quarkus_prepares_and_ends() {
        let task = "-Dquarkus.init-and-exit=true -Dquarkus.flyway.migrate-at-start=true @";
        let with = |files: &[(&str, &str)]| of(&depends("quarkus-flyway"), "Quarkus", files);
        assert_eq!(with(&[]), (Some(task.to_owned()), false));
        let file = "src/main/resources/application.properties";
        assert!(with(&[(file, "quarkus.flyway.migrate-at-start = true\n")]).1);
        assert!(!with(&[(file, "%dev.quarkus.flyway.migrate-at-start=true\n")]).1);
        assert!(
            with(&[(
                "src/main/resources/application.yml",
                "quarkus:\n  flyway:\n    migrate-at-start: true\n"
            )])
            .1
        );
    }

    #[test]
    fn dropwizard_has_a_command_where_its_bundle_is_added() {
        let with = |text: &str| {
            of(&depends("dropwizard-migrations"), "Dropwizard", &[("src/main/java/F.java", text)])
        };
        assert_eq!(with("new MigrationsBundle<>()").0.as_deref(), Some("@ db migrate config.yml"));
        assert_eq!(with("nothing"), (None, false));
    }

    #[test]
    fn without_such_a_tool_there_is_no_task() {
        assert_eq!(of(&depends("spring-boot-starter-web"), "Spring Boot", &[]), (None, false));
    }
}
