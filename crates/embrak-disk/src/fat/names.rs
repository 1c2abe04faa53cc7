//! Long and short names (FAT specification, section 7).

use std::collections::BTreeSet;

/// Characters a long name may not hold.
const FORBIDDEN: &str = "\"*/:<>?\\|";

/// Checks a name and gives it as UTF-16 units.
pub(super) fn long_name(name: &[u8]) -> Result<Vec<u16>, String> {
    let text = std::str::from_utf8(name).map_err(|_| "is not UTF-8".to_string())?;
    if let Some(c) = text.chars().find(|&c| FORBIDDEN.contains(c) || c.is_control()) {
        return Err(format!("holds `{}`", c.escape_default()));
    }
    if text.ends_with(['.', ' ']) {
        return Err("ends in a dot or space".to_string());
    }
    let units: Vec<u16> = text.encode_utf16().collect();
    if units.len() > 255 { Err("is longer than 255 characters".to_string()) } else { Ok(units) }
}

/// Characters of short names besides capital letters and digits.
const SHORT_EXTRA: &[u8] = b"$%'-_@~`!(){}^#&";

/// The name as 8 + 3 bytes if it is one already and needs no long name.
fn as_short(name: &str) -> Option<[u8; 11]> {
    let (base, extension) = name.split_once('.').unwrap_or((name, ""));
    let good =
        |part: &str| part.bytes().all(|b| b.is_ascii_uppercase() || b.is_ascii_digit() || SHORT_EXTRA.contains(&b));
    let fits = (1..=8).contains(&base.len()) && extension.len() <= 3 && good(base) && good(extension);
    if !fits || (extension.is_empty() && name.contains('.')) {
        return None;
    }
    Some(padded(base.as_bytes(), extension.as_bytes()))
}

fn padded(base: &[u8], extension: &[u8]) -> [u8; 11] {
    let mut out = [b' '; 11];
    out[..base.len()].copy_from_slice(base);
    out[8..8 + extension.len()].copy_from_slice(extension);
    out
}

/// A short name that is not taken yet, and whether a long name is needed beside it.
pub(super) fn short_name(name: &str, taken: &mut BTreeSet<[u8; 11]>) -> ([u8; 11], bool) {
    if let Some(short) = as_short(name)
        && taken.insert(short)
    {
        return (short, false);
    }
    let clean = |part: &str, limit: usize| -> Vec<u8> {
        part.chars()
            .filter(|c| !" .".contains(*c))
            .map(|c| c.to_ascii_uppercase())
            .map(|c| {
                if c.is_ascii_alphanumeric() || (c.is_ascii() && SHORT_EXTRA.contains(&(c as u8))) {
                    c as u8
                } else {
                    b'_'
                }
            })
            .take(limit)
            .collect()
    };
    let stem = name.trim_start_matches('.');
    let (base, extension) = match stem.rsplit_once('.') {
        Some((base, extension)) => (clean(base, 8), clean(extension, 3)),
        None => (clean(stem, 8), Vec::new()),
    };
    for number in 1u32.. {
        let tail = format!("~{number}");
        let mut numbered = base[..base.len().min(8 - tail.len())].to_vec();
        numbered.extend_from_slice(tail.as_bytes());
        let short = padded(&numbered, &extension);
        if taken.insert(short) {
            return (short, true);
        }
    }
    unreachable!("there are more numbers than directory entries")
}

/// The checksum that ties a long name's entries to the short one.
pub(super) fn checksum(short: &[u8; 11]) -> u8 {
    short.iter().fold(0u8, |sum, &b| sum.rotate_right(1).wrapping_add(b))
}

/// Positions of the 13 UTF-16 units in a long name's entry.
pub(super) const UNIT_OFFSETS: [usize; 13] = [1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30];

/// The entries of a long name, the last part first as they lie on disk.
pub(super) fn long_entries(units: &[u16], short: &[u8; 11]) -> Vec<[u8; 32]> {
    let sum = checksum(short);
    let count = units.len().div_ceil(13);
    let entry = |part: usize| {
        let mut entry = [0u8; 32];
        entry[0] = (part as u8 + 1) | if part + 1 == count { 0x40 } else { 0 };
        entry[11] = 0x0f;
        entry[13] = sum;
        for (index, &offset) in UNIT_OFFSETS.iter().enumerate() {
            // After the end one zero, then all ones.
            let unit = match part * 13 + index {
                at if at < units.len() => units[at],
                at if at == units.len() => 0,
                _ => 0xffff,
            };
            entry[offset..offset + 2].copy_from_slice(&unit.to_le_bytes());
        }
        entry
    };
    (0..count).rev().map(entry).collect()
}
