//! What the fuzz targets reach of the readers of classes.

use crate::jdk_modules::JdkModules;
use std::collections::BTreeSet;

/// Reads the bytes of a class as a build does that looks for the modules it names.
pub fn read_class(bytes: &[u8]) {
    let modules = JdkModules::of([("java/sql", "java.sql"), ("java/util", "java.base")]);
    modules.named_by(bytes, &mut BTreeSet::new());
}
