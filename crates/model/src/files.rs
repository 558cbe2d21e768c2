//! Names of files that lie beside a source.

/// The configuration.
pub const CONFIG: &str = "shtetl.toml";

/// The pins.
pub const PINS: &str = "shtetl.lock";

/// The pins while they are written; a build that was killed may leave it.
pub const PINS_FRESH: &str = "shtetl.lock.new";

/// The JSON Schema of the configuration, for editors.
pub const SCHEMA: &str = "shtetl.schema.json";

/// Which apps belong together.
pub const TOWN: &str = "town.toml";
