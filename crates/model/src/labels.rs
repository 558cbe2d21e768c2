//! Labels and annotations of images.

/// The label that holds the record.
pub const RECORD: &str = "shtetl.record";

/// The annotation and label that holds the name of the process type.
pub const PROCESS: &str = "shtetl.process";
