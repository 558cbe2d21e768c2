//! Settings: environment variables with a rule.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What `[settings]` says of one environment variable.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SettingRule {
    /// The value, unless another is given at the start.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
    /// Whether the app needs a value.
    #[serde(default)]
    pub required: bool,
    /// Whether the value must never be shown or packed.
    #[serde(default)]
    pub secret: bool,
    /// What it is for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
}
