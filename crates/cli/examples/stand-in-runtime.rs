//! Stands in for `node` in the tests of `run`: a real program with shared libraries, of the machine
//! that the tests run on. Asked for its version, it answers as Node does. Given a file, it serves it
//! over HTTP on `PORT`; given `--say`, it prints its surroundings and ends with the status given; given `--keep`, it
//! tries to write a file; given `--write`, it writes one; given `--use`, it uses as much as it gets of something; given `--ask`, it prints
//! what a port of its machine says, and complains as runtimes do when it cannot; and given `--call`, it prints what a server answers,
//! and stays. Called `redis-server`, it is a service.

#![allow(
    clippy::print_stdout,
    clippy::print_stderr,
    reason = "a program of its own, whose answers are its output"
)]

use std::io::{Read, Write};
use std::net::{Ipv4Addr, TcpListener, TcpStream};
use std::{env, fs, process};

fn main() {
    let arguments: Vec<String> = env::args().skip(1).collect();
    if env::args().next().is_some_and(|name| name.ends_with("redis-server")) {
        return keep_tides(&fs::read_to_string(&arguments[0]).expect("a configuration"));
    }
    match arguments.first().map(String::as_str) {
        Some("-e") => {
            let own = env::current_exe().expect("a running program has a file");
            println!(r#"{{"executable":{:?},"version":"20.5.0"}}"#, own.display().to_string());
        }
        Some("--fetch") => fetch(&arguments[1..]),
        Some("--say") => say(&arguments[1..]),
        Some("--keep") => keep(&arguments[1]),
        Some("--write") => fs::write(&arguments[1], &arguments[2]).expect("it can be written"),
        Some("--ask") => ask(&arguments[1]),
        Some("--call") => call(&arguments[1]),
        Some("--use") => use_up(&arguments[1]),
        Some(file) => serve(&fs::read(file).expect("the file is in the image")),
        None => process::exit(64),
    }
}

/// Fetches files through the gateway into `made`, each under the last part of its path; `@FILE` stands for the lines of a
/// file.
fn fetch(paths: &[String]) {
    if let [list] = paths
        && let Some(file) = list.strip_prefix('@')
    {
        let lines = fs::read_to_string(file).expect("the list");
        return fetch(&lines.lines().map(str::to_owned).collect::<Vec<_>>());
    }
    let gateway = env::var("SHTETL_FETCH").expect("the address of the gateway");
    fs::create_dir_all("made").expect("a folder");
    for path in paths {
        let mut stream = TcpStream::connect(gateway.trim_start_matches("http://")).expect("the gateway");
        write!(stream, "GET /{path} HTTP/1.1\r\nConnection: close\r\n\r\n").expect("it listens");
        let mut answer = String::new();
        stream.read_to_string(&mut answer).expect("an answer");
        let (head, body) = answer.split_once("\r\n\r\n").expect("a head");
        assert!(head.starts_with("HTTP/1.1 200"), "{path}: {head}");
        assert!(!body.contains("tarball") || body.contains(&gateway), "{path}: {body}");
        let name = path.rsplit('/').next().unwrap_or_default();
        fs::write(format!("made/{name}"), body).expect("a file");
    }
}

fn ask(port: &str) {
    match TcpStream::connect((Ipv4Addr::LOCALHOST, port.parse().expect("a port"))) {
        Ok(mut stream) => {
            let mut answer = String::new();
            let _ = stream.read_to_string(&mut answer);
            println!("{answer}");
        }
        Err(error) => {
            eprintln!("Error: {error}: 127.0.0.1:{port}");
            process::exit(1);
        }
    }
}

/// Stands in for a service: lets in who knows the password, and says something to everybody else.
fn keep_tides(configuration: &str) {
    let value =
        |name: &str| configuration.lines().find_map(|line| line.strip_prefix(name)).expect("a value").trim();
    let (port, password) = (value("port ").parse::<u16>().expect("a port"), value("requirepass "));
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, port)).expect("the port is free");
    for mut stream in listener.incoming().flatten() {
        let mut request = [0; 4096];
        let count = stream.read(&mut request).unwrap_or_default();
        let is_known = request[..count].starts_with(format!("AUTH {password}\r\n").as_bytes());
        let answer = if is_known { "+OK\r\n+PONG\r\n" } else { "the tide is kept" };
        let _ = stream.write_all(answer.as_bytes());
    }
}

