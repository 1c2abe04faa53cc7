//! An append-only log: a Merkle tree with proofs that an entry is in it and that it only ever grew (RFC 9162, section 2.1).

use embrak_tree::Digest;
use serde::{Deserialize, Serialize};

/// Hash of an entry (2.1.1).
pub fn leaf(entry: &[u8]) -> Digest {
    Digest::of([&[0], entry].concat())
}

fn node(left: &Digest, right: &Digest) -> Digest {
    Digest::of([&[1], left.raw().as_slice(), right.raw().as_slice()].concat())
}

/// The largest power of two below `n`, which is at least 2.
fn split(n: usize) -> usize {
    n.next_power_of_two() / 2
}

/// Hash of the whole tree over the leaves (2.1.1).
pub fn root(leaves: &[Digest]) -> Digest {
    match leaves {
        [] => Digest::of(""),
        [one] => *one,
        _ => {
            let (left, right) = leaves.split_at(split(leaves.len()));
            node(&root(left), &root(right))
        }
    }
}

/// Proof that the leaf `index` is in the tree (2.1.3.1).
pub fn inclusion(index: usize, leaves: &[Digest]) -> Vec<Digest> {
    if leaves.len() <= 1 || index >= leaves.len() {
        return Vec::new();
    }
    let k = split(leaves.len());
    let (left, right) = leaves.split_at(k);
    let (mut path, sibling) =
        if index < k { (inclusion(index, left), root(right)) } else { (inclusion(index - k, right), root(left)) };
    path.push(sibling);
    path
}

/// Checks such a proof (2.1.3.2).
pub fn is_included(entry: &Digest, index: u64, size: u64, path: &[Digest], root: &Digest) -> bool {
    if index >= size {
        return false;
    }
    let (mut at, mut last, mut hash) = (index, size - 1, *entry);
    for sibling in path {
        if last == 0 {
            return false;
        }
        if at & 1 == 1 || at == last {
            hash = node(sibling, &hash);
            while at & 1 == 0 && at != 0 {
                at >>= 1;
                last >>= 1;
            }
        } else {
            hash = node(&hash, sibling);
        }
        at >>= 1;
        last >>= 1;
    }
    last == 0 && hash == *root
}

/// Proof that the tree over the first `old` leaves is the beginning of this one (2.1.4.1).
pub fn consistency(old: usize, leaves: &[Digest]) -> Vec<Digest> {
    if old == 0 || old >= leaves.len() {
        return Vec::new();
    }
    subproof(old, leaves, true)
}

fn subproof(old: usize, leaves: &[Digest], whole: bool) -> Vec<Digest> {
    if old == leaves.len() {
        return if whole { Vec::new() } else { vec![root(leaves)] };
    }
    let k = split(leaves.len());
    let (left, right) = leaves.split_at(k);
    let (mut proof, other) = if old <= k {
        (subproof(old, left, whole), root(right))
    } else {
        (subproof(old - k, right, false), root(left))
    };
    proof.push(other);
    proof
}

/// Checks such a proof (2.1.4.2).
pub fn is_consistent(old: u64, size: u64, proof: &[Digest], old_root: &Digest, new_root: &Digest) -> bool {
    if old == size {
        return proof.is_empty() && old_root == new_root;
    }
    if old == 0 {
        return proof.is_empty() && *old_root == root(&[]);
    }
    if old > size {
        return false;
    }
    let mut path = proof.to_vec();
    if old.is_power_of_two() {
        path.insert(0, *old_root);
    }
    let (Some(first), rest) = (path.first().copied(), path.get(1..).unwrap_or_default()) else { return false };
    let (mut at, mut last) = (old - 1, size - 1);
    while at & 1 == 1 {
        at >>= 1;
        last >>= 1;
    }
    let (mut before, mut after) = (first, first);
    for hash in rest {
        if last == 0 {
            return false;
        }
        if at & 1 == 1 || at == last {
            before = node(hash, &before);
            after = node(hash, &after);
            while at & 1 == 0 && at != 0 {
                at >>= 1;
                last >>= 1;
            }
        } else {
            after = node(&after, hash);
        }
        at >>= 1;
        last >>= 1;
    }
    last == 0 && before == *old_root && after == *new_root
}

/// The state of a log at some time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Head {
    /// Number of entries.
    pub size: u64,
    /// Hash of the tree.
    pub root: Digest,
}

