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
            "image = 'forms'\nversion = '1'\npackages = ['note']\noutputs = ['disk:raw', 'rootfs:tar', 'rootfs:tar.gz', 'rootfs:tar.zst', \
             'container:oci', 'container:oci-archive', 'manifest']\n[system]\nhostname = 'golden'\n[users.keeper]\nuid = 1000\ngroups = ['beacon']\n\
             [container]\nuser = 'keeper'\nentrypoint = ['/usr/share/note.txt']\n\
             [disk]\n[[disk.partition]]\nlabel = 'all'\ntype = 'root'\nsize = 'fit'\nfilesystem = 'fat'\nmount = '/'\n",
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
        ("disk:raw", "47fa72234b13"),
        ("rootfs:tar", "10a097563cac"),
        ("rootfs:tar.gz", "17f7e116deb3"),
        ("rootfs:tar.zst", "f358d3d8668a"),
        ("container:oci", "7672dc88af80"),
        ("container:oci-archive", "52a478e5974b"),
        ("manifest", "f79c56dc1bbc"),
    ];
    let expected: Vec<(String, String)> = expected.iter().map(|(o, d)| (o.to_string(), d.to_string())).collect();
    assert_eq!(found, expected);
    assert_eq!(
        output(&record, ".jsonl")["artifact"],
        output(&record, ".jsonl")["tree"],
        "the manifest's digest is the tree's"
    );
}
