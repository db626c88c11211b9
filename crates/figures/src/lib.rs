//! Measures the workspace's own source code, and holds it to limits.
//!
//! [`Workspace::read`] parses every crate; [`figures::of`] counts; [`imports::circles`] finds modules that import each
//! other; [`limits::broken`] lists what is past a limit. `script/figures` prints the table that docs/explanation/figures.md holds.

pub mod docs;
pub mod figures;
mod functions;
pub mod imports;
pub mod limits;
mod workspace;

pub use workspace::{Package, ReadError, SourceFile, Workspace};