impl Head {
    /// The state of a log with these leaves.
    pub fn of(leaves: &[Digest]) -> Head {
        Head { size: leaves.len() as u64, root: root(leaves) }
    }
}

/// That something stands in a log, for whoever has the artifact only.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "camelCase")]
pub struct Released {
    /// The entry as it stands in the log.
    pub entry: String,
    /// Its number, from 0.
    pub index: u64,
    /// The log's state then.
    pub head: Head,
    /// Proof that the entry is in it.
    pub inclusion: Vec<Digest>,
    /// The state before it was added.
    pub previous: Head,
    /// Proof that nothing that stood there was changed.
    pub consistency: Vec<Digest>,
}

impl Released {
    /// Whether the proofs hold and the entry is about an artifact.
    ///
    /// # Errors
    /// What does not hold.
    pub fn check(&self, artifact: &Digest) -> Result<(), String> {
        let entry: serde_json::Value = serde_json::from_str(&self.entry).map_err(|e| format!("its entry: {e}"))?;
        if entry["artifact"].as_str() != Some(&artifact.to_string()) {
            return Err("the log's entry is about another artifact".into());
        }
        let leaf = leaf(self.entry.as_bytes());
        if !is_included(&leaf, self.index, self.head.size, &self.inclusion, &self.head.root) {
            return Err("the entry is not in the log that the head is of".into());
        }
        let (old, new) = (&self.previous, &self.head);
        if !is_consistent(old.size, new.size, &self.consistency, &old.root, &new.root) {
            return Err("the log was rewritten: its state before is not the beginning of it".into());
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn leaves(n: usize) -> Vec<Digest> {
        (0..n).map(|i| leaf(format!("entry {i}").as_bytes())).collect()
    }

    #[test]
    fn the_hashes_of_the_standard() {
        // Known values of trees over the test entries of the transparency protocols: the empty tree, and one leaf.
        assert_eq!(root(&[]).hex(), "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855");
        assert_eq!(leaf(b"").hex(), "6e340b9cffb37a989ca544e6bb780a2c78901d3fb33738768511a30617afa01d");
        let two = root(&[leaf(b""), leaf(&[0])]);
        assert_eq!(two.hex(), "fac54203e7cc696cf0dfcb42c92a1d9dbaf70ad9e621f4bd8d98662f00e3c125");
    }

    #[test]
    fn every_entry_of_every_small_log_is_proven_and_no_other() {
        for size in 1..40 {
            let all = leaves(size);
            let head = root(&all);
            for index in 0..size {
                let path = inclusion(index, &all);
                let holds = |i: usize, n: usize, leaf: &Digest| is_included(leaf, i as u64, n as u64, &path, &head);
                assert!(holds(index, size, &all[index]), "{index} of {size}");
                assert!(!holds(index, size, &leaf(b"other")) && !holds(size, size, &all[index]));
                if size > 1 {
                    assert!(!holds((index + 1) % size, size, &all[index]));
                }
            }
            for old in 0..=size {
                let proof = consistency(old, &all);
                let before = root(&all[..old]);
                assert!(is_consistent(old as u64, size as u64, &proof, &before, &head), "{old} to {size}");
                if old > 0 {
                    let mut forked = all[..old].to_vec();
                    forked[old / 2] = leaf(b"rewritten");
                    assert!(!is_consistent(old as u64, size as u64, &proof, &root(&forked), &head), "{old} to {size}");
                }
            }
        }
    }

    proptest! {
        #[test]
        fn a_proof_with_anything_changed_does_not_hold(
            size in 2usize..64, index in any::<prop::sample::Index>(), at in any::<prop::sample::Index>(), byte in 0usize..32,
        ) {
            let all = leaves(size);
            let (head, index) = (root(&all), index.index(size));
            let mut path = inclusion(index, &all);
            let at = at.index(path.len());
            let mut raw = *path[at].raw();
            raw[byte] ^= 1;
            path[at] = Digest::from_raw(raw);
            prop_assert!(!is_included(&all[index], index as u64, size as u64, &path, &head));
            path.pop();
            prop_assert!(!is_included(&all[index], index as u64, size as u64, &path, &head));
        }

        #[test]
        fn any_proof_is_judged(old in any::<u64>(), size in any::<u64>(), n in 0usize..70) {
            let proof = leaves(n);
            let _ = is_included(&leaf(b"x"), old, size, &proof, &leaf(b"y"));
            let _ = is_consistent(old, size, &proof, &leaf(b"x"), &leaf(b"y"));
        }
    }
}
