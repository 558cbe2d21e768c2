//! A runtime with the modules that the app needs, made of the JDK's (`jlink`), in place of the base's.

use crate::built_app::APP;
use crate::jdk_modules::JdkModules;
use content::layer::LayerWriter;
use engine::program_step::{self, Cache, Job, RESULT, SOURCE};
use engine::sandbox_mode::working_mode;
use engine::unpacked_layers::{StoredLayer, unpacked};
use engine::{Action, Fingerprint, Produced, Recipe, StepContext, collect};
use model::error::StepError;
use model::shell_words::join;
use model::{Error, PackageFact, PathFacts, Result};
use std::collections::BTreeSet;
use std::fs;

/// The name of the step.
pub(crate) const STEP: &str = "java small runtime";
/// Where it is, from the root of the image.
pub(crate) const FOLDER: &str = "opt/java";
/// Where what serves web archives is.
const SERVERS: &str = "opt";
/// What the option for further modules is for.
pub(crate) const ABOUT_MODULES: &str =
    "Modules of the JDK for a small runtime, besides those that the app's classes name";
/// What apps use without naming it: encodings, languages, certificates with elliptic curves, archives as file systems,
/// names on the network, figures of the machine.
const ALWAYS: [&str; 12] = [
    "java.base",
    "java.instrument",
    "java.logging",
    "java.management",
    "java.naming",
    "jdk.charsets",
    "jdk.crypto.ec",
    "jdk.localedata",
    "jdk.management",
    "jdk.naming.dns",
    "jdk.unsupported",
    "jdk.zipfs",
];
/// Makes a runtime of modules, with the certificates of the base. Its own archive of loaded classes is made without a part
/// that is different in each run.
const SCRIPT: &str = r#"set -eu
jlink --add-modules "$MODULES" --no-header-files --no-man-pages --output "$RESULT/java"
cp /etc/ssl/certs/java/cacerts "$RESULT/java/lib/security/cacerts"
"$RESULT/java/bin/java" -Xshare:dump -XX:+UseSerialGC -Xms256m -Xmx256m >/dev/null
"#;

/// Makes the runtime; its root has the JDK and the app.
pub(crate) struct SmallRuntime {
    /// The major version of Java.
    pub major: &'static str,
    /// Modules of the configuration.
    pub modules: Vec<String>,
    /// The folder of the JDK.
    pub java_home: String,
}

impl SmallRuntime {
    /// The modules that the app names, that the configuration names, and that are always there.
    fn wanted(&self, layer: &LayerWriter<'_>, cx: &StepContext<'_>) -> Result<BTreeSet<String>> {
        let mut wanted: BTreeSet<String> = ALWAYS.map(str::to_owned).into();
        wanted.extend(self.modules.iter().cloned());
        // In the form that the program needs them in, too.
        let mode = working_mode(layer.store())?;
        let unpack = |produced: &Produced| unpacked(layer.store(), &StoredLayer::from(&produced.layer), mode);
        let roots = cx.root.iter().map(unpack).collect::<Result<Vec<_>>>()?;
        let folders = roots.iter().map(|root| root.join(&self.java_home[1..]).join("jmods"));
        let missing = || StepError::NotMade { wanted: "a JDK with modules".to_owned(), made: Vec::new() };
        let jmods =
            folders.into_iter().find(|folder| folder.is_dir()).ok_or_else(missing).map_err(Error::Step)?;
        let jdk = JdkModules::read(&jmods)?;
        for folder in roots.iter().flat_map(|root| [root.join(APP), root.join(SERVERS)]) {
            cx.check_cancelled()?;
            if folder.is_dir() {
                jdk.named_in(&folder, &mut wanted)?;
            }
        }
        Ok(wanted)
    }

    fn env(&self) -> Vec<(&'static str, String)> {
        vec![
            ("HOME", "/tmp".to_owned()),
            ("LANG", "C.UTF-8".to_owned()),
            ("PATH", format!("{}/bin:/usr/bin:/bin", self.java_home)),
            ("RESULT", RESULT.to_owned()),
            ("SOURCE_DATE_EPOCH", content::layer::FILE_TIME.to_string()),
        ]
    }

    fn argv() -> Vec<String> {
        ["/bin/sh", "-c", SCRIPT].map(str::to_owned).to_vec()
    }
}

impl Action for SmallRuntime {
    fn fingerprint(&self) -> Fingerprint {
        // The release and the JDK show in the environment, and are in the root.
        let Self { major: _, modules: _, java_home: _ } = self;
        let env = self.env().into_iter().map(|(name, value)| (name.to_owned(), value));
        Fingerprint::of(Recipe::new("java small runtime", 1))
            .with_recipe(program_step::RECIPE)
            .values("command", [("run", join(&Self::argv()))])
            .input("environment", env.collect())
            .values("modules", [("always", ALWAYS.join(" ")), ("configured", self.modules.join(" "))])
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let modules: Vec<String> = self.wanted(layer, cx)?.into_iter().collect();
        let mut env = self.env();
        env.push(("MODULES", modules.join(",")));
        let job = Job {
            step: STEP,
            shown: format!("jlink --add-modules {}", modules.join(",")),
            argv: Self::argv(),
            env,
            folder: SOURCE,
            starts_in: "",
            fill: &|_| Ok(()),
            packages: &[],
            cache: Cache::Empty,
        };
        let made = program_step::run(&job, layer.store(), cx)?;
        let links = made.folder.join("usr");
        fs::create_dir(&links).facts(&links)?;
        let link = links.join("java");
        std::os::unix::fs::symlink(format!("/{FOLDER}/bin/java"), &link).facts(&link)?;
        let found = collect::files(&made.folder)?;
        let files = found.iter().map(|path| match path.strip_prefix("java/") {
            Some(inside) => (path.as_str(), format!("{FOLDER}/{inside}")),
            None => (path.as_str(), "usr/bin/java".to_owned()),
        });
        collect::put(layer, &made.folder, &files.collect::<Vec<_>>())?;
        // It is what advisories and updates of the distribution are about.
        let package = format!("openjdk-{}-jre-headless", self.major);
        let of_root = cx.root.iter().flat_map(|produced| &produced.packages);
        Ok(of_root.filter(|fact| fact.name == package).take(1).cloned().collect())
    }
}
