//! Java: archives that are already built; sources with Maven or Gradle are surveyed and checked.
#![forbid(unsafe_code)]

use model::error::SurveyError;
use model::{
    BuildpackOptions, Claim, Error, Evidence, Finding, Place, ProcessKind, ProcessType, Result, RuntimeWish,
    configured_constraint,
};
use model::{OptionSpec, Takes};
use planning::{Buildpack, Context, Contribution, Resolution, first_present};
use source::SourceTree;
use std::fs::File;
use std::io::Read;

const MAVEN: &str = "pom.xml";
const GRADLE: [&str; 2] = ["build.gradle.kts", "build.gradle"];

/// The buildpack.
pub struct Java;

impl Buildpack for Java {
    fn name(&self) -> &str {
        "java"
    }

    fn options(&self) -> Vec<OptionSpec> {
        let slim = "Whether the runtime goes without what servers hardly need, such as fonts";
        vec![OptionSpec::VERSION, OptionSpec::new(OptionSpec::SLIM, Takes::Truth, slim)]
    }

    fn survey(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding> {
        let looked_for = vec![MAVEN, "build.gradle.kts", "build.gradle", "*.jar", "*.war"];
        let mut finding = Finding::nothing(self.name(), looked_for);
        let configured = configured_constraint(options);
        if let Some(text) = tree.read(MAVEN)? {
            maven(&text, configured, &mut finding);
        } else if let Some(file) = first_present(tree, &GRADLE) {
            let text = tree.read(file)?.unwrap_or_default();
            gradle(file, &text, configured, &mut finding);
        } else if let Some(file) = prebuilt(tree) {
            archive(tree, &file, configured, &mut finding);
        }
        Ok(finding)
    }

    fn accepts(&self, constraint: &str, version: &str) -> Option<bool> {
        // A class file runs on every later runtime.
        let major = |text: &str| text.trim_start_matches("1.").split('.').next()?.parse::<u32>().ok();
        Some(major(version)? >= major(constraint)?)
    }

    fn contribute(&self, context: &Context<'_>, _resolution: &Resolution) -> Result<Contribution> {
        let finding = context.finding;
        let archives = finding.processes.iter().flat_map(|p| &p.command).filter(|w| w.ends_with(".jar"));
        let missing: Vec<_> = archives.filter(|jar| !context.tree.has(jar)).collect();
        let built = prebuilt(context.tree).is_some() && missing.is_empty() || context.build_command.is_some();
        if let (false, Some(evidence)) = (built, finding.evidence.first()) {
            return Err(Error::Survey(SurveyError::Unsupported {
                place: evidence.place.clone(),
                what: "compiling Java".to_owned(),
                instead: "give the command in [build] run, or build the archive before and take it in with [source] include",
            }));
        }
        // Java up to 17 takes its encoding from here.
        let env = vec![("LANG", "C.UTF-8".to_owned())];
        Ok(Contribution { path: vec![context.runtime()?.bin_folder.clone()], env, ..Contribution::default() })
    }
}

/// A jar or war at the top, or alone in the folder of results.
fn prebuilt(tree: &SourceTree) -> Option<String> {
    let in_place = |f: &&String| !f.contains('/') || f.starts_with("target/") || f.starts_with("build/libs/");
    let ending = |f: &&String| f.ends_with(".jar") || f.ends_with(".war");
    let extra =
        |f: &&String| ["-sources.", "-javadoc.", "-plain.", "original-"].iter().any(|e| f.contains(e));
    tree.files().keys().filter(in_place).filter(ending).find(|f| !extra(f)).cloned()
}

/// The text of the first element `name`, and its line (from 1).
fn element<'t>(text: &'t str, name: &str) -> Option<(&'t str, u32)> {
    let (open, close) = (format!("<{name}>"), format!("</{name}>"));
    let start = text.find(&open)? + open.len();
    let value = text[start..].split(&close).next()?.trim();
    let line = u32::try_from(text[..start].matches('\n').count() + 1).ok()?;
    (!value.starts_with("${")).then_some((value, line))
}

/// Wants the Java of these releases, each with the place that says so; the first one counts.
fn wish_for(said: Vec<(String, Place)>, configured: Option<(String, Place)>, finding: &mut Finding) {
    for (version, place) in &said {
        let tells = "the Java release it is compiled for";
        finding.evidence.push(Evidence::speaks_for(place.clone(), version, tells));
    }
    finding.runtime = Some(RuntimeWish::of("java", configured, said));
}

