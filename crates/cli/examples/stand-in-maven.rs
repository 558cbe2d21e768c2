//! Stands in for a JDK that runs Maven, and for a runtime that runs what it built. As Maven, it takes the files that
//! `pom.xml` names in `<fetch>` from where its settings or its local repository say, and puts them into a jar.

#![allow(clippy::print_stdout, reason = "a program of its own, whose answers are its output")]

use std::io::{Read, Write};
use std::net::TcpStream;
use std::{env, fs, process};

fn main() {
    let arguments: Vec<String> = env::args().skip(1).collect();
    if let [option, _, _, program, rest @ ..] = &arguments[..]
        && option == "-c"
    {
        // As a shell, whatever the script is: the program that it is given.
        let status = process::Command::new(program).args(rest).status().expect("a program");
        process::exit(status.code().unwrap_or(1));
    }
    if let [option, script] = &arguments[..]
        && option == "-c"
        && script.contains("jlink")
    {
        // As a shell with the tools of the JDK.
        fs::create_dir_all("/result/java/bin").expect("a folder");
        fs::write("/result/java/bin/java", "a runtime").expect("a file");
        for module in env::var("MODULES").expect("modules").split(',') {
            fs::create_dir_all("/result/java/modules").expect("a folder");
            fs::write(format!("/result/java/modules/{module}"), module).expect("a file");
        }
        return;
    }
    if arguments.iter().any(|word| word.starts_with("-XX:DumpLoaded") || word == "-Xshare:dump") {
        return share_classes(&arguments);
    }
    if !arguments.iter().any(|word| word.contains("classworlds")) {
        // The launched app: says what it was started with.
        println!("{}", arguments.join(" "));
        return;
    }
    let pom = fs::read_to_string("/app/pom.xml").expect("the app");
    for target in elements(&pom, "try") {
        attempt(target);
    }
    let mut found = Vec::new();
    for path in elements(&pom, "fetch") {
        match fetch(&arguments, path) {
            Some(bytes) => found.push((path.to_owned(), bytes)),
            None if path.ends_with(".optional") => {}
            None => {
                println!("cannot find {path}");
                process::exit(1);
            }
        }
    }
    fs::create_dir_all("/app/target").expect("a folder");
    let jar = fs::File::create("/app/target/fog-1.0.jar").expect("a file");
    let mut jar = zip::ZipWriter::new(jar);
    let stored = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    let mut add = |name: &str, bytes: &[u8]| {
        jar.start_file(name, stored).expect("a member");
        jar.write_all(bytes).expect("its content");
    };
    add("META-INF/MANIFEST.MF", b"Main-Class: loader.Main\nStart-Class: ferry.Main\n");
    add("BOOT-INF/classes/ferry/Main.class", &fs::read("/app/src/Main.java").expect("the source"));
    for (path, bytes) in found.iter().filter(|(path, _)| path.ends_with(".jar")) {
        let name = path.rsplit('/').next().unwrap_or_default();
        add(&format!("BOOT-INF/lib/{name}"), bytes);
    }
    jar.finish().expect("a whole jar");
}

/// As Java that notes the classes it loads, with numbers that are others in each run, or that archives them.
fn share_classes(arguments: &[String]) {
    let value = |option: &str| arguments.iter().find_map(|word| word.strip_prefix(option));
    let start = arguments.iter().find_map(|word| word.strip_prefix('@')).expect("a file with arguments");
    let start = fs::read_to_string(format!("/app/{start}")).expect("the file with arguments");
    assert!(!start.contains("-XX:SharedArchiveFile"), "{start}");
    if let Some(list) = value("-XX:DumpLoadedClassList=") {
        let number = process::id();
        let list_text = format!("ferry/Main id: {number}\njava/lang/Object id: 0\n@lambda-proxy a{number}\n");
        fs::write(list, list_text).expect("a list");
    } else if let (Some(list), Some(archive)) =
        (value("-XX:SharedClassListFile="), value("-XX:SharedArchiveFile="))
    {
        let names = fs::read_to_string(list).expect("the list");
        fs::write(archive, format!("shared: {names}")).expect("an archive");
    }
}

/// The texts of the elements `name`.
fn elements<'t>(text: &'t str, name: &str) -> Vec<&'t str> {
    let open = format!("<{name}>");
    text.split(&open).skip(1).filter_map(|rest| rest.split('<').next()).collect()
}

/// A file, from the local repository when there is no asking, else from the address in the settings.
fn fetch(arguments: &[String], path: &str) -> Option<Vec<u8>> {
    if arguments.iter().any(|word| word == "--offline") {
        let folder = arguments.iter().find_map(|word| word.strip_prefix("-Dmaven.repo.local="))?;
        return fs::read(format!("{folder}/{path}")).ok();
    }
    let at = arguments.iter().position(|word| word == "--settings")?;
    let settings = fs::read_to_string(&arguments[at + 1]).expect("the settings");
    let url = *elements(&settings, "url").last()?;
    let rest = url.strip_prefix("http://")?;
    let (host, folder) = rest.split_once('/')?;
    let answer = ask(host, &format!("GET /{folder}{path}"))?;
    let (head, body) = answer.split_at(answer.windows(4).position(|end| end == b"\r\n\r\n")? + 4);
    head.starts_with(b"HTTP/1.1 200").then(|| body.to_vec())
}

fn ask(host: &str, request: &str) -> Option<Vec<u8>> {
    let mut stream = TcpStream::connect(host).ok()?;
    write!(stream, "{request} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n").ok()?;
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer).ok()?;
    Some(answer)
}

/// Tries to get out: `connect HOST:PORT`, or a request to the gateway. Says what came back, and fails if anything did
/// that must not.
fn attempt(target: &str) {
    let said = match target.strip_prefix("connect ") {
        Some(address) => match TcpStream::connect(address) {
            Ok(_) => "connected".to_owned(),
            Err(_) => "no way".to_owned(),
        },
        None => {
            let answer = ask("127.0.0.1:8099", target).unwrap_or_default();
            String::from_utf8_lossy(&answer).lines().next().unwrap_or("nothing").to_owned()
        }
    };
    println!("{target}: {said}");
}
