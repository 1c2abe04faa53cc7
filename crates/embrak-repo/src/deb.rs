//! Debian binary packages, deb(5): an `ar` archive of `debian-binary`, `control.tar.*` and `data.tar.*`.
//!
//! ```text
//!   !<arch>\n
//!   name 16 | mtime 12 | uid 6 | gid 6 | mode 8 | size 10 (decimal) | `\n      60 bytes, then the member,
//!   ...                                                                        padded to an even length
//! ```

use crate::compression::Compression;
use crate::control::{Stanza, Stanzas};
use crate::record::Unpacked;
use crate::{RepositoryError, Result, parse_relations};
use embrak_tree::tar::{TarError, read_tree};
use embrak_tree::{BlobSink, BlobSource, Kind, Tree, TreePath};
use std::io::{self, Read};

/// What a package may unpack to.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Bytes of the unpacked `data.tar`.
    pub data: u64,
    /// Bytes of the unpacked `control.tar`.
    pub control: u64,
}

impl Default for Limits {
    /// 16 GiB of files, 64 MiB of scripts and checksums.
    fn default() -> Self {
        Limits { data: 16 << 30, control: 64 << 20 }
    }
}

/// Scripts dpkg runs, in the order of their first use.
const SCRIPTS: [&str; 5] = ["config", "preinst", "postinst", "prerm", "postrm"];

/// Reads a package from start to end, file contents going to `blobs`.
///
/// # Errors
/// It is damaged, unpacks to more than the limits, or has a file below something that is no directory.
pub fn unpack_deb<B: BlobSink + BlobSource>(
    name: &str,
    mut input: impl Read + Send,
    blobs: &B,
    limits: Limits,
) -> Result<Unpacked> {
    let fail = |what: String| RepositoryError::Package { package: name.to_string(), what };
    let mut magic = [0; 8];
    input.read_exact(&mut magic).map_err(|e| fail(format!("cannot be read: {e}")))?;
    if &magic != b"!<arch>\n" {
        return Err(fail("it is not an ar archive, so it is no package".into()));
    }
    let (mut version, mut control, mut data) = (false, None, None);
    let mut offset = 8u64;
    while let Some((member, size)) = member(&mut input, offset).map_err(&fail)? {
        offset += 60 + size + size % 2;
        let mut content = (&mut input).take(size);
        match member.split('.').next().unwrap_or_default() {
            "debian-binary" => {
                let mut text = String::new();
                (&mut content).take(64).read_to_string(&mut text).map_err(|e| fail(format!("debian-binary: {e}")))?;
                if !text.starts_with("2.") {
                    return Err(fail(format!("it has format `{}`, known is 2", text.trim())));
                }
                version = true;
            }
            "control" if member.contains(".tar") && control.is_none() => {
                control = Some(archive(&member, &mut content, blobs, limits.control).map_err(&fail)?);
            }
            "data" if member.contains(".tar") && data.is_none() => {
                data = Some(archive(&member, &mut content, blobs, limits.data).map_err(&fail)?);
            }
            // Members whose names begin with `_` are for others, says the format.
            other if other.starts_with('_') => {}
            _ => return Err(fail(format!("it has an unexpected member `{member}`"))),
        }
        // What a decompressor has left is padding of its own format.
        let mut rest = content.limit() + size % 2;
        rest -= io::copy(&mut (&mut input).take(rest), &mut io::sink()).map_err(|e| fail(e.to_string()))?;
        if rest > 1 {
            return Err(fail(format!("its member `{member}` is cut short")));
        }
    }
    let (true, Some(control), Some(tree)) = (version, control, data) else {
        return Err(fail("it ends without all of debian-binary, control.tar and data.tar: cut short?".into()));
    };
    check_parents(&tree).map_err(&fail)?;
    let text = |file: &str| -> Result<Option<String>> {
        let path = TreePath::new(format!("/{file}")).map_err(|e| fail(e.to_string()))?;
        match control.get(&path).map(|e| &e.kind) {
            Some(Kind::File { digest, .. }) => {
                let bytes = blobs.read(digest).map_err(|e| fail(format!("{file}: {e}")))?;
                Ok(Some(String::from_utf8_lossy(&bytes).into_owned()))
            }
            _ => Ok(None),
        }
    };
    let stanza = text("control")?.ok_or_else(|| fail("its control archive has no `control`".into()))?;
    let mut fields = Stanza::default();
    Stanzas::new(stanza.as_bytes()).next_into(&mut fields).map_err(|e| fail(format!("control: {e}")))?;
    let architecture = fields.get("Architecture").unwrap_or_default();
    let relations = |names: &[&str]| -> Vec<String> {
        let of = |name: &&str| parse_relations(fields.get(name).unwrap_or_default(), architecture);
        names.iter().flat_map(of).map(|a| a.to_string()).collect()
    };
    let conffiles = text("conffiles")?.unwrap_or_default();
    let scripts = SCRIPTS.iter().filter(|s| TreePath::new(format!("/{s}")).is_ok_and(|p| control.get(&p).is_some()));
    Ok(Unpacked {
        conffiles: conffiles
            .lines()
            // `remove-on-upgrade` before a path says that it is gone, not that it is there.
            .filter(|l| l.starts_with('/'))
            .map(|l| l.trim_end().to_string())
            .collect(),
        scripts: scripts.map(ToString::to_string).collect(),
        requires: relations(&["Depends", "Pre-Depends"]),
        replaces: relations(&["Replaces"]),
        control,
        tree,
    })
}

