//! The tree manifest, `embrak-tree 1`: the text whose SHA-256 is a tree's content digest.
//!
//! ```text
//! {"embrak-tree":1}
//! {"path":"/","kind":"directory","mode":"0755","uid":0,"gid":0,"mtime":1772323200}
//! {"path":"/etc/beacon.conf","kind":"file","mode":"0640","uid":0,"gid":7,"mtime":1772323200,"digest":"sha256:..","size":15}
//! ```
//!
//! One line per entry, sorted by path bytes; keys in this order: `path`, `kind`, `mode` (octal, four digits),
//! `uid`, `gid`, `mtime`, then by kind `digest` and `size`, `target`, or `device` (`"major:minor"`), then
//! `xattrs` (only when there are any) sorted by name. Each line ends with a line feed. Bytes of paths, targets
//! and attributes that are not printable UTF-8, and `%` itself, are written `%XX`. Anyone can make or check
//! this digest with a dozen lines of any language.

use crate::{Digest, Entry, Kind, Tree, TreePath};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::fmt::Write as _;

/// The version in the manifest's first line.
pub const MANIFEST_VERSION: u32 = 1;

/// Why a text is not a tree manifest.
#[derive(Debug, thiserror::Error)]
#[error("tree manifest, line {line}: {what}")]
pub struct ManifestError {
    /// Line number, from 1.
    pub line: usize,
    /// What is wrong.
    pub what: String,
}

/// Bytes as text: printable UTF-8 as it is, everything else and `%` as `%XX`.
pub fn escape_bytes(bytes: &[u8]) -> String {
    let mut out = String::with_capacity(bytes.len());
    for chunk in bytes.utf8_chunks() {
        for c in chunk.valid().chars() {
            if c == '%' || c.is_control() {
                let mut buf = [0; 4];
                for b in c.encode_utf8(&mut buf).bytes() {
                    let _ = write!(out, "%{b:02X}");
                }
            } else {
                out.push(c);
            }
        }
        for b in chunk.invalid() {
            let _ = write!(out, "%{b:02X}");
        }
    }
    out
}

/// The inverse of [`escape_bytes`].
fn unescape_bytes(text: &str) -> Option<Vec<u8>> {
    let mut out = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((&first, tail)) = rest.split_first() {
        if first == b'%' {
            let digits = tail.get(..2)?;
            let mut byte = [0];
            hex::decode_to_slice(digits, &mut byte).ok()?;
            out.push(byte[0]);
            rest = &tail[2..];
        } else {
            out.push(first);
            rest = tail;
        }
    }
    Some(out)
}

fn json_string(out: &mut String, bytes: &[u8]) {
    // Escaping leaves no control characters, so a JSON string needs only these two.
    out.push('"');
    for c in escape_bytes(bytes).chars() {
        if c == '"' || c == '\\' {
            out.push('\\');
        }
        out.push(c);
    }
    out.push('"');
}

impl Tree {
    /// The manifest's text.
    pub fn manifest(&self) -> String {
        let mut out = format!("{{\"embrak-tree\":{MANIFEST_VERSION}}}\n");
        for (path, entry) in self.iter() {
            write_line(&mut out, path, entry);
        }
        out
    }

    /// The content digest: SHA-256 of the manifest.
    pub fn digest(&self) -> Digest {
        Digest::of(self.manifest())
    }
}

