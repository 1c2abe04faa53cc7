//! The cache of shared libraries that the loader of glibc reads (`/etc/ld.so.cache`, format `glibc-ld.so.cache1.1`).

use crate::{Result, Root, elf, joined};
use embrak_tree::Kind;
use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};

/// Directories the configuration names, in order, and those that are always looked into.
fn directories(root: &Root<'_>) -> Result<Vec<String>> {
    let mut out = Vec::new();
    let mut waiting = vec!["/etc/ld.so.conf".to_string()];
    let mut seen = BTreeSet::new();
    while let Some(file) = waiting.pop() {
        if !seen.insert(file.clone()) {
            continue;
        }
        for line in root.text(&file)?.lines() {
            let line = line.split('#').next().unwrap_or_default().trim();
            if let Some(pattern) = line.strip_prefix("include") {
                let pattern = joined("/etc", pattern.trim());
                let (dir, name) = pattern.rsplit_once('/').unwrap_or(("/etc", "*.conf"));
                let Ok(glob) = globset::Glob::new(name) else { continue };
                let glob = glob.compile_matcher();
                let mut files: Vec<String> =
                    root.list(dir).into_iter().filter(|n| glob.is_match(n)).map(|n| format!("{dir}/{n}")).collect();
                files.reverse();
                waiting.extend(files);
            } else if line.starts_with('/') {
                out.push(line.trim_end_matches('/').to_string());
            }
        }
    }
    out.extend(["/lib", "/lib64", "/usr/lib", "/usr/lib64"].map(String::from));
    Ok(out)
}

/// Numbers in names count as numbers.
fn order(a: &[u8], b: &[u8]) -> Ordering {
    let (mut i, mut j) = (0, 0);
    let digit = |s: &[u8], at: usize| s.get(at).is_some_and(u8::is_ascii_digit);
    while i < a.len() {
        if digit(a, i) {
            if !digit(b, j) {
                return Ordering::Greater;
            }
            let number = |s: &[u8], at: &mut usize| {
                let mut value = 0u64;
                while digit(s, *at) {
                    value = value.wrapping_mul(10).wrapping_add(u64::from(s[*at] - b'0'));
                    *at += 1;
                }
                value
            };
            let (m, n) = (number(a, &mut i), number(b, &mut j));
            if m != n {
                return m.cmp(&n);
            }
        } else if digit(b, j) {
            return Ordering::Less;
        } else if j >= b.len() || a[i] != b[j] {
            return a[i].cmp(b.get(j).unwrap_or(&0));
        } else {
            (i, j) = (i + 1, j + 1);
        }
    }
    if j < b.len() { Ordering::Less } else { Ordering::Equal }
}

/// Writes the cache, if the root has the loader that reads it; how many libraries are in it.
///
/// # Errors
/// Libraries cannot be read.
pub(crate) fn write_cache(root: &mut Root<'_>) -> Result<usize> {
    if !root.exists("/etc/ld.so.conf") && !root.exists("/sbin/ldconfig") {
        return Ok(0);
    }
    let mut found: BTreeMap<(String, u32), String> = BTreeMap::new();
    let mut seen = BTreeSet::new();
    for dir in directories(root)? {
        let Ok(real) = root.resolve(&dir, true) else { continue };
        if !seen.insert(real) {
            continue;
        }
        for name in root.list(&dir) {
            let loader = name.starts_with("ld-") || name.starts_with("ld.so") || name.starts_with("ld64");
            if !(name.starts_with("lib") || loader) || !name.contains(".so") {
                continue;
            }
            let path = format!("{dir}/{name}");
            let Some(Kind::File { size, .. }) = root.entry(&path).map(|e| &e.kind) else { continue };
            if *size < 64 {
                continue;
            }
            let Some(library) = root.read(&path)?.as_deref().and_then(elf::dynamic) else { continue };
            let Some(flags) = library.cache_flags() else { continue };
            let soname = library.soname.clone().unwrap_or_else(|| name.clone());
            let shown = format!("{dir}/{soname}");
            // The name that programs ask for has to be there.
            if !root.exists(&shown) {
                root.link(&shown, &name)?;
            }
            found.entry((soname, flags)).or_insert(shown);
            // Under a name of its own, as plugins are opened by.
            if library.soname.as_deref() != Some(&name) && name.ends_with(".so") && library.soname.is_none() {
                found.entry((name, flags)).or_insert(path);
            }
        }
    }
    let count = found.len();
    root.put("/etc/ld.so.cache", cache(&found))?;
    Ok(count)
}

fn cache(found: &BTreeMap<(String, u32), String>) -> Vec<u8> {
    let mut entries: Vec<(&(String, u32), &String)> = found.iter().collect();
    entries.sort_by(|a, b| order(b.0.0.as_bytes(), a.0.0.as_bytes()).then(b.0.1.cmp(&a.0.1)));
    let mut strings = Vec::new();
    let base = 48 + 24 * entries.len();
    let mut table = Vec::new();
    for ((name, flags), path) in entries {
        let mut put = |text: &str| {
            let at = (base + strings.len()) as u32;
            strings.extend_from_slice(text.as_bytes());
            strings.push(0);
            at
        };
        let (key, value) = (put(name), put(path));
        for word in [*flags, key, value, 0, 0, 0] {
            table.extend(word.to_le_bytes());
        }
    }
    let mut out = b"glibc-ld.so.cache1.1".to_vec();
    out.extend(((table.len() / 24) as u32).to_le_bytes());
    out.extend((strings.len() as u32).to_le_bytes());
    // Little-endian; then no extension, and three words that nobody uses.
    out.extend([2, 0, 0, 0]);
    out.extend([0; 16]);
    out.extend(table);
    out.extend(strings);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_in_names_count_as_numbers() {
        let mut names = ["libc.so.6", "libc.so.10", "libb.so.1", "libc-2.so", "ld.so"];
        names.sort_by(|a, b| order(a.as_bytes(), b.as_bytes()));
        assert_eq!(names, ["ld.so", "libb.so.1", "libc-2.so", "libc.so.6", "libc.so.10"]);
    }
}
