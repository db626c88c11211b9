//! Stacks: exceptions and their frames.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A stack frame.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Frame {
    /// The function; empty where it has no name.
    pub function: String,
    /// The module, where the text tells it apart.
    #[serde(default)]
    pub module: String,
    /// The file.
    pub file: String,
    /// The line, from 1.
    #[serde(default)]
    pub line: Option<u32>,
    /// Whether it is the service's own code.
    pub own: bool,
    /// How often it repeats in a row, beyond the first time.
    #[serde(default)]
    pub repeats: u32,
    /// A link to its line, where the service has a URL template.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub link: Option<String>,
    /// Lines of source around its line, from the sender or a checkout.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<SourceLines>,
    /// Its variables, where the sender gave them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub variables: Vec<Variable>,
}

/// One exception of a chain.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Exception {
    /// How it belongs to the one before it: `thrown`, `cause`, `handled`, `member`.
    pub relation: String,
    /// Its type.
    #[serde(rename = "type")]
    pub type_name: String,
    /// Its message.
    pub message: String,
    /// Its frames, the innermost first.
    pub frames: Vec<Frame>,
}

/// A stack text read into exceptions and frames.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Stack {
    /// The runtime that wrote it.
    pub runtime: String,
    /// The exception as it was thrown last, then what it came from.
    pub exceptions: Vec<Exception>,
}

/// A variable of a frame.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Variable {
    /// Its name.
    pub name: String,
    /// Its value, as text.
    pub value: String,
}

/// Lines of source around a frame's line.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SourceLines {
    /// The number of the first, from 1.
    pub first: u32,
    /// The lines.
    pub lines: Vec<String>,
    /// Where they are from: `sender`, or the checkout's revision such as `v2.4.0` or `HEAD`.
    pub from: String,
}