fn write_line(out: &mut String, path: &TreePath, entry: &Entry) {
    out.push_str("{\"path\":");
    json_string(out, path.as_bytes());
    let _ = write!(
        out,
        ",\"kind\":\"{}\",\"mode\":\"{:04o}\",\"uid\":{},\"gid\":{},\"mtime\":{}",
        entry.kind.name(),
        entry.mode,
        entry.uid,
        entry.gid,
        entry.mtime
    );
    match &entry.kind {
        Kind::File { digest, size } => {
            let _ = write!(out, ",\"digest\":\"{digest}\",\"size\":{size}");
        }
        Kind::Symlink { target } => {
            out.push_str(",\"target\":");
            json_string(out, target);
        }
        Kind::Hardlink { target } => {
            out.push_str(",\"target\":");
            json_string(out, target.as_bytes());
        }
        Kind::CharDevice { major, minor } | Kind::BlockDevice { major, minor } => {
            let _ = write!(out, ",\"device\":\"{major}:{minor}\"");
        }
        Kind::Directory | Kind::Fifo => {}
    }
    if !entry.xattrs.is_empty() {
        out.push_str(",\"xattrs\":{");
        for (index, (name, value)) in entry.xattrs.iter().enumerate() {
            if index > 0 {
                out.push(',');
            }
            json_string(out, name);
            out.push(':');
            json_string(out, value);
        }
        out.push('}');
    }
    out.push_str("}\n");
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Line {
    path: String,
    kind: String,
    mode: String,
    uid: u32,
    gid: u32,
    mtime: i64,
    digest: Option<Digest>,
    size: Option<u64>,
    target: Option<String>,
    device: Option<String>,
    #[serde(default)]
    xattrs: BTreeMap<String, String>,
}

/// Reads a manifest back.
///
/// # Errors
/// Names the line that is not as the format says; so does a text that is sorted or spelled differently,
/// because its digest would not be the tree's.
pub fn parse_manifest(text: &str) -> Result<Tree, ManifestError> {
    let mut lines = text.lines().enumerate();
    if lines.next().map(|(_, l)| l) != Some(&format!("{{\"embrak-tree\":{MANIFEST_VERSION}}}")) {
        return Err(ManifestError { line: 1, what: format!("expected {{\"embrak-tree\":{MANIFEST_VERSION}}}") });
    }
    let mut tree = Tree::new();
    let mut again = String::new();
    let mut last: Option<TreePath> = None;
    for (index, text) in lines {
        let fail = |what: &str| ManifestError { line: index + 1, what: what.to_string() };
        let line: Line = serde_json::from_str(text).map_err(|e| fail(&e.to_string()))?;
        let (path, entry) = parse_line(line).map_err(|what| fail(&what))?;
        again.clear();
        write_line(&mut again, &path, &entry);
        if again.trim_end_matches('\n') != text {
            return Err(fail("keys or values are not written the one way the format allows"));
        }
        if last.as_ref().is_some_and(|last| *last >= path) {
            return Err(fail("paths are not in order"));
        }
        last = Some(path.clone());
        tree.insert(path, entry);
    }
    Ok(tree)
}

fn parse_line(line: Line) -> Result<(TreePath, Entry), String> {
    let bytes = |text: &str| unescape_bytes(text).ok_or_else(|| format!("`{text}` has a bad %XX"));
    let path = TreePath::new(bytes(&line.path)?).map_err(|e| e.to_string())?;
    let target = || line.target.as_deref().ok_or("no `target`").map_err(String::from).and_then(bytes);
    let device = || -> Result<(u32, u32), String> {
        let (major, minor) = line.device.as_deref().and_then(|d| d.split_once(':')).ok_or("no `device`")?;
        Ok((major.parse().map_err(|_| "bad major number")?, minor.parse().map_err(|_| "bad minor number")?))
    };
    let kind = match line.kind.as_str() {
        "file" => Kind::File { digest: line.digest.ok_or("no `digest`")?, size: line.size.ok_or("no `size`")? },
        "directory" => Kind::Directory,
        "symlink" => Kind::Symlink { target: target()? },
        "hardlink" => Kind::Hardlink { target: TreePath::new(target()?).map_err(|e| e.to_string())? },
        "char-device" => device().map(|(major, minor)| Kind::CharDevice { major, minor })?,
        "block-device" => device().map(|(major, minor)| Kind::BlockDevice { major, minor })?,
        "fifo" => Kind::Fifo,
        other => return Err(format!("unknown kind `{other}`")),
    };
    let mode = u32::from_str_radix(&line.mode, 8).ok().filter(|m| *m <= 0o7777).ok_or("bad `mode`")?;
    let mut xattrs = BTreeMap::new();
    for (name, value) in &line.xattrs {
        xattrs.insert(bytes(name)?, bytes(value)?);
    }
    Ok((path, Entry { kind, mode, uid: line.uid, gid: line.gid, mtime: line.mtime, xattrs }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn manifest_reads_back_to_the_same_tree(tree in crate::tree::strategies::tree()) {
            let text = tree.manifest();
            let back = parse_manifest(&text).unwrap();
            prop_assert_eq!(&back, &tree);
            prop_assert_eq!(back.manifest(), text);
        }

        #[test]
        fn any_bytes_escape_and_come_back(bytes in proptest::collection::vec(any::<u8>(), 0..40)) {
            prop_assert_eq!(unescape_bytes(&escape_bytes(&bytes)).unwrap(), bytes);
        }

        #[test]
        fn any_text_is_read_or_refused(text in "\\PC{0,200}") {
            let _ = parse_manifest(&text);
            let _ = parse_manifest(&format!("{{\"embrak-tree\":1}}\n{text}"));
        }
    }

    #[test]
    fn the_format_is_pinned() {
        let mut tree = Tree::new();
        tree.insert(TreePath::root(), Entry::directory().dated(1));
        tree.insert("/a b\"c".parse().unwrap(), Entry::file(Digest::of("x"), 1));
        let mut link = Entry::symlink("100%");
        link.xattrs.insert(b"user.k".to_vec(), vec![0, b'v']);
        tree.insert("/l".parse().unwrap(), link);
        tree.insert("/tty".parse().unwrap(), Entry::new(Kind::CharDevice { major: 5, minor: 0 }, 0o666));
        let expected = concat!(
            "{\"embrak-tree\":1}\n",
            "{\"path\":\"/\",\"kind\":\"directory\",\"mode\":\"0755\",\"uid\":0,\"gid\":0,\"mtime\":1}\n",
            "{\"path\":\"/a b\\\"c\",\"kind\":\"file\",\"mode\":\"0644\",\"uid\":0,\"gid\":0,\"mtime\":0,",
            "\"digest\":\"sha256:2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881\",\"size\":1}\n",
            "{\"path\":\"/l\",\"kind\":\"symlink\",\"mode\":\"0777\",\"uid\":0,\"gid\":0,\"mtime\":0,",
            "\"target\":\"100%25\",\"xattrs\":{\"user.k\":\"%00v\"}}\n",
            "{\"path\":\"/tty\",\"kind\":\"char-device\",\"mode\":\"0666\",\"uid\":0,\"gid\":0,\"mtime\":0,\"device\":\"5:0\"}\n",
        );
        assert_eq!(tree.manifest(), expected);
    }

    #[test]
    fn disorder_and_other_spellings_are_refused() {
        let line = |path: &str| {
            format!("{{\"path\":\"{path}\",\"kind\":\"fifo\",\"mode\":\"0600\",\"uid\":0,\"gid\":0,\"mtime\":0}}\n")
        };
        let head = "{\"embrak-tree\":1}\n";
        assert!(parse_manifest(&format!("{head}{}{}", line("/a"), line("/b"))).is_ok());
        for bad in [
            format!("{head}{}{}", line("/b"), line("/a")),
            format!("{head}{}{}", line("/a"), line("/a")),
            format!("{head}{}", line("/a/")),
            format!("{head}{}", line("/%61")),
            format!("{head}{}", line("/a").replace("0600", "600")),
            line("/a"),
        ] {
            assert!(parse_manifest(&bad).is_err(), "{bad}");
        }
    }
}
