//! Java: archives that are already built; sources with Maven or Gradle are surveyed and checked.
#![forbid(unsafe_code)]

mod build;
mod built_app;
mod distribution;
mod fast_start;
#[cfg(fuzzing)]
pub mod fuzzing;
mod jdk_modules;
mod licences;
mod made;
mod maven_build;
mod memory;
mod merged_jars;
mod migrations;
mod pom;
mod project;
mod repository;
mod small_runtime;
mod sources;
mod web_archive;

use maven_build::{FAST_START, GOALS, JDK_MODULES, MavenBuild, PROFILES};
use model::error::SurveyError;
use model::{
    BuildpackOptions, Claim, Ecosystem, Error, Evidence, Finding, Place, ProcessKind, ProcessType, Result,
    RuntimeWish, configured_constraint,
};
use model::{OptionSpec, Sign, Takes};
use planning::{Buildpack, Context, Contribution, Resolution, Resolving, first_present};
use pom::{POM, Poms};
use project::MODULE;
use source::SourceTree;
use std::fs::File;
use std::io::Read;

const GRADLE: [&str; 2] = ["build.gradle.kts", "build.gradle"];

/// The buildpack.
pub struct Java;

impl Buildpack for Java {
    fn name(&self) -> &str {
        "java"
    }

    fn about(&self) -> &str {
        "Java: archives, and Maven projects"
    }

    fn options(&self) -> Vec<OptionSpec> {
        let slim = "Whether to leave out parts of Java that servers rarely need: fonts, printing, sound, smart cards, Kerberos";
        let small =
            "Whether a Maven project gets a Java runtime with only the modules of the JDK that it needs";
        vec![
            OptionSpec::VERSION,
            OptionSpec::new(OptionSpec::SLIM, Takes::Truth, slim),
            OptionSpec::new(OptionSpec::SMALL_RUNTIME, Takes::Truth, small),
            OptionSpec::new(JDK_MODULES, Takes::Texts, small_runtime::ABOUT_MODULES),
            OptionSpec::new(FAST_START, Takes::Truth, fast_start::ABOUT),
            OptionSpec::new(MODULE, Takes::Text, "The folder of the Maven module to run"),
            OptionSpec::new(GOALS, Takes::Texts, "Maven goals to run instead of package"),
            OptionSpec::new(PROFILES, Takes::Texts, "Maven profiles to activate"),
        ]
    }

    fn ecosystems(&self) -> Vec<Ecosystem> {
        vec![Ecosystem::MAVEN]
    }

