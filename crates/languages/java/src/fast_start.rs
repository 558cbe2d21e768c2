//! An archive of the classes that the app loads until it serves (class data sharing), which the next start maps instead of
//! reading and checking each class.
//!
//! The app is started once, in isolation, for the names of these classes. The archive is then made of the sorted names: the
//! same names make the same bytes.

use crate::built_app::{APP, ARCHIVE, SHARED_CLASSES};
use crate::project::START;
use content::layer::LayerWriter;
use engine::program_step::{self, Cache, Job, RESULT, SOURCE, Written, copy_source};
use engine::sandbox_mode::working_mode;
use engine::unpacked_layers::{StoredLayer, unpacked};
use engine::{Action, Fingerprint, Recipe, StepContext, collect};
use model::error::StepError;
use model::shell_words::join;
use model::{Error, PackageFact, PathFacts, Result};
use source::SourceTree;
use std::fs::{self, File};
use std::io::Read;
use std::path::Path;
use std::sync::Arc;

/// The name of the step.
pub(crate) const STEP: &str = "java fast start";
/// What the option is for.
pub(crate) const ABOUT: &str =
    "Whether to add an archive of the classes that a Maven project loads at its start; it then starts faster";
/// The names of the loaded classes, in the folder of results and in that of the app.
const CLASSES: &str = "start.classes";
/// The longest list of them that is read, in bytes.
const LONGEST_LIST: u64 = 64 << 20;
/// The file that starts the app, without the option, in the folder of the app.
const TRAINING: &str = "training.args";
const PORT: &str = "8080";
/// What Java takes for the archive, whatever machine it is made on.
const ALIKE: [&str; 3] = ["-XX:+UseSerialGC", "-Xms512m", "-Xmx512m"];
/// Starts a program, and ends it two seconds after something in its network listens; after 20 seconds in any case. Its
/// status does not count: without the services that it needs, it may well end by itself.
const START_AND_END: &str = r#""$@" &
app=$!
turns=0
while kill -0 $app 2>/dev/null && [ $turns -lt 100 ]; do
  if grep -q ' 0A ' /proc/net/tcp /proc/net/tcp6 2>/dev/null; then sleep 2; break; fi
  sleep 0.2
  turns=$((turns + 1))
done
kill -TERM $app 2>/dev/null
turns=0
while kill -0 $app 2>/dev/null && [ $turns -lt 50 ]; do sleep 0.2; turns=$((turns + 1)); done
kill -KILL $app 2>/dev/null
wait $app 2>/dev/null
exit 0
"#;

/// Makes the archive; its root has the app.
pub(crate) struct FastStart {
    pub tree: Arc<SourceTree>,
    /// The command that starts the app.
    pub command: Vec<String>,
    /// The folder of the Java that the image has.
    pub java_home: String,
}

impl FastStart {
    /// The command with other options, and started from the file without the one for the archive.
    fn argv(&self, options: &[String]) -> Vec<String> {
        let start = format!("@{START}");
        let words = self.command.iter().skip(1).map(|word| match *word == start {
            true => format!("@{TRAINING}"),
            false => word.replace("$PORT", PORT),
        });
        std::iter::once(format!("{}/bin/java", self.java_home))
            .chain(options.iter().cloned())
            .chain(words)
            .collect()
    }

    fn training(&self) -> Vec<String> {
        let shell = ["/bin/sh", "-c", START_AND_END, "sh"].map(str::to_owned);
        let options = [format!("-XX:DumpLoadedClassList={RESULT}/{CLASSES}")];
        shell.into_iter().chain(self.argv(&options)).collect()
    }

    fn archiving(&self) -> Vec<String> {
        let mut options = ["-Xshare:dump", "-Xlog:cds=error", "-Xlog:cds*=error"].map(str::to_owned).to_vec();
        options.extend(ALIKE.map(str::to_owned));
        options.push(format!("-XX:SharedClassListFile={SOURCE}/{CLASSES}"));
        options.push(format!("{SHARED_CLASSES}{RESULT}/{ARCHIVE}"));
        self.argv(&options)
    }

    fn run(
        &self,
        (argv, shown): (Vec<String>, &str),
        fill: &dyn Fn(&Path) -> Result<()>,
        layer: &LayerWriter<'_>,
        cx: &StepContext<'_>,
    ) -> Result<Written> {
        let env = vec![
            ("HOME", "/tmp".to_owned()),
            ("LANG", "C.UTF-8".to_owned()),
            ("PATH", format!("{}/bin:/usr/bin:/bin", self.java_home)),
            ("PORT", PORT.to_owned()),
        ];
        let job = Job {
            step: STEP,
            shown: shown.to_owned(),
            argv,
            env,
            folder: SOURCE,
            starts_in: "",
            fill,
            packages: &[],
            cache: Cache::Empty,
        };
        program_step::run(&job, layer.store(), cx)
    }
}

