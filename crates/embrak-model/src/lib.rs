//! What users write, read and merged, with the origin of every value.
//!
//! ```text
//!   files --parse--> Node (values with places) --extends, amendments--> Node --parameters--> Node
//!                                                                                    |
//!                                                                              decode | (serde)
//!                                                                                    v
//!                                                          Recipe, Board, Image: typed, checked
//! ```
//!
//! Merging works on [`Node`]s, so that every scalar and every list element keeps the chain of files and lines
//! that made it what it is; only the merged result becomes a typed definition. Problems are collected, not
//! thrown: one reading reports all of them.

mod decode;
pub mod definitions;
mod edit;
mod merge;
mod node;
mod params;
mod schema;
mod size;
mod source;
mod text;
mod workspace;

pub use decode::{At, Located, decode};
pub use edit::{EditError, add_layer, remove_layer};
pub use merge::{Amendment, Operation, extend};
pub use node::{Key, Node, Step, Value, Verb, parse};
pub use params::{ParamSources, Params};
pub use schema::{SchemaKind, schema};
pub use size::{ByteSize, SizeSpec};
pub use source::{Place, Problem, SourceFile, suggestion};
pub use text::{Epoch, Mode, Name};
pub use workspace::{
    Board, Defined, Image, Layer, Recipe, RemoteLayers, Target, Workspace, WorkspaceOptions, find_workspace,
};
