//! Comparing large artifacts without digesting them: files of the same size are read side by side, on all cores, and
//! only what differs is digested.

use crate::error::{EngineError, Result};
use crate::inspect::Artifact;
use embrak_disk::ext4::Located;
use embrak_disk::{ReadAt, read_alike};
use embrak_tree::{Digest, HashingReader, Kind, Tree, on_all_cores};
use std::collections::BTreeMap;
use std::fs::File;
use std::io;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};

const PIECE: u64 = 512 << 10;

/// Whether two files have the same bytes. What differs early is found early.
pub(crate) fn same_bytes(a: &Path, b: &Path) -> io::Result<bool> {
    let (x, y) = (File::open(a)?, File::open(b)?);
    let size = ReadAt::size(&x);
    if size != ReadAt::size(&y) {
        return Ok(false);
    }
    const SEGMENT: u64 = 8 << 20;
    let differ = AtomicBool::new(false);
    on_all_cores(size.div_ceil(SEGMENT) as usize, |n| {
        let (mut at, end) = (n as u64 * SEGMENT, ((n as u64 + 1) * SEGMENT).min(size));
        let (mut p, mut q) = (vec![0; PIECE as usize], vec![0; PIECE as usize]);
        while at < end && !differ.load(Ordering::Relaxed) {
            let length = (end - at).min(PIECE) as usize;
            x.read_exact_at(&mut p[..length], at)?;
            y.read_exact_at(&mut q[..length], at)?;
            if p[..length] != q[..length] {
                differ.store(true, Ordering::Relaxed);
            }
            at += length as u64;
        }
        Ok::<_, io::Error>(())
    })?;
    Ok(!differ.into_inner())
}

/// Puts digests in place of stand-ins that mean the same exactly when contents are the same: of files that are alike,
/// the first's stand-in; of all others, what they really digest to.
pub(crate) fn settle(a: &mut Artifact, b: &mut Artifact) -> Result<()> {
    let places: Vec<String> = a.outlines.keys().filter(|p| b.outlines.contains_key(*p)).cloned().collect();
    for place in places {
        let known = settled(a, b, &place)?;
        for artifact in [&mut *a, &mut *b] {
            for (at, tree) in artifact.trees_mut() {
                if at == place {
                    replace(tree, &known);
                }
            }
        }
    }
    // What has no place in the other is all new.
    for artifact in [a, b] {
        let places: Vec<String> = artifact.outlines.keys().cloned().collect();
        for place in places {
            let left: Vec<Digest> = stand_ins(artifact, &place);
            let known = digests(artifact, &place, &left)?;
            for (at, tree) in artifact.trees_mut() {
                if at == place {
                    replace(tree, &known);
                }
            }
        }
    }
    Ok(())
}

fn tree_at<'t>(artifact: &'t Artifact, place: &str) -> Option<&'t Tree> {
    artifact.trees().into_iter().find(|(at, _)| at == place).map(|(_, tree)| tree)
}

/// Stand-ins that are still in a tree and belong to it, not to another artifact's files that are alike.
fn stand_ins(artifact: &Artifact, place: &str) -> Vec<Digest> {
    let outline = &artifact.outlines[place];
    let of = |kind: &Kind| if let Kind::File { digest, .. } = kind { Some(*digest) } else { None };
    let all = tree_at(artifact, place).into_iter().flat_map(Tree::iter).filter_map(|(_, e)| of(&e.kind));
    let settled = &artifact.settled;
    all.filter(|d| outline.contains_key(d) && !settled.contains(d)).collect()
}

fn replace(tree: &mut Tree, known: &BTreeMap<Digest, Digest>) {
    for (_, entry) in tree.iter_mut() {
        if let Kind::File { digest, .. } = &mut entry.kind
            && let Some(real) = known.get(digest)
        {
            *digest = *real;
        }
    }
}

fn failed(error: io::Error) -> EngineError {
    EngineError::other(format!("comparing files: {error}"), "look at both with `embrak inspect`")
}

/// For the second's files that are as the first's: their stand-ins, and the first's.
fn settled(a: &mut Artifact, b: &Artifact, place: &str) -> Result<BTreeMap<Digest, Digest>> {
    let (x, y) = (&a.outlines[place], &b.outlines[place]);
    let (Some(first), Some(second)) = (tree_at(a, place), tree_at(b, place)) else { return Ok(BTreeMap::new()) };
    let mut pairs: Vec<(&Located, &Located, Digest, Digest)> = Vec::new();
    for (path, entry) in first.iter() {
        if let Kind::File { digest: p, size } = &entry.kind
            && let Some(Kind::File { digest: q, size: other }) = second.get(path).map(|e| &e.kind)
            && size == other
            && let (Some(at), Some(to)) = (x.get(p), y.get(q))
        {
            pairs.push((at, to, *p, *q));
        }
    }
    // In the order they lie in, as disks like to be read.
    pairs.sort_by_key(|pair| pair.0.start());
    let alike = a.with_place(place, |one| {
        b.with_place(place, |two| {
            on_all_cores(pairs.len(), |n| {
                let (at, to, ..) = pairs[n];
                read_alike(at.reader(one), to.reader(two))
            })
            .map_err(failed)
        })
    })?;
    let same = pairs.iter().zip(&alike).filter(|(_, alike)| **alike);
    let known: BTreeMap<Digest, Digest> = same.map(|(pair, _)| (pair.3, pair.2)).collect();
    a.settled.extend(known.values());
    Ok(known)
}

/// What contents really digest to.
fn digests(artifact: &Artifact, place: &str, wanted: &[Digest]) -> Result<BTreeMap<Digest, Digest>> {
    let outline = &artifact.outlines[place];
    let found = artifact.with_place(place, |disk| {
        on_all_cores(wanted.len(), |n| {
            let reader = io::BufReader::with_capacity(PIECE as usize, outline[&wanted[n]].reader(disk));
            HashingReader::new(reader).finish().map(|(digest, _)| digest)
        })
        .map_err(failed)
    })?;
    Ok(wanted.iter().copied().zip(found).collect())
}
