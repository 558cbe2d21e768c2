//! An invented machine: the base `host` captured from it is the same wherever the tests run.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

/// The search path of the invented machine. The real one has no such folder, so that no tool of it
/// (and with it no network) is ever asked by a test.
pub(crate) const SEARCH_PATH: &str = "/ferry/bin";

/// Writes a root folder with node, python3, certificates and time zones, all invented.
pub(crate) fn write_invented_host(root: &Path) {
    let put = |path: &str, bytes: &[u8], mode: u32| {
        let path = root.join(path);
        fs::create_dir_all(path.parent().expect("files lie in folders"))
            .expect("the test's folder can be written");
        fs::write(&path, bytes).expect("the test's folder can be written");
        fs::set_permissions(&path, fs::Permissions::from_mode(mode)).expect("own files");
    };
    let node = r#"{"executable":"/usr/bin/node","version":"20.1.0"}"#;
    for path in ["ferry/bin/node", "usr/bin/node"] {
        put(path, &program_that_prints(node), 0o755);
    }
    let python = r#"{"executable":"/usr/bin/python3.11","version":"3.11.9","library":"/usr/lib/python3.11","modules":"/usr/lib/python3.11/lib-dynload"}"#;
    for path in ["ferry/bin/python3", "usr/bin/python3.11"] {
        put(path, &program_that_prints(python), 0o755);
    }
    put("usr/lib/python3.11/os.py", b"# invented\n", 0o644);
    put("usr/lib/python3.11/json/__init__.py", b"# invented\n", 0o644);
    put("usr/lib/python3.11/test/support.py", b"# not captured\n", 0o644);
    put("usr/lib/python3.11/lib-dynload/_fog.so", &program_that_prints("module"), 0o644);
    put("etc/ssl/certs/ca-certificates.crt", b"invented certificates\n", 0o644);
    put("usr/share/zoneinfo/UTC", b"TZif invented\n", 0o644);
    put("usr/share/zoneinfo/right/UTC", b"not captured\n", 0o644);
}

/// The smallest program of the machine's format (x86-64 ELF, no libraries) that prints `text`.
pub fn program_that_prints(text: &str) -> Vec<u8> {
    program(Vec::new(), &[0xbf, 1, 0, 0, 0], text.as_bytes(), &[]) // mov edi, 1 (standard output)
}

/// The same, writing `text` to the new program file `path`, whose folders it makes.
pub fn program_that_writes(path: &str, text: impl AsRef<[u8]>) -> Vec<u8> {
    const MAKING: usize = 19;
    const OPENING: usize = 26;
    let text = text.as_ref();
    let folders: Vec<&str> = path.match_indices('/').skip(1).map(|(at, _)| &path[..at]).collect();
    let code = folders.len() * MAKING + OPENING + WRITE_AND_EXIT as usize;
    let (mut opening, mut names) = (Vec::new(), Vec::new());
    for (name, is_file) in folders.iter().map(|f| (*f, false)).chain([(path, true)]) {
        opening.extend([0xb8, if is_file { 2 } else { 83 }, 0, 0, 0]); // mov eax, 2 (open) or 83 (mkdir)
        opening.extend([0x48, 0x8d, 0x3d]); // lea rdi, (the name)
        let to_name = code + text.len() + names.len() - opening.len() - 4;
        opening.extend(u32::try_from(to_name).expect("a short text").to_le_bytes());
        match is_file {
            true => opening.extend([
                0xbe, 0x41, 2, 0, 0, // mov esi, for writing, made or emptied
                0xba, 0xed, 1, 0, 0, // mov edx, 0755
                0x0f, 0x05, // syscall
                0x89, 0xc7, // mov edi, eax
            ]),
            false => opening.extend([0xbe, 0xed, 1, 0, 0, 0x0f, 0x05]), // mov esi, 0755; syscall
        }
        names.extend(name.bytes());
        names.push(0);
    }
    program(opening, &[], text, &names)
}

/// Length of the code after the opening, in bytes.
const WRITE_AND_EXIT: u32 = 28;

/// A program whose `opening`, or `target`, leaves in edi where `text` is written to; `more` lies behind
/// the text.
fn program(opening: Vec<u8>, target: &[u8], text: &[u8], more: &[u8]) -> Vec<u8> {
    let length = u32::try_from(text.len()).expect("a short text");
    let mut code = opening;
    code.extend([0xb8, 1, 0, 0, 0]); // mov eax, 1 (write)
    code.extend(target);
    code.extend([
        0x48, 0x8d, 0x35, 16, 0, 0, 0,    // lea rsi, [rip + 16] (the text)
        0xba, // mov edx, length
    ]);
    code.extend(length.to_le_bytes());
    code.extend([
        0x0f, 0x05, // syscall
        0xb8, 60, 0, 0, 0, // mov eax, 60 (exit)
        0x31, 0xff, // xor edi, edi
        0x0f, 0x05, // syscall
    ]);
    code.extend(text);
    code.extend(more);
    elf(&code)
}

/// A program that never ends.
pub fn program_that_never_ends() -> Vec<u8> {
    elf(&[0xeb, 0xfe]) // jmp to itself
}

/// A program that ends with a status.
pub fn program_that_fails(status: u8) -> Vec<u8> {
    elf(&[0xbf, status, 0, 0, 0, 0xb8, 60, 0, 0, 0, 0x0f, 0x05]) // mov edi, status; mov eax, 60 (exit); syscall
}

/// A program file of nothing but code.
fn elf(code: &[u8]) -> Vec<u8> {
    const LOADED_AT: u64 = 0x40_0000;
    const HEADERS: u64 = 64 + 56;
    let size = HEADERS + code.len() as u64;
    let mut elf = b"\x7fELF\x02\x01\x01\0\0\0\0\0\0\0\0\0".to_vec();
    elf.extend([2, 0, 62, 0, 1, 0, 0, 0]); // executable, x86-64
    for word in [LOADED_AT + HEADERS, 64, 0] {
        elf.extend(word.to_le_bytes()); // entry, program headers, no sections
    }
    elf.extend([0, 0, 0, 0, 64, 0, 56, 0, 1, 0, 0, 0, 0, 0, 0, 0]);
    elf.extend([1, 0, 0, 0, 5, 0, 0, 0]); // loaded, read and execute
    for word in [0, LOADED_AT, LOADED_AT, size, size, 0x1000] {
        elf.extend(word.to_le_bytes());
    }
    elf.extend(code);
    elf
}
