//! `/bin`, `/sbin` and `/lib*` as links into `/usr`, whatever packages still bring there.

use embrak_tree::{Entry, Kind, Tree, TreePath};

const MERGED: [&str; 7] = ["bin", "sbin", "lib", "lib32", "lib64", "libo32", "libx32"];

/// Moves what lies in the old directories below `/usr` and makes links of them. A file that is in both places keeps
/// what `/usr` has, unless that is a link to the other. Does nothing when all is so already.
pub fn merge_usr(tree: &mut Tree, epoch: i64) {
    for name in MERGED {
        let Ok(old) = TreePath::new(format!("/{name}")) else { continue };
        let Some(entry) = tree.get(&old) else { continue };
        if !entry.is_directory() {
            continue;
        }
        let moved: Vec<(TreePath, Entry)> = tree.below(&old).map(|(p, e)| (p.clone(), e.clone())).collect();
        tree.remove_below(&old);
        for (path, entry) in moved {
            let Ok(new) = TreePath::new([b"/usr", path.as_bytes()].concat()) else { continue };
            let to_old = |e: &Entry| matches!(&e.kind, Kind::Symlink { target } if target == path.as_bytes());
            match tree.get(&new) {
                Some(there) if !to_old(there) => {}
                _ => {
                    tree.insert(new, entry);
                }
            }
        }
        tree.insert(old, Entry::symlink(format!("usr/{name}")).dated(epoch));
    }
    // Other names of files have moved with them.
    let merged = |target: &TreePath| {
        let first = target.relative().split(|b| *b == b'/').next().unwrap_or_default();
        MERGED.iter().any(|m| m.as_bytes() == first)
    };
    for (_, entry) in tree.iter_mut() {
        if let Kind::Hardlink { target } = &mut entry.kind
            && merged(target)
            && let Ok(new) = TreePath::new([b"/usr", target.as_bytes()].concat())
        {
            *target = new;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use embrak_tree::Digest;

    #[test]
    fn files_move_and_links_between_the_two_places_are_dropped() {
        let file = |text: &str| Entry::file(Digest::of(text), 1);
        let mut tree: Tree = [
            ("/bin", Entry::directory()),
            ("/bin/sh", Entry::symlink("dash")),
            ("/bin/which", Entry::symlink("/usr/bin/which")),
            ("/bin/ls", file("ls")),
            ("/usr", Entry::directory()),
            ("/usr/bin", Entry::directory()),
            ("/usr/bin/ls", Entry::symlink("/bin/ls")),
            ("/usr/bin/which", file("which")),
            ("/usr/bin/dir", Entry::new(Kind::Hardlink { target: "/bin/ls".parse().unwrap() }, 0o755)),
        ]
        .into_iter()
        .map(|(p, e)| (p.parse().unwrap(), e))
        .collect();
        merge_usr(&mut tree, 7);
        let kind = |p: &str| tree.get(&p.parse().unwrap()).unwrap().kind.clone();
        assert_eq!(kind("/bin"), Kind::Symlink { target: b"usr/bin".to_vec() });
        assert_eq!(kind("/usr/bin/ls"), file("ls").kind);
        assert_eq!(kind("/usr/bin/which"), file("which").kind);
        assert_eq!(kind("/usr/bin/sh"), Kind::Symlink { target: b"dash".to_vec() });
        assert_eq!(kind("/usr/bin/dir"), Kind::Hardlink { target: "/usr/bin/ls".parse().unwrap() });
        let again = tree.clone();
        merge_usr(&mut tree, 9);
        assert_eq!(tree, again);
    }
}
