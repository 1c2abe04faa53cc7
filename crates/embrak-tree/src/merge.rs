//! Laying trees together.

use crate::{Entry, Tree, TreePath};
use std::collections::BTreeMap;

/// Two sources that want different things at one path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Conflict {
    /// Where.
    pub path: TreePath,
    /// The source that came first.
    pub first: String,
    /// The source that came later and wants something else.
    pub second: String,
    /// What differs, in words: `content`, `mode`, `owner`, `kind` and so on.
    pub differs: Vec<String>,
}

/// The result of a merge: the tree, and which source each path came from.
#[derive(Debug, Default)]
pub struct Merged {
    /// All entries of all sources.
    pub tree: Tree,
    /// For each path the name of the first source that had it.
    pub owners: BTreeMap<TreePath, String>,
}

/// Merges trees as equals: the order of sources does not change the result.
///
/// The same path may come from several sources when the entries are the same; modification times may
/// differ, then the latest counts. Everything else that differs is a conflict.
///
/// # Errors
/// All conflicts, in path order.
pub fn merge<'a>(sources: impl IntoIterator<Item = (&'a str, &'a Tree)>) -> Result<Merged, Vec<Conflict>> {
    let mut merged = Merged::default();
    let mut conflicts = Vec::new();
    for (source, tree) in sources {
        for (path, entry) in tree.iter() {
            let Some(present) = merged.tree.get_mut(path) else {
                merged.tree.insert(path.clone(), entry.clone());
                merged.owners.insert(path.clone(), source.to_string());
                continue;
            };
            let differs = differing_fields(present, entry);
            if differs.is_empty() {
                present.mtime = present.mtime.max(entry.mtime);
            } else {
                conflicts.push(Conflict {
                    path: path.clone(),
                    first: merged.owners.get(path).cloned().unwrap_or_default(),
                    second: source.to_string(),
                    differs,
                });
            }
        }
    }
    if conflicts.is_empty() {
        Ok(merged)
    } else {
        conflicts.sort_by(|a, b| a.path.cmp(&b.path));
        Err(conflicts)
    }
}

fn differing_fields(a: &Entry, b: &Entry) -> Vec<String> {
    let mut fields = Vec::new();
    if a.kind.name() != b.kind.name() {
        fields.push(format!("kind ({} or {})", a.kind.name(), b.kind.name()));
    } else if a.kind != b.kind {
        fields.push("content".to_string());
    }
    if a.mode != b.mode {
        fields.push(format!("mode ({:04o} or {:04o})", a.mode, b.mode));
    }
    if (a.uid, a.gid) != (b.uid, b.gid) {
        fields.push(format!("owner ({}:{} or {}:{})", a.uid, a.gid, b.uid, b.gid));
    }
    if a.xattrs != b.xattrs {
        fields.push("extended attributes".to_string());
    }
    fields
}

/// Lays `top` over `base`: what `top` has replaces what is there. A directory over a directory keeps what
/// is in it; anything else over a directory removes what was in it.
pub fn overlay(base: &mut Tree, top: &Tree) {
    for (path, entry) in top.iter() {
        if !entry.is_directory() && base.get(path).is_some_and(Entry::is_directory) {
            base.remove_below(path);
        }
        base.insert(path.clone(), entry.clone());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Digest;
    use crate::tree::strategies;
    use proptest::prelude::*;

    fn file(path: &str, content: &str) -> Tree {
        [(path.parse().unwrap(), Entry::file(Digest::of(content), content.len() as u64))].into_iter().collect()
    }

    #[test]
    fn different_content_names_both_sources() {
        let (a, b) = (file("/etc/horn", "loud"), file("/etc/horn", "soft"));
        let conflicts = merge([("foghorn", &a), ("foghorn-holm", &b)]).unwrap_err();
        assert_eq!(conflicts.len(), 1);
        assert_eq!((conflicts[0].first.as_str(), conflicts[0].second.as_str()), ("foghorn", "foghorn-holm"));
        assert_eq!(conflicts[0].differs, ["content"]);
    }

    #[test]
    fn same_content_is_no_conflict_and_the_latest_time_counts() {
        let (a, mut b) = (file("/x", "same"), file("/x", "same"));
        b.iter_mut().for_each(|(_, e)| e.mtime = 9);
        let merged = merge([("a", &a), ("b", &b)]).unwrap();
        assert_eq!(merged.tree.iter().next().unwrap().1.mtime, 9);
        assert_eq!(merged.owners.values().next().unwrap(), "a");
    }

    #[test]
    fn a_file_over_a_directory_clears_it() {
        let mut base = file("/d/inside", "x");
        base.add_missing_directories(0);
        overlay(&mut base, &file("/d", "now a file"));
        let paths: Vec<String> = base.iter().map(|(p, _)| p.to_string()).collect();
        assert_eq!(paths, ["/", "/d"]);
    }

    proptest! {
        #[test]
        fn merge_does_not_depend_on_order(a in strategies::tree(), b in strategies::tree(), c in strategies::tree()) {
            let one = merge([("a", &a), ("b", &b), ("c", &c)]).map(|m| m.tree);
            let two = merge([("c", &c), ("b", &b), ("a", &a)]).map(|m| m.tree);
            match (one, two) {
                (Ok(one), Ok(two)) => prop_assert_eq!(one, two),
                (Err(_), Err(_)) => {}
                (one, two) => prop_assert!(false, "{:?} against {:?}", one, two),
            }
        }

        #[test]
        fn merge_with_itself_and_with_nothing_changes_nothing(a in strategies::tree()) {
            prop_assert_eq!(&merge([("a", &a), ("a", &a), ("none", &Tree::new())]).unwrap().tree, &a);
        }

        #[test]
        fn what_is_on_top_wins(a in strategies::tree(), b in strategies::tree()) {
            let mut out = a.clone();
            overlay(&mut out, &b);
            for (path, entry) in b.iter() {
                prop_assert_eq!(out.get(path), Some(entry));
            }
            let mut again = out.clone();
            overlay(&mut again, &b);
            prop_assert_eq!(again, out);
        }
    }
}