/// The next member's name and size; none at the end.
fn member(input: &mut impl Read, offset: u64) -> std::result::Result<Option<(String, u64)>, String> {
    let mut header = [0; 60];
    let mut got = 0;
    while got < header.len() {
        match input.read(&mut header[got..]) {
            Ok(0) if got == 0 => return Ok(None),
            Ok(0) => return Err(format!("it ends in the middle of a header at byte {offset}")),
            Ok(n) => got += n,
            Err(e) => return Err(e.to_string()),
        }
    }
    let text = |range: std::ops::Range<usize>| std::str::from_utf8(&header[range]).ok().map(str::trim_end);
    let size = text(48..58).filter(|t| t.bytes().all(|b| b.is_ascii_digit())).and_then(|t| t.parse().ok());
    match (text(0..16), size) {
        (Some(name), Some(size)) if header[58..] == *b"`\n" => Ok(Some((name.trim_end_matches('/').to_string(), size))),
        _ => Err(format!("no member begins at byte {offset}")),
    }
}

fn archive(
    member: &str,
    input: &mut (impl Read + Send),
    blobs: &dyn BlobSink,
    limit: u64,
) -> std::result::Result<Tree, String> {
    let compression =
        Compression::of_name(member).ok_or_else(|| format!("`{member}` is compressed in a way not known here"))?;
    let reader = compression.reader(input, limit).map_err(|e| format!("{member}: {e}"))?;
    read_tree(reader, blobs).map_err(|e| match e {
        TarError::Io(e) if e.kind() == io::ErrorKind::UnexpectedEof => format!("{member} is cut short"),
        other => format!("{member}: {other}"),
    })
}

