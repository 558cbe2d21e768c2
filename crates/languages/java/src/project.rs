//! What of a Maven project starts, and how: concluded from its files alone.

use crate::migrations;
use crate::pom::{Pom, Poms};
use crate::sources;
use model::{BuildpackOptions, Evidence, Finding, Place, ProcessKind, ProcessType, Result};
use source::SourceTree;

/// The file with the class path and the class that starts the app, which the build writes.
pub(crate) const START: &str = "start.args";
/// The option that says which module is the app.
pub(crate) const MODULE: &str = "module";
/// Properties that projects say the class in that starts them.
const MAIN_PROPERTIES: [&str; 4] = ["exec.mainClass", "start-class", "mainClass", "main.class"];
/// Plugins that are told the class that starts the app.
const MAIN_PLUGINS: [&str; 5] = [
    "maven-jar-plugin",
    "maven-shade-plugin",
    "maven-assembly-plugin",
    "exec-maven-plugin",
    "spring-boot-maven-plugin",
];

/// Plugins that merge libraries into one archive.
const MERGING: [&str; 2] = ["maven-shade-plugin", "maven-assembly-plugin"];

/// What a module's build makes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Kind {
    /// Something that brings all it needs.
    Whole,
    /// A web archive, which a server serves.
    Web,
    /// A jar of its own classes; what it needs has to be put beside it.
    Plain,
}

/// A module that starts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Startable {
    /// Its folder.
    pub folder: String,
    pub kind: Kind,
    /// Whether libraries are merged into one archive.
    pub merges: bool,
    /// The class that starts it, where a file says so.
    pub main: Option<String>,
    /// What says that it starts.
    said: Place,
    tells: String,
}

