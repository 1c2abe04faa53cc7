//! Certificates of authorities: the bundle that most programs read, and a directory by name and by digest of the subject.

use crate::{Result, Root};
use base64::Engine;
use sha1::{Digest, Sha1};
use std::collections::BTreeMap;

const PLACES: [&str; 2] = ["/usr/share/ca-certificates", "/usr/local/share/ca-certificates"];
const BUNDLE: &str = "/etc/ssl/certs/ca-certificates.crt";

/// Writes the bundle and the directory, if there are certificates; how many.
///
/// # Errors
/// Certificates cannot be read.
pub(crate) fn write_bundle(root: &mut Root<'_>) -> Result<usize> {
    let chosen = root.text("/etc/ca-certificates.conf")?;
    let refused: Vec<&str> = chosen.lines().filter_map(|l| l.strip_prefix('!')).collect();
    let mut bundle = String::new();
    let mut names = Vec::new();
    let mut hashes: BTreeMap<u32, u32> = BTreeMap::new();
    let mut count = 0;
    for place in PLACES {
        let Ok(at) = root.resolve(place, true) else { continue };
        let files: Vec<String> = root.below(&at).map(|(p, _)| p.to_string()).filter(|p| p.ends_with(".crt")).collect();
        for path in files {
            let name = path[place.len() + 1..].to_string();
            if refused.contains(&name.as_str()) {
                continue;
            }
            let text = root.text(&path)?;
            let Some(der) = der(&text) else { continue };
            count += 1;
            bundle += text.trim_end();
            bundle.push('\n');
            if place == PLACES[0] {
                names.push(name.clone());
            }
            let file = name.rsplit('/').next().unwrap_or(&name).trim_end_matches(".crt");
            let link = format!("{}.pem", file.replace([' ', '(', ')', ','], "_"));
            root.link(&format!("/etc/ssl/certs/{link}"), &path)?;
            if let Some(hash) = subject_hash(&der) {
                let number = hashes.entry(hash).or_default();
                root.link(&format!("/etc/ssl/certs/{hash:08x}.{number}"), &link)?;
                *number += 1;
            }
        }
    }
    if count == 0 {
        return Ok(0);
    }
    if chosen.is_empty() && !names.is_empty() {
        root.put("/etc/ca-certificates.conf", names.join("\n") + "\n")?;
    }
    root.put(BUNDLE, bundle)?;
    Ok(count)
}

fn der(text: &str) -> Option<Vec<u8>> {
    let start = text.find("-----BEGIN CERTIFICATE-----")? + 27;
    let end = start + text[start..].find("-----END")?;
    let body: String = text[start..end].split_whitespace().collect();
    base64::engine::general_purpose::STANDARD.decode(body).ok()
}

/// One element of DER: its tag, its contents, what follows.
fn element(bytes: &[u8]) -> Option<(u8, &[u8], &[u8])> {
    let (&tag, rest) = bytes.split_first()?;
    let (&first, rest) = rest.split_first()?;
    let (length, rest) = if first < 0x80 {
        (usize::from(first), rest)
    } else {
        let n = usize::from(first & 0x7f);
        if n > 4 || rest.len() < n {
            return None;
        }
        (rest[..n].iter().fold(0, |l, b| l << 8 | usize::from(*b)), &rest[n..])
    };
    (length <= rest.len()).then(|| (tag, &rest[..length], &rest[length..]))
}

fn encode(tag: u8, content: &[u8]) -> Vec<u8> {
    let mut out = vec![tag];
    match content.len() {
        n @ 0..0x80 => out.push(n as u8),
        n @ 0x80..0x100 => out.extend([0x81, n as u8]),
        n => out.extend([0x82, (n >> 8) as u8, n as u8]),
    }
    out.extend(content);
    out
}

/// The number under which OpenSSL looks a subject up: SHA-1 of its name in canonical form (RFC 5280, section 7.1).
fn subject_hash(certificate: &[u8]) -> Option<u32> {
    let (_, body, _) = element(certificate)?;
    let (_, mut rest, _) = element(body)?;
    // version (if said), serial number, algorithm, issuer, validity, subject
    if rest.first() == Some(&0xa0) {
        rest = element(rest)?.2;
    }
    for _ in 0..4 {
        rest = element(rest)?.2;
    }
    let (_, mut names, _) = element(rest)?;
    let mut canonical = Vec::new();
    while !names.is_empty() {
        let (_, set, after) = element(names)?;
        names = after;
        let mut parts = Vec::new();
        let mut inner = set;
        while !inner.is_empty() {
            let (_, pair, after) = element(inner)?;
            inner = after;
            let (oid_tag, oid, value) = element(pair)?;
            let (tag, value, _) = element(value)?;
            let text = match tag {
                // UTF-8, printable, T61, IA5, visible
                12 | 19 | 20 | 22 | 26 => Some(String::from_utf8_lossy(value).into_owned()),
                // UTF-16
                30 => Some(
                    value
                        .chunks(2)
                        .filter_map(|c| char::from_u32(u32::from(c[0]) << 8 | u32::from(*c.get(1)?)))
                        .collect(),
                ),
                _ => None,
            };
            let encoded = match text {
                Some(text) => {
                    let text = text.split_ascii_whitespace().collect::<Vec<_>>().join(" ").to_ascii_lowercase();
                    encode(12, text.as_bytes())
                }
                None => encode(tag, value),
            };
            parts.push(encode(0x30, &[encode(oid_tag, oid), encoded].concat()));
        }
        parts.sort();
        canonical.extend(encode(0x31, &parts.concat()));
    }
    let digest = Sha1::digest(&canonical);
    Some(u32::from_le_bytes([digest[0], digest[1], digest[2], digest[3]]))
}