impl Action for FastStart {
    fn fingerprint(&self) -> Fingerprint {
        // The files of the source count because the step reads the source.
        let Self { tree: _, command: _, java_home: _ } = self;
        let values = [("training", join(&self.training())), ("archiving", join(&self.archiving()))];
        Fingerprint::of(Recipe::new("java fast start", 1))
            .with_recipe(program_step::RECIPE)
            .values("commands", values)
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let start = without_option(&start_file(layer, cx)?);
        let fill = |to: &Path| {
            copy_source(&self.tree, to)?;
            let file = to.join(TRAINING);
            fs::write(&file, &start).facts(&file)
        };
        let trained = self.run((self.training(), &join(&self.command)), &fill, layer, cx)?;
        let names = names(&list(&trained.folder.join(CLASSES))?);
        drop(trained);
        let fill = |to: &Path| {
            fill(to)?;
            let file = to.join(CLASSES);
            fs::write(&file, &names).facts(&file)
        };
        let made = self.run((self.archiving(), "java -Xshare:dump"), &fill, layer, cx)?;
        if !made.folder.join(ARCHIVE).is_file() {
            let wanted = format!("the archive {ARCHIVE}");
            return Err(Error::Step(StepError::NotMade { wanted, made: Vec::new() }));
        }
        collect::put(layer, &made.folder, &[(ARCHIVE, format!("{APP}/{ARCHIVE}"))])?;
        Ok(Vec::new())
    }
}

/// The text of the file that starts the app, which one of the layers has.
fn start_file(layer: &LayerWriter<'_>, cx: &StepContext<'_>) -> Result<String> {
    let mode = working_mode(layer.store())?;
    for produced in cx.root.iter().rev() {
        let root = unpacked(layer.store(), &StoredLayer::from(&produced.layer), mode)?;
        let file = root.join(APP).join(START);
        if file.is_file() {
            return fs::read_to_string(&file).facts(&file);
        }
    }
    Err(Error::Step(StepError::NotMade { wanted: START.to_owned(), made: Vec::new() }))
}

/// The list that the started app left. It is not trusted: a link would lead out of its folder.
fn list(file: &Path) -> Result<String> {
    let mut bytes = Vec::new();
    // An app that fails before Java starts leaves none.
    if fs::symlink_metadata(file).is_ok_and(|metadata| metadata.is_file()) {
        File::open(file).facts(file)?.take(LONGEST_LIST).read_to_end(&mut bytes).facts(file)?;
    }
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

fn without_option(start: &str) -> String {
    start.lines().filter(|line| !line.starts_with(SHARED_CLASSES)).map(|line| format!("{line}\n")).collect()
}

/// The names in a list of loaded classes, in their order, without what is different in each run: numbers, the classes of
/// other class loaders, and forms of lambdas.
fn names(list: &str) -> String {
    let is_plain = |line: &&str| !line.starts_with(['#', '@']) && !line.contains("source:");
    let mut names: Vec<&str> =
        list.lines().filter(is_plain).filter_map(|line| line.split_whitespace().next()).collect();
    names.sort_unstable();
    names.dedup();
    names.iter().map(|name| format!("{name}\n")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_of_classes_is_the_same_whatever_their_order_and_numbers() {
        let one = "# a comment\njava/lang/Object id: 0\nferry/Main id: 7\n@lambda-proxy ferry/Main run\n\
                   ferry/Own id: 8 super: 0 source: own.jar\nferry/Main id: 9\n";
        let other = "ferry/Main id: 3\njava/lang/Object id: 4\n";
        assert_eq!(names(one), "ferry/Main\njava/lang/Object\n");
        assert_eq!(names(one), names(other));
    }

    #[test]
    fn a_list_that_is_a_link_or_not_there_is_empty() {
        let folder = tempfile::tempdir().unwrap();
        let [secret, link] = ["secret", "link"].map(|name| folder.path().join(name));
        fs::write(&secret, "hunter2").unwrap();
        std::os::unix::fs::symlink(&secret, &link).unwrap();
        assert_eq!([list(&link).unwrap(), list(&folder.path().join("none")).unwrap()], ["", ""]);
        assert_eq!(list(&secret).unwrap(), "hunter2");
    }

    #[test]
    fn the_app_is_started_by_its_command_without_the_archive() {
        let folder = tempfile::tempdir().unwrap();
        let command = ["java", "-Dserver.port=$PORT", "@start.args", "server"].map(str::to_owned).to_vec();
        let java_home = "/jdk".to_owned();
        let fast = FastStart { tree: testkit::tree::tree_of(folder.path()).into(), command, java_home };
        let words = fast.training();
        let from = words.iter().position(|word| word == "/jdk/bin/java").unwrap();
        let expected = [
            "-XX:DumpLoadedClassList=/result/start.classes",
            "-Dserver.port=8080",
            "@training.args",
            "server",
        ];
        assert_eq!(words[from + 1..], expected);
        assert_eq!(without_option(&format!("-Da=b\n{SHARED_CLASSES}/app/start.jsa\n-cp\n")), "-Da=b\n-cp\n");
    }
}
