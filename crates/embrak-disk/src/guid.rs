//! GUIDs as partition tables store them, and the well-known partition types.

use embrak_tree::Digest;
use std::fmt;
use std::str::FromStr;

/// A GUID in the byte order of the UEFI specification (appendix A): the first three fields little-endian.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Guid(pub [u8; 16]);

/// A text is not a GUID.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a GUID such as c12a7328-f81f-11d2-ba4b-00a0c93ec93b")]
pub struct GuidError(String);

impl Guid {
    /// A GUID that follows from a digest and a purpose, marked as version 8 (RFC 9562, section 5.8).
    pub fn derived(seed: &Digest, purpose: &str) -> Self {
        let digest = Digest::of([seed.raw().as_slice(), purpose.as_bytes()].concat());
        let mut bytes = [0; 16];
        bytes.copy_from_slice(&digest.raw()[..16]);
        bytes[7] = bytes[7] & 0x0f | 0x80;
        bytes[8] = bytes[8] & 0x3f | 0x80;
        Guid(bytes)
    }
}

impl FromStr for Guid {
    type Err = GuidError;
    fn from_str(text: &str) -> Result<Self, GuidError> {
        let fail = || GuidError(text.to_string());
        let lengths: Vec<usize> = text.split('-').map(str::len).collect();
        if lengths != [8, 4, 4, 4, 12] {
            return Err(fail());
        }
        let mut bytes = [0; 16];
        hex::decode_to_slice(text.replace('-', ""), &mut bytes).map_err(|_| fail())?;
        bytes[..4].reverse();
        bytes[4..6].reverse();
        bytes[6..8].reverse();
        Ok(Guid(bytes))
    }
}

impl fmt::Display for Guid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let b = &self.0;
        write!(f, "{:02x}{:02x}{:02x}{:02x}-", b[3], b[2], b[1], b[0])?;
        write!(f, "{:02x}{:02x}-{:02x}{:02x}-{:02x}{:02x}-", b[5], b[4], b[7], b[6], b[8], b[9])?;
        b[10..].iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl fmt::Debug for Guid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

/// Types of the Discoverable Partitions Specification (UAPI group): name, architecture or empty, GUID.
const TYPES: [(&str, &str, &str); 16] = [
    ("esp", "", "c12a7328-f81f-11d2-ba4b-00a0c93ec93b"),
    ("xbootldr", "", "bc13c2ff-59e6-4262-a352-b275fd6f7172"),
    ("root", "x86_64", "4f68bce3-e8cd-4db1-96e7-fbcaf984b709"),
    ("root", "aarch64", "b921b045-1df0-41c3-af44-4c6f280d3fae"),
    ("root", "armv7", "69dad710-2ce4-4e3c-b16c-21a1d49abed3"),
    ("root", "riscv64", "72ec70a6-cf74-40e6-bd49-4bda08e8f224"),
    ("usr", "x86_64", "8484680c-9521-48c6-9c11-b0720656f69e"),
    ("usr", "aarch64", "b0e01050-ee5f-4390-949a-9101b17104e9"),
    ("usr", "armv7", "7d0359a3-02b3-4f0a-865c-654403e70625"),
    ("home", "", "933ac7e1-2eb4-4f13-b844-0e14e2aef915"),
    ("srv", "", "3b8f8425-20e0-4f3b-907f-1a25a76f98e8"),
    ("var", "", "4d21b016-b534-45c2-a9fb-5c16e091fd2d"),
    ("tmp", "", "7ec6f557-3bc5-4aca-b293-16ef5df639d1"),
    ("swap", "", "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f"),
    ("linux-generic", "", "0fc63daf-8483-4772-8e79-3d69d8477de4"),
    ("basic-data", "", "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7"),
];

/// The GUID of a partition type by name, for an architecture; or the GUID written as such.
///
/// # Errors
/// The name is not known; says which are.
pub fn partition_type(name: &str, architecture: &str) -> Result<Guid, String> {
    if let Ok(guid) = name.parse() {
        return Ok(guid);
    }
    let fits = |(n, a, _): &&(&str, &str, &str)| *n == name && (a.is_empty() || *a == architecture);
    match TYPES.iter().find(fits) {
        Some((_, _, text)) => text.parse().map_err(|e: GuidError| e.to_string()),
        None => {
            let mut names: Vec<&str> = TYPES.iter().map(|t| t.0).collect();
            names.dedup();
            Err(format!("no partition type `{name}` for {architecture}; there are {}, or a GUID", names.join(", ")))
        }
    }
}

/// The name of a partition type, with its architecture if it has one: `esp`, `root (x86_64)`.
pub fn partition_type_name(guid: &Guid) -> Option<String> {
    let text = guid.to_string();
    TYPES
        .iter()
        .find(|t| t.2 == text)
        .map(|(name, arch, _)| if arch.is_empty() { (*name).to_string() } else { format!("{name} ({arch})") })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_and_bytes() {
        let guid: Guid = "c12a7328-f81f-11d2-ba4b-00a0c93ec93b".parse().unwrap();
        assert_eq!(guid.0[..4], [0x28, 0x73, 0x2a, 0xc1]);
        assert_eq!(guid.to_string(), "c12a7328-f81f-11d2-ba4b-00a0c93ec93b");
        assert!("c12a7328f81f11d2ba4b00a0c93ec93b".parse::<Guid>().is_err());
        assert!("c12a7328-f81f-11d2-ba4b-00a0c93ec93g".parse::<Guid>().is_err());
    }

    #[test]
    fn types_have_names_per_architecture() {
        for (name, arch, _) in TYPES {
            let guid = partition_type(name, if arch.is_empty() { "x86_64" } else { arch }).unwrap();
            assert!(partition_type_name(&guid).unwrap().starts_with(name));
        }
        assert!(partition_type("rot", "x86_64").unwrap_err().contains("root"));
        assert_ne!(partition_type("root", "x86_64"), partition_type("root", "aarch64"));
    }

    #[test]
    fn derived_ones_are_version_8_and_differ_by_purpose() {
        let seed = Digest::of("beacon-console");
        let (a, b) = (Guid::derived(&seed, "disk"), Guid::derived(&seed, "partition 1"));
        assert_ne!(a, b);
        assert_eq!(a, Guid::derived(&seed, "disk"));
        assert_eq!(&a.to_string()[14..15], "8");
    }
}
