//! Digests of a small image that needs no compiler: a byte that changes is a decision, not an accident.
//!
//! When one of these fails on purpose, raise the version of the writer that changed and pin the new digests.

mod common;

use common::{Place, output};

#[test]
fn every_form_of_a_small_image_is_pinned() {
    let place = Place::of(&[
        ("l/boards/b.toml", "board = 'b'\nsummary = 's'\narchitecture = 'x86_64'\nboot = 'none'\n"),
        (
            "l/recipes/note/recipe.toml",
            "name = 'note'\nversion = '1'\nsummary = 's'\nlicense = 'MIT'\nmethod = 'copy'\n[[source]]\ndir = 'src'\n",
        ),
        ("l/recipes/note/src/usr/share/note.txt", "Keep clear of the reef.\n"),
        (
            "l/images/forms.toml",
            "image = 'forms'\nversion = '1'\npackages = ['note']\noutputs = ['disk:raw', 'disk:raw.gz', 'disk:raw.zst', 'disk:qcow2', \
             'disk:qcow2-compressed', 'rootfs:tar', 'rootfs:tar.gz', 'rootfs:tar.zst', 'rootfs:ext4', 'initrd:cpio', 'initrd:cpio.gz', \
             'initrd:cpio.xz', 'initrd:cpio.zst', 'initrd:cpio.lz4', 'container:oci', 'container:oci-archive', 'manifest']\n[system]\nhostname = 'golden'\n[users.keeper]\nuid = 1000\ngroups = ['beacon']\n\
             [container]\nuser = 'keeper'\nentrypoint = ['/usr/share/note.txt']\n\
             [disk]\n[[disk.partition]]\nlabel = 'all'\ntype = 'root'\nsize = 'fit'\nfilesystem = 'fat'\nmount = '/'\n\
             [[disk.partition]]\nlabel = 'usr'\ntype = 'usr'\nsize = 'fit+1MiB'\nfilesystem = 'ext4'\nmount = '/usr'\ngrow = true\n",
        ),
    ]);
    let record = place.build(&["forms", "--board", "b"]);
    assert!(record["hostTools"].as_object().unwrap().is_empty(), "it needs no compiler");
    let found: Vec<(String, String)> = record["outputs"]
        .as_array()
        .unwrap()
        .iter()
        .map(|o| (o["output"].as_str().unwrap().to_string(), o["artifact"].as_str().unwrap()[7..19].to_string()))
        .collect();
    let expected = [
        ("disk:raw", "3eb089df4d4f"),
        ("disk:raw.gz", "cad0581f9882"),
        ("disk:raw.zst", "a0c85dbd0c73"),
        ("disk:qcow2", "e6ebe1bb4e95"),
        ("disk:qcow2-compressed", "d1d63717e4d2"),
        ("rootfs:tar", "f454551eab3c"),
        ("rootfs:tar.gz", "7d954409a8a9"),
        ("rootfs:tar.zst", "88b3c05de891"),
        ("rootfs:ext4", "0f81c3ae6b30"),
        ("initrd:cpio", "db59cd3f5fba"),
        ("initrd:cpio.gz", "77f9f44417d0"),
        ("initrd:cpio.xz", "66a3ad6a669f"),
        ("initrd:cpio.zst", "060c19757eee"),
        ("initrd:cpio.lz4", "233e03a62040"),
        ("container:oci", "5c5df602629d"),
        ("container:oci-archive", "beb88b27b8b4"),
        ("manifest", "6a70a5abba29"),
    ];
    let expected: Vec<(String, String)> = expected.iter().map(|(o, d)| (o.to_string(), d.to_string())).collect();
    assert_eq!(found, expected);
    assert_eq!(
        output(&record, ".jsonl")["artifact"],
        output(&record, ".jsonl")["tree"],
        "the manifest's digest is the tree's"
    );
}
