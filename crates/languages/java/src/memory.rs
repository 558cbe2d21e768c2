//! How much of a process's memory is for Java's objects.

use model::ProcessType;

/// Options by which a command says itself how large its heap is.
const SAID: [&str; 4] = ["-Xmx", "-XX:MaxRAM", "-XX:MaxHeapSize", "-XX:InitialRAM"];
const MIB: u64 = 1 << 20;
/// What Java needs besides the heap, whatever its size: code, threads, the classes of a framework.
const BESIDE: u64 = 64 * MIB;

/// Puts the size of the heap into a command that starts Java in so much memory.
pub(crate) fn keep_within(process: &mut ProcessType) {
    let Some(memory) = process.memory else { return };
    let starts_java =
        process.command.first().is_some_and(|program| program == "java" || program.ends_with("/java"));
    let is_said = process.command.iter().any(|word| SAID.iter().any(|option| word.starts_with(option)));
    if starts_java && !is_said {
        process.command.insert(1, format!("-Xmx{}m", heap(memory) / MIB));
    }
}

/// The heap for so much memory, in bytes: three quarters of it less 64 MiB, and at least half of it.
fn heap(memory: u64) -> u64 {
    (memory / 4 * 3).saturating_sub(BESIDE).max(memory / 2)
}

#[cfg(test)]
mod tests {
    use super::*;
    use model::{Place, ProcessKind};

    #[test]
    fn the_heap_follows_the_memory() {
        let of = |mib: u64| heap(mib * MIB) / MIB;
        assert_eq!([of(128), of(256), of(512), of(1024), of(4096)], [64, 128, 320, 704, 3008]);
    }

    #[test]
    fn a_command_that_says_it_itself_stays_as_it_is() {
        let command = |words: &[&str], memory| {
            let said = Place::new("shtetl.toml", None);
            let mut process = ProcessType::found("web", ProcessKind::Process, words, said);
            process.memory = memory;
            keep_within(&mut process);
            process.command.join(" ")
        };
        assert_eq!(command(&["java", "@start.args"], Some(512 * MIB)), "java -Xmx320m @start.args");
        assert_eq!(command(&["java", "@start.args"], None), "java @start.args");
        assert_eq!(command(&["java", "-Xmx1g", "-jar", "a.jar"], Some(512 * MIB)), "java -Xmx1g -jar a.jar");
        assert_eq!(command(&["node", "a.js"], Some(512 * MIB)), "node a.js");
    }
}
