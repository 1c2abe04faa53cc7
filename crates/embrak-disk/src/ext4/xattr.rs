//! Extended attributes: short names, packed values, access control lists in their form on disk.

use crate::bytes::{get16, get32, put16, put32};
use std::collections::BTreeMap;

const PREFIXES: [(u8, &[u8]); 6] = [
    (1, b"user."),
    (2, b"system.posix_acl_access"),
    (3, b"system.posix_acl_default"),
    (4, b"trusted."),
    (6, b"security."),
    (7, b"system."),
];
/// Magic number of attributes in an inode and in a block of their own.
pub(super) const MAGIC: u32 = 0xea02_0000;
pub(super) const BLOCK_HEADER: usize = 32;

/// One attribute in its form on disk.
pub(super) struct Attribute {
    index: u8,
    name: Vec<u8>,
    value: Vec<u8>,
}

impl Attribute {
    fn length(&self) -> usize {
        16 + self.name.len().next_multiple_of(4) + self.value.len().next_multiple_of(4)
    }

    fn hash(&self) -> u32 {
        let mut hash = 0u32;
        for byte in &self.name {
            hash = hash << 5 ^ hash >> 27 ^ u32::from(*byte);
        }
        for word in self.value.chunks(4) {
            let mut bytes = [0; 4];
            bytes[..word.len()].copy_from_slice(word);
            hash = hash << 16 ^ hash >> 16 ^ u32::from_le_bytes(bytes);
        }
        hash
    }
}

/// Attributes in the order they are kept in, or what keeps them from being held.
pub(super) fn on_disk(xattrs: &BTreeMap<Vec<u8>, Vec<u8>>) -> Result<Vec<Attribute>, String> {
    let mut out = Vec::new();
    for (name, value) in xattrs {
        let shown = || String::from_utf8_lossy(name).into_owned();
        let Some((index, rest)) = PREFIXES.iter().find_map(|(i, p)| Some((*i, name.strip_prefix(*p)?))) else {
            return Err(format!("have a name `{}` that is in none of its classes", shown()));
        };
        if rest.len() > 255 {
            return Err(format!("have a name `{}` of more than 255 bytes", shown()));
        }
        let value = match index {
            2 | 3 if rest.is_empty() => {
                acl_to_disk(value).ok_or_else(|| format!("have a list `{}` that is none", shown()))?
            }
            _ => value.clone(),
        };
        out.push(Attribute { index, name: rest.to_vec(), value });
    }
    out.sort_by(|a, b| (a.index, a.name.len(), &a.name).cmp(&(b.index, b.name.len(), &b.name)));
    Ok(out)
}

/// Packs attributes into a space; nothing when they do not fit. Offsets of values count from `origin` before it.
pub(super) fn pack(attributes: &[Attribute], space: usize, origin: usize) -> Option<Vec<u8>> {
    if attributes.iter().map(Attribute::length).sum::<usize>() + 4 > space {
        return None;
    }
    let mut out = vec![0; space];
    let (mut at, mut end) = (0, space);
    for attribute in attributes {
        if !attribute.value.is_empty() {
            end -= attribute.value.len().next_multiple_of(4);
            out[end..end + attribute.value.len()].copy_from_slice(&attribute.value);
        }
        out[at] = attribute.name.len() as u8;
        out[at + 1] = attribute.index;
        put16(&mut out, at + 2, if attribute.value.is_empty() { 0 } else { (end + origin) as u16 });
        put32(&mut out, at + 8, attribute.value.len() as u32);
        put32(&mut out, at + 12, attribute.hash());
        out[at + 16..at + 16 + attribute.name.len()].copy_from_slice(&attribute.name);
        at += 16 + attribute.name.len().next_multiple_of(4);
    }
    Some(out)
}

/// The hash over all attributes that a block's header has.
pub(super) fn block_hash(attributes: &[Attribute]) -> u32 {
    let mut hash = 0u32;
    for one in attributes.iter().map(Attribute::hash) {
        if one == 0 {
            return 0;
        }
        hash = hash << 16 ^ hash >> 16 ^ one;
    }
    hash
}

/// Reads packed attributes; what is wrong goes to `damage`.
pub(super) fn unpack(
    bytes: &[u8],
    first: usize,
    origin: usize,
    out: &mut BTreeMap<Vec<u8>, Vec<u8>>,
    damage: &mut Vec<String>,
) {
    let mut at = first;
    while at + 16 <= bytes.len() && get32(bytes, at) != 0 {
        let (name_length, index) = (bytes[at] as usize, bytes[at + 1]);
        let (offset, length) = (get16(bytes, at + 2) as usize + origin, get32(bytes, at + 8) as usize);
        let name = bytes.get(at + 16..at + 16 + name_length);
        let value =
            if length == 0 { Some(&[][..]) } else { offset.checked_add(length).and_then(|end| bytes.get(offset..end)) };
        let prefix = PREFIXES.iter().find(|(i, _)| *i == index).map(|(_, p)| *p);
        match (name, value, prefix) {
            (Some(name), Some(value), Some(prefix)) if get32(bytes, at + 4) == 0 => {
                let value = match index {
                    2 | 3 => acl_from_disk(value).unwrap_or_else(|| value.to_vec()),
                    _ => value.to_vec(),
                };
                out.insert([prefix, name].concat(), value);
            }
            _ => {
                damage.push("an extended attribute cannot be read".into());
                return;
            }
        }
        at += 16 + name_length.next_multiple_of(4);
    }
}

/// Tags of entries that name a user or group.
fn has_id(tag: u16) -> bool {
    matches!(tag, 2 | 8)
}

/// From acl(5) as the kernel hands it out (version 2, entries of 8 bytes) to the form on disk.
fn acl_to_disk(value: &[u8]) -> Option<Vec<u8>> {
    if get32(value, 0) != 2 || value.len() < 4 || !(value.len() - 4).is_multiple_of(8) {
        return None;
    }
    let mut out = 1u32.to_le_bytes().to_vec();
    for entry in value[4..].chunks(8) {
        out.extend_from_slice(&entry[..if has_id(get16(entry, 0)) { 8 } else { 4 }]);
    }
    Some(out)
}

fn acl_from_disk(value: &[u8]) -> Option<Vec<u8>> {
    if get32(value, 0) != 1 {
        return None;
    }
    let mut out = 2u32.to_le_bytes().to_vec();
    let mut rest = value.get(4..)?;
    while !rest.is_empty() {
        let length = if has_id(get16(rest, 0)) { 8 } else { 4 };
        out.extend_from_slice(rest.get(..4)?);
        out.extend_from_slice(if length == 8 { rest.get(4..8)? } else { &[0xff; 4] });
        rest = rest.get(length..)?;
    }
    Some(out)
}
