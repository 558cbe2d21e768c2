//! Faults of configuration files.

use std::ops::Range;

/// One fault of a configuration file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Complaint {
    /// Bytes of the text that it is about.
    pub span: Range<usize>,
    /// What is wrong.
    pub fault: Fault,
}

/// What can be wrong with a configuration file.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
pub enum Fault {
    /// It is not TOML.
    Syntax { detail: String },
    /// A key that means nothing in its table.
    UnknownKey { key: String, table: String, nearest: Option<String>, known: Vec<String> },
    /// A value of another type than the key takes.
    WrongType { key: String, expected: &'static str, found: &'static str },
    /// A value of the right type that is not allowed.
    BadValue { key: String, detail: String },
    /// A key that the house rules do not let apps say.
    Locked { key: String, by: String },
}