/// Everything has to lie in a directory of the package: what lies below a link would be written elsewhere.
pub(crate) fn check_parents(tree: &Tree) -> std::result::Result<(), String> {
    for (path, _) in tree.iter() {
        if let Some(parent) = path.parent()
            && let Some(entry) = tree.get(&parent)
            && !entry.is_directory()
        {
            return Err(format!("{path} lies below {parent}, which is a {}", entry.kind.name()));
        }
    }
    Ok(())
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use embrak_tree::tar::{Version, write_tree};
    use embrak_tree::{Entry, MemoryBlobs};
    use proptest::prelude::*;

    fn ar(members: &[(&str, Vec<u8>)]) -> Vec<u8> {
        let mut out = b"!<arch>\n".to_vec();
        for (name, content) in members {
            out.extend_from_slice(
                format!("{name:<16}{:<12}{:<6}{:<6}{:<8}{:<10}`\n", 0, 0, 0, 100644, content.len()).as_bytes(),
            );
            out.extend_from_slice(content);
            out.resize(out.len().next_multiple_of(2), b'\n');
        }
        out
    }

    fn tar(entries: &[(&str, Entry)], blobs: &MemoryBlobs) -> Vec<u8> {
        let tree: Tree = entries.iter().map(|(p, e)| (p.parse().unwrap(), e.clone())).collect();
        write_tree(&tree, Version::default(), blobs, Vec::new()).unwrap()
    }

    fn file(text: &str, blobs: &MemoryBlobs) -> Entry {
        let (digest, size) = blobs.add(text);
        Entry::file(digest, size)
    }

    fn sample(blobs: &MemoryBlobs) -> Vec<u8> {
        let control = tar(
            &[
                ("/control", file("Package: lampd\nVersion: 2\n", blobs)),
                ("/conffiles", file("/etc/lampd.conf\nremove-on-upgrade /etc/old\n", blobs)),
                ("/postinst", file("#!/bin/sh\n", blobs)),
            ],
            blobs,
        );
        let mut daemon = file("ELF", blobs);
        daemon.mode = 0o4755;
        daemon.uid = 7;
        daemon.xattrs.insert(b"security.capability".to_vec(), vec![1, 0, 0, 2]);
        let data = tar(
            &[
                ("/etc/lampd.conf", file("station = holm\n", blobs)),
                ("/usr/sbin/lampd", daemon),
                ("/usr/sbin/lamp", Entry::symlink("lampd")),
                ("/dev/lamp", Entry::new(Kind::CharDevice { major: 10, minor: 63 }, 0o660)),
            ],
            blobs,
        );
        ar(&[
            ("debian-binary", b"2.0\n".to_vec()),
            ("control.tar.zst", zstd::encode_all(control.as_slice(), 3).unwrap()),
            ("data.tar", data),
        ])
    }

    #[test]
    fn a_package_becomes_trees() {
        let blobs = MemoryBlobs::default();
        let unpacked = unpack_deb("lampd", sample(&blobs).as_slice(), &blobs, Limits::default()).unwrap();
        assert_eq!(unpacked.conffiles, ["/etc/lampd.conf"]);
        assert_eq!(unpacked.scripts, ["postinst"]);
        let daemon = unpacked.tree.get(&"/usr/sbin/lampd".parse().unwrap()).unwrap();
        assert_eq!((daemon.mode, daemon.uid, daemon.xattrs.len()), (0o4755, 7, 1));
        assert_eq!(
            unpacked.tree.get(&"/dev/lamp".parse().unwrap()).unwrap().kind,
            Kind::CharDevice { major: 10, minor: 63 }
        );
    }

    #[test]
    fn what_is_wrong_is_said() {
        let blobs = MemoryBlobs::default();
        let good = sample(&blobs);
        let told = |bytes: &[u8], limits| unpack_deb("lampd", bytes, &blobs, limits).unwrap_err().to_string();
        assert!(told(b"PK\x03\x04 no package", Limits::default()).contains("not an ar archive"));
        for cut in 9..good.len() - 1 {
            let message = told(&good[..cut], Limits::default());
            assert!(message.starts_with("package lampd: "), "{cut}: {message}");
        }
        let small = Limits { data: 512, ..Limits::default() };
        assert!(told(&good, small).contains("more than the 512 bytes allowed"), "{}", told(&good, small));
        let odd = ar(&[("debian-binary", b"3.0\n".to_vec())]);
        assert!(told(&odd, Limits::default()).contains("format `3.0`"));
        let bzip = ar(&[("debian-binary", b"2.0\n".to_vec()), ("control.tar.bz2", vec![1])]);
        assert!(told(&bzip, Limits::default()).contains("not known here"));
    }

    #[test]
    fn nothing_is_written_through_a_link_or_above_the_root() {
        let blobs = MemoryBlobs::default();
        let control = tar(&[("/control", file("Package: a\n", &blobs))], &blobs);
        let with = |data: Vec<u8>| {
            let bytes =
                ar(&[("debian-binary", b"2.0\n".to_vec()), ("control.tar", control.clone()), ("data.tar", data)]);
            unpack_deb("a", bytes.as_slice(), &blobs, Limits::default()).unwrap_err().to_string()
        };
        let through = tar(&[("/lib", Entry::symlink("/etc")), ("/lib/passwd", file("x", &blobs))], &blobs);
        assert!(with(through).contains("/lib/passwd lies below /lib, which is a symlink"));
        let plain = tar(&[("/aa/passwd", file("x", &blobs))], &blobs);
        // The name is in the first header, and its checksum with it.
        let mut above = plain;
        let at = above.windows(9).position(|w| w == b"aa/passwd").unwrap();
        above[at..at + 2].copy_from_slice(b"..");
        let header = at / 512 * 512;
        above[header + 148..header + 156].fill(b' ');
        let sum: u32 = above[header..header + 512].iter().map(|b| u32::from(*b)).sum();
        above[header + 148..header + 156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
        assert!(with(above).contains(".."), "a path above the root");
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(300))]
        #[test]
        fn damage_is_survived(at in 0usize..4000, to in any::<u8>(), cut in 0usize..4000) {
            let blobs = MemoryBlobs::default();
            let mut bytes = sample(&blobs);
            let length = bytes.len();
            bytes[at % length] = to;
            bytes.truncate(cut.max(8) % (length + 1));
            let _ = unpack_deb("lampd", bytes.as_slice(), &blobs, Limits::default());
        }
    }
}
