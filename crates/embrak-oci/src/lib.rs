//! OCI images (OCI Image Format Specification 1.1): layouts written from trees, and read back.
//!
//! A layout is itself a tree, so that a directory and an archive of it come from the same place:
//!
//! ```text
//!   /oci-layout                 {"imageLayoutVersion":"1.0.0"}
//!   /index.json                 -> manifest
//!   /blobs/sha256/<manifest>    -> config, layers
//!   /blobs/sha256/<config>      how to run it; digests of the uncompressed layers
//!   /blobs/sha256/<layer>       tar, compressed with gzip or zstd
//!   /blobs/sha256/<referrer>    a manifest about the first, when the layout was signed; its layer is a signed statement
//! ```

mod read;
mod referrers;
mod types;
mod write;

pub use embrak_compress::Compression;
pub use read::{OciError, OciImage, read_layout};
pub use referrers::{Referrer, referrers, with_referrers, without_referrers};
pub use types::{Config, Descriptor, ImageConfig, Index, Manifest, Platform};
pub use write::{NewImage, Written, write_layout};

/// Version of the bytes the writer makes.
pub const WRITER_VERSION: u32 = 1;

/// The end of a layer's media type: empty, `+gzip` or `+zstd`.
fn suffix(compression: Compression) -> &'static str {
    match compression {
        Compression::Gzip => "+gzip",
        Compression::Zstd => "+zstd",
        Compression::None | Compression::Xz | Compression::Lz4 => "",
    }
}
