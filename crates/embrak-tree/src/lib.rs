//! File trees as values, and files as what they consist of: Embrak's two currencies.
//!
//! A [`Tree`] maps paths to entries. File contents are not in it, only their digests; who holds the bytes
//! is somebody else's business, behind [`BlobSource`] and [`BlobSink`]. Ownership and device nodes are
//! plain data, so nothing here ever needs a privilege.
//!
//! ```text
//!   packages --merge--> root --overlay--> root --manifest--> content digest
//!                                           |---- tar -----> extents ----emit----> bytes
//!   tree A, tree B --difference--> changes
//! ```

mod blobs;
mod cores;
pub mod cpio;
mod difference;
mod digest;
mod emit;
mod extents;
mod manifest;
mod merge;
mod path;
pub mod tar;
mod tree;

pub use blobs::{BlobSink, BlobSource, DigestOnly, MemoryBlobs};
pub use cores::on_all_cores;
pub use difference::{Change, ChangeKind, FieldChange, difference};
pub use digest::{Digest, DigestParseError, HashingReader, HashingWriter};
pub use emit::{Emitted, emit, fill};
pub use extents::{Chunk, Extent, Extents};
pub use manifest::{MANIFEST_VERSION, ManifestError, escape_bytes, parse_manifest};
pub use merge::{Conflict, Merged, merge, overlay};
pub use path::{PathError, TreePath};
pub use tree::{Entry, Kind, Tree};
