//! uv's own record of a tool's environment (`uv-receipt.toml`).

use serde::Deserialize;

/// `uv-receipt.toml`, as far as it is used.
#[derive(Debug, Deserialize)]
pub struct UvReceipt {
    /// All that it says.
    pub tool: UvTool,
}

/// The tool.
#[derive(Debug, Deserialize)]
pub struct UvTool {
    /// What was asked for: the application, and what was to be beside it.
    #[serde(default)]
    pub requirements: Vec<UvRequirement>,
    /// The commands that are linked to it.
    #[serde(default)]
    pub entrypoints: Vec<UvEntryPoint>,
}

/// A distribution that was asked for.
#[derive(Debug, Deserialize)]
pub struct UvRequirement {
    /// Its name.
    pub name: String,
}

/// A command, and where the link to it is.
#[derive(Debug, Deserialize)]
pub struct UvEntryPoint {
    /// Its name.
    pub name: String,
    /// Absolute.
    #[serde(rename = "install-path")]
    pub install_path: String,
}

impl UvReceipt {
    /// Reads the file's content.
    ///
    /// # Errors
    /// In words, when it is no such record.
    pub fn parse(content: &[u8]) -> Result<Self, String> {
        toml::from_slice(content).map_err(|error| error.message().to_owned())
    }
}
