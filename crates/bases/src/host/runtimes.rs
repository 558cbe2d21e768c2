//! Runtimes of this machine: asked for their version and place, then captured.

use crate::host::capture::{Captured, Collector};
use crate::host::elf::Linker;
use crate::host::{Host, base_files, elf};
use content::store::{Signature, Store};
use model::error::BaseError;
use model::folder::entries;
use model::places::RUNTIME_FOLDER;
use model::{Error, PathFacts, Result};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// A runtime that this machine has.
pub(crate) struct ProvidedRuntime {
    /// Its exact version.
    pub version: String,
    /// The folder with its program in the image.
    pub bin_folder: String,
    /// The dynamic loader that it names.
    pub interpreter: Option<PathBuf>,
    /// Its files.
    pub captured: Captured,
}

/// What a runtime says of itself.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct Answer {
    /// The program itself, behind every link and starter.
    executable: PathBuf,
    version: String,
    /// The folder of the standard library, for runtimes that have one.
    #[serde(default)]
    library: Option<PathBuf>,
    /// The folder of its compiled modules, where it is another one.
    #[serde(default)]
    modules: Option<PathBuf>,
}

const ASK_NODE: &str =
    "console.log(JSON.stringify({executable: process.execPath, version: process.versions.node}))";
const ASK_PYTHON: &str = "import json, platform, sys, sysconfig; print(json.dumps({\
    'executable': sys.executable, 'version': platform.python_version(), \
    'library': sysconfig.get_path('stdlib'), 'modules': sysconfig.get_config_var('DESTSHARED')}))";

/// Finds and captures `runtime` (`node` or `python`); `now` is in nanoseconds since 1970.
pub fn provide(host: &Host, runtime: &str, store: &Store, now: i64) -> Result<ProvidedRuntime> {
    let (program, arguments) = match runtime {
        "node" => ("node", vec!["-e", ASK_NODE]),
        _ => ("python3", vec!["-I", "-c", ASK_PYTHON]),
    };
    let missing = || {
        Error::Base(BaseError::RuntimeMissing { runtime: runtime.to_owned(), searched: host.search.clone() })
    };
    let found = host.program(program).ok_or_else(missing)?;
    let answer = ask(host, &found, &arguments, store)?;
    let executable = host.real(&answer.executable);
    let mut linker = Linker::new(host, store);
    let needs = linker.needs(&executable)?.ok_or_else(|| {
        Error::Base(BaseError::Capture {
            path: executable.clone(),
            detail: "not a program in this machine's format".to_owned(),
        })
    })?;
    let mut files = Collector::new(host, runtime, store, now);
    let home = format!("{RUNTIME_FOLDER}/{runtime}");
    let mut programs = vec![executable.clone()];
    match &answer.library {
        Some(library) => {
            programs.extend(python_files(host, &answer, library, &home, &mut linker, &mut files)?)
        }
        None => files.file(&format!("{home}/bin/{runtime}"), &executable)?,
    }
    // The first line of many scripts names it.
    let env = host.real(Path::new("/usr/bin/env"));
    if elf::fits_processor(&env) {
        files.file("usr/bin/env", &env)?;
        programs.push(env);
    }
    if let Some(interpreter) = &needs.interpreter {
        libraries(host, interpreter, &programs, &mut linker, &mut files)?;
    }
    linker.save(store)?;
    Ok(ProvidedRuntime {
        version: answer.version,
        bin_folder: format!("/{home}/bin"),
        interpreter: needs.interpreter,
        captured: files.finish()?,
    })
}

/// Runs the program once; the answer is remembered as long as the program is the same file.
fn ask(host: &Host, program: &Path, arguments: &[&str], store: &Store) -> Result<Answer> {
    #[derive(Serialize, Deserialize)]
    struct Remembered {
        program: Signature,
        executable: Signature,
        answer: Answer,
    }
    let memory = store.tree_path(&format!(
        "runtime-{}.json",
        content::digest::Sha256::of(program.as_os_str().as_encoded_bytes()).hex()
    ));
    let signature = |path: &Path| fs::metadata(path).map(|m| Signature::of(&m)).facts(path);
    let now = signature(program)?;
    if let Some(known) = store.read_document::<Remembered>(&memory).whole()
        && known.program == now
        && signature(&host.real(&known.answer.executable)).ok().as_ref() == Some(&known.executable)
    {
        return Ok(known.answer);
    }
    let bad = |detail: String| Error::Base(BaseError::Capture { path: program.to_owned(), detail });
    // The machine's own program in its usual surroundings: starters may depend on them.
    let output = Command::new(program)
        .args(arguments)
        .stdin(Stdio::null())
        .output()
        .map_err(|e| bad(e.to_string()))?;
    let text = String::from_utf8_lossy(&output.stdout);
    let line = text.lines().last().unwrap_or_default();
    let answer: Answer = serde_json::from_str(line).map_err(|_| {
        let said = String::from_utf8_lossy(&output.stderr);
        bad(format!("it did not report its version ({})", said.lines().last().unwrap_or("no answer")))
    })?;
    // A starter script chooses its program on every run, so its answer is not remembered.
    if elf::fits_processor(program) {
        let executable = signature(&host.real(&answer.executable))?;
        store.write_cache(&memory, &Remembered { program: now, executable, answer: answer.clone() })?;
    }
    Ok(answer)
}

