//! What differs between two trees.

use crate::{Entry, Kind, Tree, TreePath};
use serde::Serialize;

/// One path that is not the same in both trees.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// Where.
    pub path: TreePath,
    /// How.
    pub kind: ChangeKind,
}

/// How a path differs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ChangeKind {
    /// Only in the second tree.
    Added(Entry),
    /// Only in the first tree.
    Removed(Entry),
    /// In both, with these fields different.
    Changed {
        /// The entry in the first tree.
        before: Entry,
        /// The entry in the second tree.
        after: Entry,
        /// The fields that differ.
        fields: Vec<FieldChange>,
    },
}

/// One field of an entry with both values in readable form.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FieldChange {
    /// The field: `kind`, `mode`, `uid`, `gid`, `mtime`, `content`, `target`, `device` or `xattr NAME`.
    pub field: String,
    /// Value in the first tree.
    pub before: String,
    /// Value in the second tree.
    pub after: String,
}

/// Everything that has to change to turn `a` into `b`, in path order.
pub fn difference(a: &Tree, b: &Tree) -> Vec<Change> {
    let mut changes = Vec::new();
    let (mut left, mut right) = (a.iter().peekable(), b.iter().peekable());
    loop {
        let order = match (left.peek(), right.peek()) {
            (None, None) => return changes,
            (Some(_), None) => std::cmp::Ordering::Less,
            (None, Some(_)) => std::cmp::Ordering::Greater,
            (Some((p, _)), Some((q, _))) => p.cmp(q),
        };
        let before = if order.is_le() { left.next() } else { None };
        let after = if order.is_ge() { right.next() } else { None };
        let (path, kind) = match (before, after) {
            (Some((path, before)), Some((_, after))) => {
                let fields = fields(before, after);
                if fields.is_empty() {
                    continue;
                }
                (path, ChangeKind::Changed { before: before.clone(), after: after.clone(), fields })
            }
            (Some((path, before)), None) => (path, ChangeKind::Removed(before.clone())),
            (None, Some((path, after))) => (path, ChangeKind::Added(after.clone())),
            (None, None) => return changes,
        };
        changes.push(Change { path: path.clone(), kind });
    }
}

fn fields(a: &Entry, b: &Entry) -> Vec<FieldChange> {
    let mut out = Vec::new();
    let mut push = |field: &str, before: String, after: String| {
        if before != after {
            out.push(FieldChange { field: field.to_string(), before, after });
        }
    };
    push("kind", a.kind.name().into(), b.kind.name().into());
    push("mode", format!("{:04o}", a.mode), format!("{:04o}", b.mode));
    push("uid", a.uid.to_string(), b.uid.to_string());
    push("gid", a.gid.to_string(), b.gid.to_string());
    push("mtime", a.mtime.to_string(), b.mtime.to_string());
    if a.kind.name() == b.kind.name() {
        let (field, show): (&str, fn(&Kind) -> String) = match a.kind {
            Kind::File { .. } => ("content", show_content),
            Kind::Symlink { .. } | Kind::Hardlink { .. } => ("target", show_content),
            _ => ("device", show_content),
        };
        push(field, show(&a.kind), show(&b.kind));
    }
    for name in a.xattrs.keys().chain(b.xattrs.keys().filter(|k| !a.xattrs.contains_key(*k))) {
        let show = |value: Option<&Vec<u8>>| value.map_or("absent".into(), |v| crate::escape_bytes(v));
        push(&format!("xattr {}", crate::escape_bytes(name)), show(a.xattrs.get(name)), show(b.xattrs.get(name)));
    }
    out
}

fn show_content(kind: &Kind) -> String {
    match kind {
        Kind::File { digest, size } => format!("{size} bytes, {digest}"),
        Kind::Symlink { target } => crate::escape_bytes(target),
        Kind::Hardlink { target } => target.to_string(),
        Kind::CharDevice { major, minor } | Kind::BlockDevice { major, minor } => format!("{major}:{minor}"),
        Kind::Directory | Kind::Fifo => String::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Digest;
    use crate::tree::strategies;
    use proptest::prelude::*;

    #[test]
    fn fields_are_named_with_both_values() {
        let mut a = Tree::new();
        a.insert("/f".parse().unwrap(), Entry::file(Digest::of("a"), 1));
        let mut b = a.clone();
        b.get_mut(&"/f".parse().unwrap()).unwrap().mode = 0o600;
        let changes = difference(&a, &b);
        let ChangeKind::Changed { fields, .. } = &changes[0].kind else { panic!() };
        assert_eq!(fields[0], FieldChange { field: "mode".into(), before: "0644".into(), after: "0600".into() });
    }

    proptest! {
        #[test]
        fn difference_turns_one_into_the_other(a in strategies::tree(), b in strategies::tree()) {
            let mut out = a.clone();
            for change in difference(&a, &b) {
                match change.kind {
                    ChangeKind::Removed(_) => { out.remove(&change.path); }
                    ChangeKind::Added(entry) | ChangeKind::Changed { after: entry, .. } => {
                        out.insert(change.path, entry);
                    }
                }
            }
            prop_assert_eq!(&out, &b);
            prop_assert!(difference(&b, &b).is_empty());
            prop_assert_eq!(difference(&a, &b).is_empty(), a.digest() == b.digest());
        }
    }
}