/// Prints what a server answers, and does nothing more.
fn call(address: &str) {
    let mut stream = TcpStream::connect(address).expect("a server");
    stream.write_all(b"GET / HTTP/1.0\r\n\r\n").expect("it listens");
    let mut answer = String::new();
    stream.read_to_string(&mut answer).expect("an answer");
    println!("{address} says {}", answer.rsplit("\r\n").next().unwrap_or_default().trim());
    std::thread::sleep(std::time::Duration::from_secs(600));
}

/// Uses as much as it gets of something.
fn use_up(what: &str) {
    match what {
        "memory" => {
            let mut kept: Vec<Vec<u8>> = Vec::new();
            loop {
                kept.push(vec![1; 8 << 20]);
                std::thread::sleep(std::time::Duration::from_millis(5));
            }
        }
        "files-in-memory" => {
            let mut file = fs::File::create("/tmp/x").expect("/tmp can be written to");
            while file.write_all(&[1; 1 << 20]).is_ok() {}
            println!("full");
        }
        "disk" => {
            for number in 0.. {
                fs::write(format!("data/{number}"), vec![1; 1 << 20]).expect("data can be written to");
            }
        }
        "long-file" => {
            let file = fs::File::create("data/long").expect("data can be written to");
            file.set_len(1 << 40).expect("a long file can be made");
        }
        "processes" => {
            let start = |_| process::Command::new("/proc/self/exe").args(["--use", "time"]).spawn();
            println!("started {}", (0..2000).map_while(|number| start(number).ok()).count());
        }
        "files" => {
            let opened: Vec<_> = (0..100_000).map_while(|_| fs::File::open("/dev/null").ok()).collect();
            println!("opened {}", opened.len());
        }
        "mounts" => {
            println!("{}", fs::read_to_string("/proc/self/mountinfo").unwrap_or_default());
            let opened = fs::read_dir("/proc/self/fd").map_or(0, Iterator::count);
            println!("open {opened}");
            println!("up {}", fs::read_to_string("/proc/uptime").unwrap_or_default());
        }
        _ => std::thread::sleep(std::time::Duration::from_secs(60)),
    }
}

fn keep(path: &str) {
    let full = env::current_dir().unwrap_or_default().join(path);
    for _ in 0..2 {
        if let Err(error) = fs::write(&full, "kept") {
            eprintln!("Error: {error}: '{}'", full.display());
        }
    }
    process::exit(1);
}

fn say(arguments: &[String]) {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let field =
        |name: &str| status.lines().find_map(|l| l.strip_prefix(name)).unwrap_or_default().trim().to_owned();
    println!("user {}", field("Uid:").split('\t').next().unwrap_or_default());
    println!("capabilities {}", field("CapEff:"));
    println!("no new privileges {}", field("NoNewPrivs:"));
    println!("filter {}", field("Seccomp:"));
    println!("folder {}", env::current_dir().unwrap_or_default().display());
    println!("processes {}", fs::read_dir("/proc").map_or(0, |d| d.flatten().filter(is_number).count()));
    println!(
        "may write {}",
        ["/app", "/etc", "/tmp"]
            .map(|f| fs::write(format!("{f}/x"), "x").is_ok())
            .map(|b| b.to_string())
            .join(" ")
    );
    println!(
        "host root {}",
        fs::read_dir("/").map_or(0, |d| d.flatten().filter(|e| e.file_name() == "work").count())
    );
    for name in ["HARBOUR", "TOKEN", "PATH"] {
        println!("{name} {}", env::var(name).unwrap_or_else(|_| "unset".to_owned()));
    }
    println!("arguments {}", arguments[1..].join(" "));
    process::exit(arguments[0].parse().unwrap_or(64));
}

fn is_number(entry: &fs::DirEntry) -> bool {
    entry.file_name().to_string_lossy().bytes().all(|b| b.is_ascii_digit())
}

fn serve(body: &[u8]) {
    let port: u16 = env::var("PORT").ok().and_then(|p| p.parse().ok()).expect("PORT is a number");
    let listener = TcpListener::bind((Ipv4Addr::UNSPECIFIED, port)).expect("the port is free");
    for mut stream in listener.incoming().flatten() {
        let (mut request, mut piece) = (Vec::new(), [0; 4096]);
        while !request.windows(4).any(|w| w == b"\r\n\r\n") {
            match stream.read(&mut piece) {
                Ok(count) if count > 0 => request.extend_from_slice(&piece[..count]),
                _ => break,
            }
        }
        // A page that says so makes the server unwell.
        let status = if body.starts_with(b"503") { "503 Unavailable" } else { "200 OK" };
        let head =
            format!("HTTP/1.1 {status}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n", body.len());
        let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body));
    }
}