    fn survey(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding> {
        let looked_for = vec![POM, "build.gradle.kts", "build.gradle", "*.jar", "*.war"];
        let mut finding = Finding::nothing(self.name(), looked_for);
        let configured = configured_constraint(options);
        if let Some(poms) = Poms::read(tree)? {
            maven(tree, &poms, options, &mut finding)?;
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
        let (wanted, has) = (major(constraint)?, major(version)?);
        // A compiler from Java 20 on makes nothing for Java 7 (JEP 182).
        Some(has >= wanted && !(wanted < 8 && has >= 20))
    }

    fn keep_within_memory(&self, process: &mut ProcessType) {
        memory::keep_within(process);
    }

    fn resolve(&self, context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
        match maven_build::app(context)? {
            Some(app) if context.build_command.is_none() => maven_build::settle(context, app, resolving),
            _ => Ok(Resolution::default()),
        }
    }

    fn contribute(&self, context: &Context<'_>, resolution: &Resolution) -> Result<Contribution> {
        // Java up to 17 takes its encoding from here.
        let env = vec![("LANG", "C.UTF-8".to_owned())];
        let path = vec![context.runtime()?.bin_folder.clone()];
        if let Some(settled) = resolution.settled::<MavenBuild>() {
            return Ok(Contribution { path, env, ..settled.contribute(context)? });
        }
        for option in [FAST_START, OptionSpec::SMALL_RUNTIME] {
            if context.options.is_set(option) {
                return Err(Error::Survey(SurveyError::Unsupported {
                    place: Place::new(model::files::CONFIG, None),
                    what: format!("{option} for an app that is not built with Maven"),
                    instead: "remove the option, or build with Maven",
                }));
            }
        }
        let finding = context.finding;
        let archives = finding.processes.iter().flat_map(|p| &p.command).filter(|w| w.ends_with(".jar"));
        let missing: Vec<_> = archives.filter(|jar| !context.tree.has(jar)).collect();
        let built = prebuilt(context.tree).is_some() && missing.is_empty() || context.build_command.is_some();
        if let (false, Some(evidence)) = (built, finding.evidence.first()) {
            let (what, instead) = match context.tree.has(POM) {
                true => (
                    "a Maven project without a runnable module",
                    "choose the module: in shtetl.toml, under [buildpacks.java]: module = \"NAME\"; or set the command in [build] run",
                ),
                false => (
                    "building with Gradle",
                    "set the command in [build] run, or build the archive beforehand and pack it with [source] include",
                ),
            };
            return Err(Error::Survey(SurveyError::Unsupported {
                place: evidence.place.clone(),
                what: what.to_owned(),
                instead,
            }));
        }
        Ok(Contribution { path, env, ..Contribution::default() })
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

/// Wants the Java of these releases, each with the place that says so; the first one counts.
fn wish_for(said: Vec<(String, Place)>, configured: Option<(String, Place)>, finding: &mut Finding) {
    for (version, place) in &said {
        let tells = "the Java release it is compiled for";
        finding.evidence.push(Evidence::speaks_for(place.clone(), version, tells));
    }
    finding.runtime = Some(RuntimeWish::of("java", configured, said));
}

fn maven(tree: &SourceTree, poms: &Poms, options: &BuildpackOptions, finding: &mut Finding) -> Result<()> {
    finding.claim = Claim::Whole;
    let place = Place::new(POM, None);
    finding.evidence.push(Evidence::speaks_for(place, "present", "an app for Java, built with Maven"));
    if let Some((version, place)) = distribution::wanted(tree)? {
        finding.evidence.push(Evidence::speaks_for(place, version, "the release of Maven that builds it"));
    }
    let startable = project::startable(tree, poms, options)?;
    let first = startable.first();
    let pom = first.and_then(|app| poms.0.get(&app.folder)).or_else(|| poms.0.get(""));
    let compiler = |pom, name| poms.plugin_value(pom, "maven-compiler-plugin", name);
    let said = pom.map(|pom| {
        let properties = ["maven.compiler.release", "java.version", "maven.compiler.target"];
        let of_properties = properties.into_iter().map(|name| poms.property(pom, name));
        let of_compiler = ["release", "target"].into_iter().map(|name| compiler(pom, name));
        of_properties.chain(of_compiler).flatten().collect()
    });
    wish_for(said.unwrap_or_default(), configured_constraint(options), finding);
    match &startable[..] {
        [] => {}
        [app, others @ ..] if others.iter().all(|other| other.kind > app.kind) => {
            project::tell(tree, poms, app, finding)?;
        }
        several => {
            for app in several.iter().filter(|app| app.kind == several[0].kind) {
                let file = model::in_folder(&app.folder, POM);
                let one =
                    Evidence::against(Place::new(file, None), &app.folder, "one of several runnable modules");
                finding.evidence.push(one.as_sign(Sign::Module));
            }
        }
    }
    Ok(())
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
        finding.evidence.push(Evidence::speaks_for(place, *plugin, "it produces a runnable app"));
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
        finding.evidence.push(Evidence::against(place, "no manifest", "it is not a complete archive"));
    } else if file.ends_with(".jar") {
        finding.evidence.push(Evidence::against(
            place,
            "no Main-Class",
            "the archive's manifest has no Main-Class",
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
