//! Web archives: unpacked beside a server that is an artifact, too.

use crate::project::{Kind, Startable};
use engine::Step;
use engine::support_files::{self, SupportFile};
use model::{Result, in_folder};
use source::SourceTree;

/// Where the archive is unpacked, in the folder of the app.
pub(crate) const SITE: &str = "webapp";
/// The words that start the server.
pub(crate) const START_WORDS: &str = "-Dcatalina.home=/opt/tomcat
-Dcatalina.base=/opt/tomcat
-Djava.io.tmpdir=/tmp
-cp
/opt/tomcat/bin/bootstrap.jar:/opt/tomcat/bin/tomcat-juli.jar
org.apache.catalina.startup.Bootstrap
start
";
/// Lines of the server by the Servlet API that apps are written for: up to Servlet 4, and from Servlet 5 on, where all
/// names begin with another word.
const JAVAX: &str = "9.0.";
const JAKARTA: &str = "10.1.";
/// Names of the descriptors of Servlet versions up to 4.
const OLD_NAMES: [&str; 3] = ["java.sun.com/xml/ns", "java.sun.com/dtd", "xmlns.jcp.org/xml/ns/javaee"];
/// One app at the root, on the port of the process; nothing is unpacked, found or shut down over the network.
const SETTINGS: &str = r#"<Server port="-1">
  <Service name="Catalina">
    <Connector port="${port.http}" protocol="HTTP/1.1" URIEncoding="UTF-8" xpoweredBy="false"/>
    <Engine name="Catalina" defaultHost="localhost">
      <Host name="localhost" appBase="/opt/tomcat/lib" createDirs="false" unpackWARs="false" autoDeploy="false" deployOnStartup="false" workDir="/tmp/work">
        <Valve className="org.apache.catalina.valves.RemoteIpValve"/>
        <Valve className="org.apache.catalina.valves.ErrorReportValve" showReport="false" showServerInfo="false"/>
        <Context path="" docBase="/app/webapp"/>
      </Host>
    </Engine>
  </Service>
</Server>
"#;

/// The line of the server that fits the app; nothing for an app that needs none.
pub(crate) fn line(tree: &SourceTree, app: &Startable) -> Result<Option<&'static str>> {
    if app.kind != Kind::Web {
        return Ok(None);
    }
    let module = in_folder(&app.folder, "src/main/");
    let own = in_folder(&app.folder, "pom.xml");
    let mut is_old = false;
    for path in tree.files().keys() {
        let is_read = *path == own
            || path == "pom.xml"
            || path.starts_with(&module) && (path.ends_with(".java") || path.ends_with("/web.xml"));
        if !is_read {
            continue;
        }
        let text = tree.read(path)?.unwrap_or_default();
        let names = |word: &str| {
            ["servlet", "ws.rs", "faces", "inject", "persistence"].map(|n| format!("{word}.{n}"))
        };
        if names("jakarta").iter().any(|name| text.contains(name)) {
            return Ok(Some(JAKARTA));
        }
        is_old |= names("javax").iter().any(|name| text.contains(name))
            || OLD_NAMES.iter().any(|name| text.contains(name));
    }
    Ok(Some(if is_old { JAVAX } else { JAKARTA }))
}

/// The step that tells the server what it serves.
pub(crate) fn settings() -> Step {
    let file =
        SupportFile { path: "opt/tomcat/conf/server.xml", text: SETTINGS.to_owned(), executable: false };
    support_files::step("tomcat settings", vec![file])
}

#[cfg(test)]
mod tests {
    use super::line as line_of;
    use super::*;
    use crate::pom::Poms;
    use crate::project::startable;
    use model::BuildpackOptions;

    #[test]
    fn the_names_that_the_code_imports_decide_which_server_fits() {
        let line = |import: &str| {
            let folder = tempfile::tempdir().unwrap();
            let sources = folder.path().join("src/main/java");
            std::fs::create_dir_all(&sources).unwrap();
            let pom = "<project><artifactId>fog</artifactId><packaging>war</packaging></project>";
            std::fs::write(folder.path().join("pom.xml"), pom).unwrap();
            std::fs::write(sources.join("Fog.java"), format!("import {import};\nclass Fog {{}}\n")).unwrap();
            let tree = testkit::tree::tree_of(folder.path());
            let poms = Poms::read(&tree).unwrap().unwrap();
            let all = startable(&tree, &poms, &BuildpackOptions::default()).unwrap();
            line_of(&tree, &all[0]).unwrap()
        };
        assert_eq!(line("javax.servlet.http.HttpServlet"), Some(JAVAX));
        assert_eq!(line("jakarta.servlet.http.HttpServlet"), Some(JAKARTA));
    }
}