/// Parts of Python's library that no app in an image uses, or that are kept elsewhere.
const PYTHON_LEFT_OUT: [&str; 9] = [
    "site-packages",
    "dist-packages",
    "test",
    "idlelib",
    "turtledemo",
    "tkinter",
    "ensurepip",
    "lib2to3",
    "pydoc_data",
];

/// Captures interpreter and library; gives the compiled modules, whose libraries are needed too.
fn python_files(
    host: &Host,
    answer: &Answer,
    library: &Path,
    home: &str,
    linker: &mut Linker<'_>,
    files: &mut Collector<'_>,
) -> Result<Vec<PathBuf>> {
    let series = answer.version.splitn(3, '.').take(2).collect::<Vec<_>>().join(".");
    let program = format!("{home}/bin/python{series}");
    files.file(&program, &host.real(&answer.executable))?;
    for name in ["python3", "python"] {
        files.link(&format!("{home}/bin/{name}"), &format!("python{series}"));
    }
    let keep = |inside: &str| {
        let (first, last) = (inside.split('/').next(), inside.rsplit('/').next());
        let left_out = first.is_some_and(|f| PYTHON_LEFT_OUT.contains(&f) || f.starts_with("config-"));
        !left_out
            && last != Some("__pycache__")
            && !inside.contains("/tests/")
            && first != Some("lib-dynload")
    };
    let target = format!("{home}/lib/python{series}");
    files.tree(&target, &host.real(library), &keep)?;
    let modules = answer.modules.clone().unwrap_or_else(|| library.join("lib-dynload"));
    let modules = host.real(&modules);
    let mut compiled = Vec::new();
    if modules.is_dir() {
        for module in entries(&modules)? {
            let name = module.file_name().unwrap_or_default().to_string_lossy().into_owned();
            let for_tests =
                name.starts_with("_test") || name.starts_with("_xxtest") || name.starts_with("_tkinter");
            if for_tests || !name.contains(".so") {
                continue;
            }
            let (_, unmet) = linker.closure(std::slice::from_ref(&module))?;
            if let Some(library) = unmet.keys().next() {
                files.note(format!("Python's module {name} is left out: this machine has no {library}"));
                continue;
            }
            files.file(&format!("{target}/lib-dynload/{name}"), &module)?;
            compiled.push(module);
        }
    }
    files.folder(&format!("{target}/lib-dynload"), 0o755, content::layer::Owner::ROOT);
    Ok(compiled)
}

/// What compiled packages may count on without bringing it, where this machine has it (PEP 600).
const COUNTED_ON: [&str; 3] = ["libstdc++.so.6", "libgcc_s.so.1", "libatomic.so.1"];

/// Shared libraries beyond the C library, all into its folder.
fn libraries(
    host: &Host,
    interpreter: &Path,
    programs: &[PathBuf],
    linker: &mut Linker<'_>,
    files: &mut Collector<'_>,
) -> Result<()> {
    let folder = base_files::library_folder(host, interpreter)?;
    let loader = interpreter.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let counted_on: BTreeMap<String, PathBuf> =
        COUNTED_ON.iter().filter_map(|name| Some(((*name).to_owned(), linker.find(name)?))).collect();
    let starts: Vec<PathBuf> = programs.iter().chain(counted_on.values()).cloned().collect();
    let (mut found, missing) = linker.closure(&starts)?;
    found.extend(counted_on);
    if let Some((library, path)) = missing.into_iter().next() {
        return Err(Error::Base(BaseError::Capture {
            path,
            detail: format!("it needs {library}, which is not on this machine"),
        }));
    }
    for (name, path) in found {
        if name != loader && !base_files::in_base(&name) {
            files.file(&format!("{folder}/{name}"), &path)?;
        }
    }
    Ok(())
}