/// A framework: the beginning of an artifact's name, what people call it, and the property that takes the port.
struct Framework(&'static str, &'static str, Option<&'static str>);

/// The first one that the app depends on counts.
const FRAMEWORKS: [Framework; 15] = [
    Framework("spring-boot-starter-web", "Spring Boot with web pages or services", Some("server.port")),
    Framework("spring-boot-starter-jersey", "Spring Boot with Jersey", Some("server.port")),
    Framework("spring-boot-starter", "Spring Boot", None),
    Framework("quarkus-", "Quarkus", Some("quarkus.http.port")),
    Framework("micronaut-http-server", "Micronaut", Some("micronaut.server.port")),
    Framework("helidon-", "Helidon", Some("server.port")),
    Framework("dropwizard-core", "Dropwizard", None),
    Framework("javalin", "Javalin", None),
    Framework("spark-core", "Spark", None),
    Framework("vertx-web", "Vert.x", None),
    Framework("undertow-core", "Undertow", None),
    Framework("jetty-server", "Jetty", None),
    Framework("jersey-container-grizzly2-http", "Jersey on Grizzly", None),
    Framework("jersey-container-jdk-http", "Jersey on the JDK's own server", None),
    Framework("netty-all", "Netty", None),
];
/// Parts of frameworks that answer how the app is, with the path that they answer on.
const HEALTH: [(&str, &str); 5] = [
    ("spring-boot-starter-actuator", "/actuator/health"),
    ("quarkus-smallrye-health", "/q/health"),
    ("micronaut-management", "/health"),
    ("helidon-webserver-observe-health", "/observe/health"),
    ("helidon-microprofile-health", "/health"),
];
/// The port of a Dropwizard app that says none (the configuration reference, "Connectors").
const DROPWIZARD_PORT: u16 = 8080;
/// Frameworks of which only some parts serve anything.
const SERVE: [&str; 3] = ["quarkus-rest", "quarkus-resteasy", "quarkus-vertx-http"];

/// The modules that start, those that bring all they need first; with the option, only the one that it names.
pub(crate) fn startable(
    tree: &SourceTree,
    poms: &Poms,
    options: &BuildpackOptions,
) -> Result<Vec<Startable>> {
    let named = options.text(MODULE).map(|module| module.trim_matches('/'));
    let mut all = Vec::new();
    for pom in poms.0.values().filter(|pom| pom.packaging != "pom") {
        if named.is_none_or(|named| pom.folder == named || pom.artifact == named) {
            all.extend(of_module(tree, poms, pom)?);
        }
    }
    all.sort_by_key(|startable| startable.kind);
    Ok(all)
}

fn of_module(tree: &SourceTree, poms: &Poms, pom: &Pom) -> Result<Option<Startable>> {
    let folder = pom.folder.clone();
    let main = main_class(poms, pom);
    let whole = |said: Place, tells: String| Startable {
        folder: folder.clone(),
        kind: Kind::Whole,
        merges: false,
        main: main.clone().map(|(class, _)| class),
        said,
        tells,
    };
    const WHOLE: [&str; 4] =
        ["spring-boot-maven-plugin", "quarkus-maven-plugin", "maven-shade-plugin", "maven-assembly-plugin"];
    for plugin in WHOLE {
        if let Some(place) = poms.plugin(pom, plugin) {
            let tells = format!("{plugin} makes a self-contained app");
            return Ok(Some(Startable { merges: MERGING.contains(&plugin), ..whole(place, tells) }));
        }
    }
    if pom.packaging == "war" {
        let tells = "a web archive, served by Tomcat".to_owned();
        let place = Place::new(pom.file.as_str(), None);
        return Ok(Some(Startable { kind: Kind::Web, ..whole(place, tells) }));
    }
    if pom.parent.as_ref().is_some_and(|parent| parent.artifact == "micronaut-parent") {
        let tells = "micronaut-parent makes a self-contained app".to_owned();
        let place = Place::new(pom.file.as_str(), None);
        return Ok(Some(Startable { merges: true, ..whole(place, tells) }));
    }
    let found = match main {
        Some((class, place)) => Some((class, place)),
        None => main_in_sources(tree, &folder)?,
    };
    Ok(found.map(|(class, said)| Startable {
        folder,
        kind: Kind::Plain,
        merges: false,
        tells: format!("{class} has a main method"),
        main: Some(class),
        said,
    }))
}

/// The class that the project files say.
fn main_class(poms: &Poms, pom: &Pom) -> Option<(String, Place)> {
    let of_plugin = |plugin| poms.plugin_value(pom, plugin, "mainClass");
    let said = MAIN_PLUGINS.into_iter().find_map(of_plugin);
    said.or_else(|| MAIN_PROPERTIES.into_iter().find_map(|name| poms.property(pom, name)))
}

/// The only class of a module with a method that starts it.
fn main_in_sources(tree: &SourceTree, folder: &str) -> Result<Option<(String, Place)>> {
    let sources = model::in_folder(folder, "src/main/java/");
    let mut found = Vec::new();
    for (path, text) in sources::texts(tree, folder)? {
        let Some(class) = path.strip_prefix(&sources).and_then(|path| path.strip_suffix(".java")) else {
            continue;
        };
        let is_main = |line: &str| line.contains("static void main(");
        if let Some(line) = text.lines().position(is_main) {
            let place = Place::new(path.as_str(), u32::try_from(line + 1).ok());
            found.push((class.replace('/', "."), place));
        }
    }
    Ok(if found.len() == 1 { found.pop() } else { None })
}

/// Adds what is known of the app to a finding.
pub(crate) fn tell(tree: &SourceTree, poms: &Poms, app: &Startable, finding: &mut Finding) -> Result<()> {
    finding.evidence.push(Evidence::speaks_for(app.said.clone(), app.folder_name(), app.tells.clone()));
    let Some(pom) = poms.0.get(&app.folder) else { return Ok(()) };
    let framework =
        FRAMEWORKS.iter().find_map(|framework| Some((framework, poms.dependency(pom, framework.0)?)));
    let mut command = vec!["java".to_owned()];
    let mut serves = app.kind == Kind::Web;
    if serves {
        command.push("-Dport.http=$PORT".to_owned());
    }
    if let Some((Framework(_, name, property), (artifact, place))) = &framework {
        finding.evidence.push(Evidence::speaks_for(place.clone(), *artifact, *name));
        let is_part = *name == "Quarkus" && !SERVE.iter().any(|part| poms.dependency(pom, part).is_some());
        serves |= *name != "Spring Boot" && !is_part;
        if let (Some(property), true) = (property, serves && app.kind != Kind::Web) {
            command.push(format!("-D{property}=$PORT"));
        }
    }
    let is_dropwizard = matches!(&framework, Some((Framework(_, "Dropwizard", _), _)));
    let configured = if is_dropwizard { dropwizard_file(tree, &app.folder)? } else { None };
    // The property changes a connector that the file has; without one, there is the usual one.
    let has_connector = configured.as_ref().is_some_and(|(_, text)| text.contains("applicationConnectors"));
    if has_connector {
        command.push("-Ddw.server.applicationConnectors[0].port=$PORT".to_owned());
    }
    command.push(format!("@{START}"));
    let server_file = configured.map(|(file, _)| file);
    if is_dropwizard {
        command.push("server".to_owned());
        command.extend(server_file.clone());
    }
    let takes_port = has_connector
        || app.kind == Kind::Web
        || framework.as_ref().is_some_and(|(Framework(_, _, property), _)| property.is_some());
    let port = match takes_port {
        false => port_in_sources(tree, &app.folder)?,
        true => None,
    };
    let own_server = if framework.is_none() { server_in_sources(tree, &app.folder)? } else { None };
    if let Some((sign, tells, place)) = own_server {
        finding.evidence.push(Evidence::speaks_for(place, sign, tells));
        serves = true;
    }
    let name = if serves || port.is_some() { "web" } else { "worker" };
    let words: Vec<&str> = command.iter().map(String::as_str).collect();
    let mut process = ProcessType::found(name, ProcessKind::Process, &words, app.said.clone());
    let health = HEALTH.iter().find_map(|(part, path)| Some((path, poms.dependency(pom, part)?)));
    if let (Some((path, (part, place))), true) = (health, name == "web") {
        let tells = format!("{part} answers how the app is");
        finding.evidence.push(Evidence::speaks_for(place, *path, tells));
        process.health = Some((*path).to_owned());
    }
    if let Some((port, place)) = port {
        finding.evidence.push(Evidence::speaks_for(place, port.to_string(), "the port in its code"));
        process.port = Some(port);
    } else if is_dropwizard && !has_connector {
        process.port = Some(DROPWIZARD_PORT);
    }
    finding.processes.push(process);
    let name = framework.map(|(Framework(_, name, _), _)| *name).unwrap_or_default();
    let Some(found) = migrations::found(tree, poms, pom, name, server_file.as_deref())? else {
        return Ok(());
    };
    // A web archive starts with its server.
    if let Some((before, after)) = found.task.filter(|_| app.kind != Kind::Web) {
        let start = [format!("@{START}")];
        let java = ["java".to_owned()];
        let words = java.iter().chain(&before).chain(&start).chain(&after);
        let words: Vec<&str> = words.map(String::as_str).collect();
        let said = found.evidence.place.clone();
        finding.processes.push(ProcessType::found("migrate", ProcessKind::Task, &words, said));
    }
    finding.evidence.push(found.evidence);
    Ok(())
}

/// The file with the configuration of a Dropwizard app, with its text.
fn dropwizard_file(tree: &SourceTree, folder: &str) -> Result<Option<(String, String)>> {
    for name in ["config.yml", "config.yaml", "configuration.yml"] {
        let file = model::in_folder(folder, name);
        if let Some(text) = tree.read(&file)? {
            return Ok(Some((file, text)));
        }
    }
    Ok(None)
}

/// A server that the sources of a module have without a framework: what names it, what that means, and its place.
fn server_in_sources(tree: &SourceTree, folder: &str) -> Result<Option<(&'static str, &'static str, Place)>> {
    const SIGNS: [(&str, &str); 2] = [
        ("com.sun.net.httpserver", "the HTTP server of the JDK"),
        ("java.net.ServerSocket", "it listens on a socket"),
    ];
    for (path, text) in sources::texts(tree, folder)? {
        if let Some((sign, tells)) = SIGNS.into_iter().find(|(sign, _)| text.contains(sign)) {
            return Ok(Some((sign, tells, Place::find(&path, &text, sign))));
        }
    }
    Ok(None)
}

/// A port that the sources of a module listen on.
fn port_in_sources(tree: &SourceTree, folder: &str) -> Result<Option<(u16, Place)>> {
    const LISTENS: [&str; 7] = [
        ".start(",
        ".listen(",
        "port(",
        "new Server(",
        ".addHttpListener(",
        "InetSocketAddress(",
        "\"http://",
    ];
    for (path, text) in sources::texts(tree, folder)? {
        for (number, line) in text.lines().enumerate() {
            let port = LISTENS.iter().find_map(|call| {
                let rest = line.split_once(call)?.1;
                // The rest of an address begins with its host.
                let rest = rest.trim_start_matches(|c: char| c.is_ascii_alphabetic() || ".\"".contains(c));
                let rest = rest.trim_start_matches([':', ',', ' ']);
                let digits: String = rest.chars().take_while(char::is_ascii_digit).collect();
                digits.parse::<u16>().ok().filter(|port| *port >= 80)
            });
            if let Some(port) = port {
                return Ok(Some((port, Place::new(path.as_str(), u32::try_from(number + 1).ok()))));
            }
        }
    }
    Ok(None)
}

impl Startable {
    /// Its folder, as people know it.
    pub fn folder_name(&self) -> String {
        if self.folder.is_empty() { "the project".to_owned() } else { self.folder.clone() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use model::Claim;

    fn found(files: &[(&str, &str)]) -> (Vec<Startable>, Option<ProcessType>) {
        let folder = tempfile::tempdir().unwrap();
        for (path, text) in files {
            let path = folder.path().join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        }
        let tree = testkit::tree::tree_of(folder.path());
        let poms = Poms::read(&tree).unwrap().unwrap();
        let all = startable(&tree, &poms, &BuildpackOptions::default()).unwrap();
        let mut finding = Finding::nothing("java", Vec::new());
        finding.claim = Claim::Whole;
        if let Some(first) = all.first() {
            tell(&tree, &poms, first, &mut finding).unwrap();
        }
        (all, finding.processes.into_iter().next())
    }

    fn pom(inside: &str) -> String {
        format!("<project><artifactId>fog</artifactId>{inside}</project>")
    }

    #[test]
    fn a_framework_says_where_its_port_goes() {
        let spring =
            pom("<dependencies><dependency><artifactId>spring-boot-starter-webflux</artifactId></dependency>
<dependency><artifactId>spring-boot-starter-actuator</artifactId></dependency></dependencies>
<build><plugins><plugin><artifactId>spring-boot-maven-plugin</artifactId></plugin></plugins></build>");
        let (all, process) = found(&[("pom.xml", &spring)]);
        assert_eq!(all[0].kind, Kind::Whole);
        let process = process.unwrap();
        assert_eq!(
            (process.name.as_str(), process.command.join(" ").as_str()),
            ("web", "java -Dserver.port=$PORT @start.args")
        );
        assert_eq!(process.health.as_deref(), Some("/actuator/health"));
        let (_, process) = found(&[("pom.xml", &spring.replace("-webflux", "-batch"))]);
        let process = process.unwrap();
        assert_eq!(
            (process.name.as_str(), process.command.join(" ").as_str()),
            ("worker", "java @start.args")
        );
    }

    #[test]
    fn a_plain_module_starts_with_the_class_that_its_code_has() {
        let main = "class Main {\n  public static void main(String[] a) {\n    app.start(7070);\n  }\n}";
        let javalin =
            pom("<dependencies><dependency><artifactId>javalin</artifactId></dependency></dependencies>");
        let (all, process) = found(&[("pom.xml", &javalin), ("src/main/java/ferry/Main.java", main)]);
        assert_eq!((all[0].kind, all[0].main.as_deref()), (Kind::Plain, Some("ferry.Main")));
        assert_eq!(process.unwrap().port, Some(7070));
        let two =
            [("pom.xml", javalin.as_str()), ("src/main/java/A.java", main), ("src/main/java/B.java", main)];
        assert_eq!(found(&two).0, [], "nothing says which");
    }

    #[test]
    fn a_server_of_the_jdk_is_a_web_process() {
        let of = |import: &str| {
            let main = format!("import {import};\nclass Main {{\n static void main(String[] a) {{}}\n}}");
            found(&[("pom.xml", &pom("")), ("src/main/java/ferry/Main.java", &main)]).1.unwrap().name
        };
        assert_eq!(of("com.sun.net.httpserver.HttpServer"), "web");
        assert_eq!([of("java.net.ServerSocket"), of("java.net.Socket")], ["web", "worker"]);
    }

    #[test]
    fn libraries_do_not_start() {
        let (all, _) = found(&[("pom.xml", &pom("")), ("src/main/java/Fog.java", "class Fog {}")]);
        assert_eq!(all, []);
    }
}
