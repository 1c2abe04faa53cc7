//! Archives that the system's tar made, read by ours; and ours, read by it.

use embrak_tree::{BlobSource, Digest, Entry, Kind, MemoryBlobs, Tree, TreePath, tar};
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;
use std::process::Command;

fn system_tar(args: &[&str], dir: &Path) -> Option<Vec<u8>> {
    match Command::new("tar").args(args).current_dir(dir).env("TZ", "UTC").env("LC_ALL", "C.UTF-8").output() {
        Ok(output) => {
            assert!(output.status.success(), "tar {args:?}: {}", String::from_utf8_lossy(&output.stderr));
            Some(output.stdout)
        }
        Err(error) => {
            assert!(std::env::var_os("EMBRAK_REQUIRE_JUDGES").is_none(), "tar is missing: {error}");
            eprintln!("skipped: there is no tar");
            None
        }
    }
}

#[test]
fn archives_of_every_dialect_are_read() {
    let dir = tempfile::tempdir().unwrap();
    let root = dir.path().join("root");
    let long = format!("{}/{}", "directory-with-a-long-name".repeat(5), "f".repeat(120));
    fs::create_dir_all(root.join(&long).parent().unwrap()).unwrap();
    fs::write(root.join(&long), "deep").unwrap();
    fs::write(root.join("plain"), vec![b'p'; 1000]).unwrap();
    fs::set_permissions(root.join("plain"), fs::Permissions::from_mode(0o4751)).unwrap();
    fs::hard_link(root.join("plain"), root.join("twin")).unwrap();
    symlink("t".repeat(150), root.join("link")).unwrap();
    fs::write(root.join("größe"), "").unwrap();
    for format in ["gnu", "pax"] {
        let args = [
            "--format",
            format,
            "--sort=name",
            "--owner=lamp:1234",
            "--group=beacon:4321",
            "--mtime=@1772323200",
            "-cf",
            "-",
            "-C",
            "root",
            ".",
        ];
        let Some(archive) = system_tar(&args, dir.path()) else { return };
        let blobs = MemoryBlobs::default();
        let tree = tar::read_tree(&archive[..], &blobs).unwrap();
        let get = |path: &str| tree.get(&path.parse().unwrap()).unwrap_or_else(|| panic!("{format}: no {path}"));
        assert_eq!(get(&format!("/{long}")).kind, Kind::File { digest: Digest::of("deep"), size: 4 }, "{format}");
        let plain = get("/plain");
        assert_eq!((plain.mode, plain.uid, plain.gid, plain.mtime), (0o4751, 1234, 4321, 1_772_323_200), "{format}");
        assert_eq!(get("/twin").kind, Kind::Hardlink { target: "/plain".parse().unwrap() }, "{format}");
        assert_eq!(get("/link").kind, Kind::Symlink { target: vec![b't'; 150] }, "{format}");
        assert_eq!(get("/größe").kind, Kind::File { digest: Digest::of(""), size: 0 }, "{format}");
        assert_eq!(blobs.read(&Digest::of(vec![b'p'; 1000])).unwrap().len(), 1000);
        assert!(get("/").is_directory());
    }
}

#[test]
fn archives_of_ours_are_listed_and_unpacked_by_the_system() {
    let blobs = MemoryBlobs::default();
    let mut tree = Tree::new();
    let mut put = |path: &str, content: &str, mode: u32| {
        let (digest, size) = blobs.add(content);
        let mut entry = Entry::file(digest, size).dated(1_772_323_200);
        (entry.mode, entry.uid, entry.gid) = (mode, 7, 3_000_000);
        tree.insert(path.parse().unwrap(), entry);
    };
    put("/bin/lampd", "#!/bin/sh\n", 0o755);
    put(&format!("/{}/{}", "a".repeat(200), "b".repeat(200)), "long", 0o600);
    put("/größe", "utf-8", 0o644);
    tree.insert("/bin/lamp".parse().unwrap(), Entry::symlink("lampd").dated(1_772_323_200));
    tree.insert(
        "/bin/twin".parse().unwrap(),
        Entry::new(Kind::Hardlink { target: "/bin/lampd".parse().unwrap() }, 0o755).dated(1_772_323_200),
    );
    tree.insert("/pipe".parse().unwrap(), Entry::new(Kind::Fifo, 0o600));
    tree.add_missing_directories(1_772_323_200);

    let dir = tempfile::tempdir().unwrap();
    fs::write(dir.path().join("a.tar"), tar::write_tree(&tree, tar::Version::default(), &blobs, Vec::new()).unwrap())
        .unwrap();
    let Some(listed) = system_tar(&["--numeric-owner", "-tvf", "a.tar"], dir.path()) else { return };
    let listed = String::from_utf8(listed).unwrap();
    assert_eq!(listed.lines().count(), tree.len(), "{listed}");
    assert!(listed.contains("-rwxr-xr-x 7/3000000"), "{listed}");
    assert!(listed.contains("2026-03-01 00:00 bin/lamp -> lampd"), "{listed}");
    assert!(listed.contains("bin/twin link to bin/lampd"), "{listed}");
    fs::create_dir(dir.path().join("out")).unwrap();
    system_tar(&["--no-same-owner", "-xf", "a.tar", "-C", "out"], dir.path());
    assert_eq!(fs::read(dir.path().join("out/größe")).unwrap(), b"utf-8");
    assert_eq!(fs::read(dir.path().join(format!("out/{}/{}", "a".repeat(200), "b".repeat(200)))).unwrap(), b"long");
}

#[test]
fn an_archive_cannot_link_to_what_is_not_in_it() {
    let entry = Entry::new(Kind::Hardlink { target: TreePath::new("/etc/shadow").unwrap() }, 0o644);
    let mut archive = tar::ArchiveWriter::new(Vec::new());
    archive.entry(b"mine", &entry, &mut std::io::empty()).unwrap();
    let error = tar::read_tree(&archive.finish().unwrap()[..], &MemoryBlobs::default()).unwrap_err().to_string();
    assert!(error.contains("/mine is a hard link to /etc/shadow, which is not a file before it"), "{error}");
}

#[test]
fn a_file_that_changes_while_it_is_archived_is_an_error() {
    for wrong in ["short", "much longer"] {
        let mut archive = tar::ArchiveWriter::new(Vec::new());
        let entry = Entry::file(Digest::of(""), 7);
        let error = archive.entry(b"f", &entry, &mut wrong.as_bytes()).unwrap_err().to_string();
        assert!(error.contains("changed while it was archived"), "{error}");
    }
}
