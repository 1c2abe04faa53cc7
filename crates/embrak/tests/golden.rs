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
    let expected: Vec<(String, String)> = expected.iter().map(|(o, d)| (o.to_string(), d.to_string())).collect();
    assert_eq!(found, expected);
    assert_eq!(
        output(&record, ".jsonl")["artifact"],
        output(&record, ".jsonl")["tree"],
        "the manifest's digest is the tree's"
    );
}
