//! What a process says when it could not connect: it has a network of its own unless it is given that of the machine.

/// How runtimes report refused connections and missing routes.
const REFUSED: [&str; 4] = ["ECONNREFUSED", "Connection refused", "connection refused", "ConnectionRefused"];
const NO_WAY: [&str; 7] = [
    "ENETUNREACH",
    "Network is unreachable",
    "network is unreachable",
    "EAI_AGAIN",
    "Temporary failure in name resolution",
    "Name or service not known",
    "ENOTFOUND",
];
/// How the machine itself is called.
const SELF: [&str; 4] = ["127.0.0.1:", "localhost:", "[::1]:", "::1:"];

/// What could not be reached.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Unreachable {
    /// A port of the machine, where the line says which.
    Port(Option<u16>),
    /// Something elsewhere.
    Elsewhere,
}

/// What a line of a process's output says that it could not reach, if it says so.
pub fn in_line(line: &str) -> Option<Unreachable> {
    if NO_WAY.iter().any(|sign| line.contains(sign)) {
        return Some(Unreachable::Elsewhere);
    }
    REFUSED.iter().find(|sign| line.contains(**sign))?;
    let number = |rest: &str| rest.split(|c: char| !c.is_ascii_digit()).next()?.parse::<u16>().ok();
    let after_host = SELF.iter().find_map(|host| number(line.split_once(host)?.1));
    let after_word = || number(line.split_once("port ")?.1.trim_start());
    Some(Unreachable::Port(after_host.or_else(after_word)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn failed_connections_are_recognised_as_runtimes_report_them() {
        let port = |number| Some(Unreachable::Port(Some(number)));
        for (line, expected) in [
            ("Error: connect ECONNREFUSED 127.0.0.1:5432", port(5432)),
            (
                "connection to server at \"localhost\" (127.0.0.1), port 5432 failed: Connection refused",
                port(5432),
            ),
            (
                "redis.exceptions.ConnectionError: Error 111 connecting to localhost:6379. Connection refused.",
                port(6379),
            ),
            ("dial tcp [::1]:3306: connect: connection refused", port(3306)),
            ("Connection refused", Some(Unreachable::Port(None))),
            ("Error: getaddrinfo EAI_AGAIN tides.example", Some(Unreachable::Elsewhere)),
            ("GET /connections 200", None),
        ] {
            assert_eq!(in_line(line), expected, "{line}");
        }
    }
}