fn maven(text: &str, configured: Option<(String, Place)>, finding: &mut Finding) {
    finding.claim = Claim::Whole;
    finding.evidence.push(Evidence::speaks_for(
        Place::new(MAVEN, None),
        "present",
        "an app for Java, built with Maven",
    ));
    let settings = ["maven.compiler.release", "release", "java.version", "maven.compiler.target", "target"];
    let said: Vec<_> = settings
        .iter()
        .filter_map(|s| element(text, s))
        .map(|(value, line)| (value.to_owned(), Place::new(MAVEN, Some(line))))
        .collect();
    wish_for(said, configured, finding);
    // The parent's coordinates come first where there is a parent.
    let own = text.split("</parent>").last().unwrap_or(text);
    let runs_alone =
        ["spring-boot-maven-plugin", "maven-shade-plugin", "maven-assembly-plugin", "quarkus-maven-plugin"];
    if let Some(plugin) = runs_alone.iter().find(|p| text.contains(**p)) {
        let place = Place::find(MAVEN, text, plugin);
        finding.evidence.push(Evidence::speaks_for(
            place.clone(),
            *plugin,
            "it makes a jar that runs by itself",
        ));
        let (name, version) = (element(own, "artifactId"), element(own, "version"));
        let jar = match (element(own, "finalName"), name, version) {
            (Some((name, _)), ..) => format!("target/{name}.jar"),
            (None, Some((name, _)), Some((version, _))) => format!("target/{name}-{version}.jar"),
            (None, Some((name, _)), None) => format!("target/{name}.jar"),
            _ => return,
        };
        finding.processes.push(ProcessType::found(
            "web",
            ProcessKind::Process,
            &started(&jar, text.contains("spring-boot")),
            place,
        ));
    }
}

fn gradle(file: &'static str, text: &str, configured: Option<(String, Place)>, finding: &mut Finding) {
    finding.claim = Claim::Whole;
    finding.evidence.push(Evidence::speaks_for(
        Place::new(file, None),
        "present",
        "an app for Java, built with Gradle",
    ));
    let mut said = Vec::new();
    for (number, line) in text.lines().enumerate() {
        for sign in
            ["JavaLanguageVersion.of(", "JavaVersion.VERSION_", "sourceCompatibility", "options.release"]
        {
            let Some((_, rest)) = line.split_once(sign) else { continue };
            let digits: String = rest
                .trim_start_matches([' ', '=', '\'', '"', '.', '(', 's', 'e', 't'])
                .chars()
                .take_while(|c| c.is_ascii_digit() || *c == '_' || *c == '.')
                .collect();
            if !digits.is_empty() {
                let version = digits.replace('_', ".");
                said.push((version, Place::new(file, u32::try_from(number + 1).ok())));
                break;
            }
        }
    }
    wish_for(said, configured, finding);
    if let Some(plugin) =
        ["org.springframework.boot", "shadow", "application"].iter().find(|p| text.contains(**p))
    {
        let place = Place::find(file, text, plugin);
        finding.evidence.push(Evidence::speaks_for(place, *plugin, "it makes something that runs by itself"));
    }
}

fn archive(tree: &SourceTree, file: &str, configured: Option<(String, Place)>, finding: &mut Finding) {
    finding.claim = Claim::Whole;
    let place = Place::new(file, None);
    finding.evidence.push(Evidence::speaks_for(place.clone(), "present", "an app for Java, already built"));
    let manifest = manifest_of(tree, file);
    let value = |key: &str| {
        let text = manifest.as_deref()?;
        text.lines().find_map(|l| l.strip_prefix(key)?.strip_prefix(':')).map(|v| v.trim().to_owned())
    };
    let said: Vec<_> = value("Build-Jdk-Spec").map(|v| (v, place.clone())).into_iter().collect();
    finding.runtime = Some(RuntimeWish::of("java", configured, said));
    if let Some(class) = value("Main-Class") {
        finding.evidence.push(Evidence::speaks_for(place.clone(), class, "the class that starts it"));
        finding.processes.push(ProcessType::found(
            "web",
            ProcessKind::Process,
            &started(file, value("Spring-Boot-Version").is_some()),
            place,
        ));
    } else if manifest.is_none() {
        finding.evidence.push(Evidence::against(place, "no manifest", "it is no whole archive"));
    } else if file.ends_with(".jar") {
        finding.evidence.push(Evidence::against(
            place,
            "no Main-Class",
            "the archive does not say what starts it",
        ));
    }
}

/// The manifest in an archive; `None` when the file is not a whole archive.
fn manifest_of(tree: &SourceTree, file: &str) -> Option<String> {
    const LARGEST: u64 = 1 << 20;
    let mut archive = zip::ZipArchive::new(File::open(tree.root().join(file)).ok()?).ok()?;
    let member = archive.by_name("META-INF/MANIFEST.MF").ok()?;
    let mut text = String::new();
    member.take(LARGEST).read_to_string(&mut text).ok()?;
    Some(text)
}

/// The words that start a jar; the framework that most apps use takes its port from a property.
fn started(jar: &str, is_spring: bool) -> Vec<&str> {
    match is_spring {
        true => vec!["java", "-Dserver.port=$PORT", "-jar", jar],
        false => vec!["java", "-jar", jar],
    }
}
