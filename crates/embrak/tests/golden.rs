//! Digests of a small image that needs no compiler: a byte that changes is a decision, not an accident.
//!
//! When one of these fails on purpose, raise the version of the writer that changed and pin the new digests.

mod common;

use common::{Place, output};
use serde_json::Value;

/// An image in every form.
fn forms() -> Place {
    Place::of(&[
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
    ])
}

/// Its forms with the beginnings of their digests.
fn digests(record: &Value) -> Vec<(&str, &str)> {
    let outputs = record["outputs"].as_array().unwrap();
    outputs.iter().map(|o| (o["output"].as_str().unwrap(), &o["artifact"].as_str().unwrap()[7..19])).collect()
}

#[test]
fn every_form_of_a_small_image_is_pinned() {
    let record = forms().build(&["forms", "--board", "b"]);
    assert!(record["hostTools"].as_object().unwrap().is_empty(), "it needs no compiler");
    let expected = [
        ("disk:raw", "b2a4ad3d86d5"),
        ("disk:raw.gz", "a59b984b6a64"),
        ("disk:raw.zst", "232df231b9bb"),
        ("disk:qcow2", "547d592daf85"),
        ("disk:qcow2-compressed", "bf06d2f8e95f"),
        ("rootfs:tar", "cbb47ab56a82"),
        ("rootfs:tar.gz", "6c289de13c8d"),
        ("rootfs:tar.zst", "12f8e1968f70"),
        ("rootfs:ext4", "725565bc60dc"),
        ("initrd:cpio", "b5af166db467"),
        ("initrd:cpio.gz", "60009669da6c"),
        ("initrd:cpio.xz", "b2e9ef518618"),
        ("initrd:cpio.zst", "0d437aa82d00"),
        ("initrd:cpio.lz4", "6617333bb9a0"),
        ("container:oci", "de1188955dcb"),
        ("container:oci-archive", "7ffbb7756fe0"),
        ("manifest", "b5df95a41c53"),
    ];
    assert_eq!(digests(&record), expected);
    assert_eq!(
        output(&record, ".jsonl")["artifact"],
        output(&record, ".jsonl")["tree"],
        "the manifest's digest is the tree's"
    );
}

/// What the program wrote when its archives were of version 1.
const WITH_TAR_1: [(&str, &str); 17] = [
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

#[test]
fn what_an_older_writer_made_is_made_again_byte_for_byte() {
    let place = forms();
    place.run(&["lock", "forms", "--board", "b"]).expect(0);
    let now = place.read("embrak.lock");
    let with = |version: u32| place.write("embrak.lock", &now.replace("tar = 2\n", &format!("tar = {version}\n")));
    with(1);
    // A lock that is kept keeps its writers.
    let record = place.build(&["forms", "--board", "b"]);
    assert_eq!(digests(&record), WITH_TAR_1);
    assert!(place.read("embrak.lock").contains("tar = 1\n"));
    let again = place.run(&["reproduce", "--json"]).expect(0).json();
    assert!(again["outputs"].as_array().unwrap().iter().all(|o| o["identical"] == true), "{again}");
    assert_eq!(again["writers"]["tar"], 1, "{again}");

    let moved = place.run(&["lock", "forms", "--board", "b", "--update=writers"]).expect(0);
    assert!(moved.out.contains("tar 1 -> 2"), "{}", moved.out);
    assert_ne!(digests(&place.build(&["forms", "--board", "b"])), WITH_TAR_1);

    with(3);
    place
        .run(&["build", "forms", "--board", "b"])
        .expect(1)
        .says(&["wants writers this Embrak does not have: tar 3 (this Embrak has 1 to 2)", "--update=writers"]);
}
