//! Whole systems: filesystems sized by content, kernels and their initial file systems, finishing steps, and what is said
//! when something is missing.

mod common;

use common::Place;
use embrak_disk::pe;
use embrak_engine::{Content, Filesystem, Wrapping, inspect, open_artifact};
use embrak_tree::{Kind, Tree, TreePath};
use std::path::Path;
use std::process::Command;

const DISK: &str = "[disk]\n[[disk.partition]]\nlabel = 'boot'\ntype = 'esp'\nsize = '40MiB'\nfilesystem = 'fat'\nmount = '/efi'\n\
    [[disk.partition]]\nlabel = 'root'\ntype = 'root'\nsize = 'fit+4MiB'\nfilesystem = 'ext4'\nmount = '/'\ngrow = true\n";

fn board(boot: &str) -> String {
    format!(
        "board = 'b'\nsummary = 's'\narchitecture = 'x86_64'\nboot = '{boot}'\nconsole = 'ttyS0'\nstub = '/usr/lib/stub.efi'\nefi-app = '/usr/lib/stub.efi'\nkernel-args = ['quiet']\n"
    )
}

/// A UEFI program of one section.
fn stub() -> Vec<u8> {
    let mut b = vec![0; 1536];
    let mut put = |at: usize, bytes: &[u8]| b[at..at + bytes.len()].copy_from_slice(bytes);
    put(0, b"MZ");
    put(0x3c, &[0x40]);
    put(0x40, b"PE\0\0\x64\x86\x01\0");
    put(0x54, &240u16.to_le_bytes());
    put(0x58, &0x20bu16.to_le_bytes());
    put(0x58 + 32, &4096u32.to_le_bytes());
    put(0x58 + 36, &512u32.to_le_bytes());
    put(0x58 + 60, &1024u32.to_le_bytes());
    put(0x58 + 68, &10u16.to_le_bytes());
    put(0x58 + 108, &16u32.to_le_bytes());
    let section = 0x58 + 240;
    put(section, b".text");
    for (at, value) in [(8, 300u32), (12, 4096), (16, 512), (20, 1024)] {
        put(section + at, &value.to_le_bytes());
    }
    b
}

/// A workspace with a kernel and a stub that only look like ones.
fn system(boot: &str, image: &str) -> Place {
    let place = Place::of(&[(
        "l/images/i.toml",
        &format!("image = 'i'\nversion = '3'\noverlays = ['overlays/o']\n{image}\n{DISK}"),
    )]);
    place.write("l/boards/b.toml", &board(boot));
    let overlay = place.root().join("l/overlays/o");
    for (path, bytes) in [
        ("boot/vmlinuz-6.1-a", b"old kernel".to_vec()),
        ("boot/vmlinuz-6.10-a", b"kernel".to_vec()),
        ("usr/lib/stub.efi", stub()),
    ] {
        let path = overlay.join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, bytes).unwrap();
    }
    place.write("l/overlays/o/bin/busybox", "#!/bin/false\n");
    place
}

fn text(artifact: &embrak_engine::Artifact, path: &str) -> String {
    String::from_utf8(artifact.find_file(&path.parse().unwrap()).unwrap()).unwrap()
}

#[test]
fn a_unified_kernel_image_is_on_the_disk_and_in_the_container() {
    let place = system(
        "uki",
        "outputs = ['disk:raw', 'disk:qcow2', 'disk:qcow2-compressed', 'disk:raw.zst', 'uki', 'initrd:cpio.zst', 'kernel']\nkernel-args = ['beam=on']\n[initrd]\ninclude = ['/bin/busybox']\n",
    );
    let result = place.build(&["i"]);
    let raw = inspect(&place.output(&result, ".raw").path).unwrap();
    let entry = &raw.summary.boot[0];
    assert_eq!(
        (entry.path.as_str(), entry.kind, entry.kernel.as_str()),
        ("/EFI/BOOT/BOOTX64.EFI", "unified kernel image", "6.10-a")
    );
    let Content::Disk { partitions, .. } = &raw.artifact.content else { panic!() };
    let Some(Filesystem::Ext4(info)) = &partitions[1].filesystem else { panic!() };
    assert_eq!(entry.command_line, format!("root=UUID={} rootfstype=ext4 rw console=ttyS0 quiet beam=on", info.uuid));
    assert_eq!(partitions[1].partition.attributes, 1 << 59);
    assert!(
        text(&raw.artifact, "/etc/fstab")
            .contains(&format!("PARTUUID={} / ext4 defaults,x-systemd.growfs 0 1", partitions[1].partition.guid))
    );
    assert!(text(&raw.artifact, "/usr/lib/repart.d/02-root.conf").contains("Weight=1000"));
    // The same disk in every wrapping.
    let trees = |i: &embrak_engine::Inspection| {
        i.artifact.trees().iter().map(|(p, t)| (p.clone(), t.digest())).collect::<Vec<_>>()
    };
    for (end, compressed) in [("x86_64.qcow2", false), ("compressed.qcow2", true), (".raw.zst", false)] {
        let end = end.replace("x86_64", "b");
        let other = inspect(&place.output(&result, &end).path).unwrap();
        assert_eq!(trees(&other), trees(&raw), "{end}");
        assert_eq!(other.summary.wrappings.len(), 1);
        if let Wrapping::Qcow2(info) = &other.summary.wrappings[0] {
            assert_eq!((info.disk_size, info.compressed > 0), (raw.summary.size, compressed));
        }
        assert_eq!(text(&other.artifact, "/etc/fstab"), text(&raw.artifact, "/etc/fstab"));
    }
    let alone = std::fs::read(&place.output(&result, ".efi").path).unwrap();
    let program = pe::read(&alone).unwrap();
    let names: Vec<&str> = program.sections.iter().map(|s| s.name.as_str()).collect();
    assert_eq!(names, [".text", ".osrel", ".cmdline", ".uname", ".initrd", ".linux"]);
    let initrd = open_artifact(&place.output(&result, ".cpio.zst").path).unwrap();
    let Content::Initrd { parts, tree } = &initrd.content else { panic!() };
    assert_eq!(parts, &["zstd"]);
    assert!(tree.get(&"/bin/busybox".parse().unwrap()).is_some());
    assert!(text(&initrd, "/init").starts_with("#!/bin/busybox sh\n"));
}

#[test]
fn entries_of_a_loader_are_the_other_way() {
    let place = system("entries", "outputs = ['disk:raw']\n");
    let result = place.build(&["i"]);
    let disk = inspect(&place.output(&result, ".raw").path).unwrap();
    let entry = disk.summary.boot.iter().find(|e| e.kind == "loader entry").unwrap();
    assert_eq!((entry.path.as_str(), entry.kernel.as_str()), ("/loader/entries/i-3.conf", "3"));
    assert!(
        entry.command_line.starts_with("root=PARTUUID="),
        "no initial file system looks into filesystems: {}",
        entry.command_line
    );
    assert_eq!(text(&disk.artifact, "/i/3/linux"), "kernel");
}

#[test]
fn what_is_missing_is_named_with_a_next_step() {
    for (boot, image, remove, wanted) in [
        ("uki", "", "usr/lib/stub.efi", "the stub of unified kernel images, /usr/lib/stub.efi, is not in the image i"),
        ("uki", "", "boot", "there is no kernel in the image i"),
        ("entries", "", "usr/lib/stub.efi", "board b starts /usr/lib/stub.efi, which is not in the image"),
        ("uki", "[initrd]\ninclude = ['/bin/nothing']\n", "", "nothing in the image matches `/bin/nothing`"),
        ("uki", "[initrd]\ninclude = ['/boot/*']\n", "", "the initial file system has nothing to start"),
        (
            "uki",
            "[initrd]\ninclude = ['/bin/busybox']\nmodules = ['ext4']\n",
            "",
            "there are no modules of the kernel 6.10-a",
        ),
        ("uki", "[initrd]\nfile = '/boot/initrd'\n", "", "the initial file system /boot/initrd is not in the image"),
        ("none", "[services]\nenable = ['lampd.service']\n", "", "there is no unit lampd.service"),
    ] {
        let place = system(boot, &format!("outputs = ['disk:raw']\n{image}"));
        if !remove.is_empty() {
            let gone = place.root().join("l/overlays/o").join(remove);
            if gone.is_dir() { std::fs::remove_dir_all(gone).unwrap() } else { std::fs::remove_file(gone).unwrap() }
        }
        let said = place.failure(&["i"]);
        assert!(said.contains(wanted), "{wanted}: {said}");
        assert!(said.len() > wanted.len() + 10, "it says what to do: {said}");
    }
}

#[test]
fn content_larger_than_its_partition_names_the_largest_directories() {
    let place = system("none", "outputs = ['disk:raw']\n");
    let image = std::fs::read_to_string(place.root().join("l/images/i.toml")).unwrap();
    place.write("l/images/i.toml", &image.replace("fit+4MiB", "2MiB"));
    let big = place.root().join("l/overlays/o/usr/share/charts");
    std::fs::create_dir_all(&big).unwrap();
    std::fs::write(big.join("sea"), vec![7; 5 << 20]).unwrap();
    let said = place.failure(&["i"]);
    assert!(said.contains("partition `root`") && said.contains("more than there are"), "{said}");
    assert!(said.contains("the largest directories are /usr/share/charts 5 MiB"), "{said}");
    let four_gib = image.replace("'ext4'", "'fat'").replace("type = 'root'", "type = 'moon'");
    place.write("l/images/i.toml", &four_gib);
    assert!(place.failure(&["i"]).contains("no partition type `moon`"), "{}", place.failure(&["i"]));
}

#[test]
fn a_master_boot_record_is_written_and_raw_bytes_must_not_hit_it() {
    let place = system("none", "outputs = ['disk:raw']\n");
    let image = std::fs::read_to_string(place.root().join("l/images/i.toml")).unwrap();
    place.write(
        "l/images/i.toml",
        &image
            .replace("[disk]", "[disk]\ntable = 'mbr'")
            .replace("size = '40MiB'", "size = '40MiB'\nattributes = ['legacy-boot']"),
    );
    let raw = |offset: &str| board("none") + &format!("[[raw]]\noffset = '{offset}'\nfrom = '/usr/lib/stub.efi'\n");
    place.write("l/boards/b.toml", &raw("8KiB"));
    let result = place.build(&["i"]);
    let disk = inspect(&place.output(&result, ".raw").path).unwrap();
    assert_eq!(disk.summary.inside["table"], "mbr");
    assert_eq!(disk.summary.inside["partitions"].as_array().unwrap().len(), 2);
    assert_eq!(disk.artifact.trees().len(), 2);
    place.write("l/boards/b.toml", &raw("0B"));
    let said = place.failure(&["i"]);
    assert!(said.contains("overlaps the partition table"), "{said}");
}

#[test]
fn files_out_of_templates_and_overlays_out_of_archives() {
    let place = Place::of(&[
        (
            "l/images/i.toml",
            "image = 'i'\noutputs = ['rootfs:tar']\noverlays = ['overlays/a.tar']\n[groups.light]\ngid = 77\n\
            [[file]]\npath = '/etc/a'\nfrom = 'files/a'\ntemplate = true\nowner = ':light'\n[[file]]\npath = '/etc/b'\nfrom = 'files/a'\n\
            [system]\nsysctl = { 'kernel.panic' = '5' }\nmodules = ['loop']\n",
        ),
        ("l/files/a", "station ${station} costs $${x}\n"),
    ]);
    place.write(
        "embrak.toml",
        "workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = ['l']\n[params]\nstation = 'holm'\n",
    );
    let archive = place.root().join("l/overlays/a.tar");
    std::fs::create_dir_all(archive.parent().unwrap()).unwrap();
    let mut tree = Tree::new();
    let blobs = embrak_tree::MemoryBlobs::default();
    let (digest, size) = blobs.add("owned");
    let mut entry = embrak_tree::Entry::file(digest, size).dated(4_000_000_000);
    (entry.uid, entry.mode) = (123, 0o4711);
    tree.insert("/srv/x".parse().unwrap(), entry);
    embrak_tree::tar::write_tree(
        &tree,
        embrak_tree::tar::Version::default(),
        &blobs,
        std::fs::File::create(&archive).unwrap(),
    )
    .unwrap();
    let result = place.with(|engine| {
        let mut options = place.options(&["i"]);
        options.selection.board = None;
        embrak_engine::build(engine, &options)
    });
    let result = result.unwrap_or_else(|e| panic!("{e}: {}", e.help()));
    let artifact = open_artifact(&place.output(&result, ".tar").path).unwrap();
    assert_eq!(text(&artifact, "/etc/a"), "station holm costs ${x}\n");
    assert_eq!(text(&artifact, "/etc/b"), "station ${station} costs $${x}\n");
    assert_eq!(text(&artifact, "/etc/sysctl.d/50-image.conf"), "kernel.panic = 5\n");
    assert_eq!(text(&artifact, "/etc/modules-load.d/image.conf"), "loop\n");
    let trees = artifact.trees();
    let owned = trees[0].1.get(&"/srv/x".parse().unwrap()).unwrap();
    assert_eq!((owned.uid, owned.mode, owned.mtime), (123, 0o4711, 1_772_323_200), "nothing is newer than the epoch");
    place.write("l/overlays/a.tar", "this is no archive, whatever its name says");
    assert!(place.failure(&["i"]).contains("neither a directory nor a tar archive"));
}

/// Puts a program of this machine with all it needs into an overlay.
fn with_programs(place: &Place, programs: &[&str]) -> bool {
    let overlay = place.root().join("l/overlays/o");
    for program in programs {
        let Ok(output) = Command::new("ldd").arg(program).output() else { return false };
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        let libraries = text.split_whitespace().filter(|w| w.starts_with('/'));
        for file in libraries.chain([*program]) {
            let real = std::fs::canonicalize(file).unwrap();
            let to = overlay.join(file.trim_start_matches('/'));
            std::fs::create_dir_all(to.parent().unwrap()).unwrap();
            std::fs::copy(real, to).unwrap();
        }
    }
    Path::new("/bin/sh").exists()
}

#[test]
fn finishing_steps_run_inside_the_root_and_are_kept_one_by_one() {
    let step = |second: &str| {
        format!(
            "image = 'i'\noutputs = ['rootfs:tar']\noverlays = ['overlays/o']\n\
            [[finish]]\nrun = 'echo first $IMAGE_ID > /etc/one; ln /etc/one /etc/same; rm /srv/gone'\n[[finish]]\nrun = '{second}'\n"
        )
    };
    let place = Place::of(&[
        ("l/images/i.toml", &step("cat /etc/one > /srv/two")),
        ("l/overlays/o/srv/gone", "x"),
        ("l/overlays/o/srv/kept", "x"),
    ]);
    place.write("l/overlays/o/etc/owned", "x");
    if !with_programs(&place, &["/bin/sh", "/bin/ln", "/bin/rm", "/bin/cat"]) {
        return;
    }
    let result = place.build(&["i"]);
    let artifact = open_artifact(&place.output(&result, ".tar").path).unwrap();
    assert_eq!(text(&artifact, "/srv/two"), "first i\n");
    let trees = artifact.trees();
    let get = |path: &str| trees[0].1.get(&path.parse::<TreePath>().unwrap());
    assert!(get("/srv/gone").is_none() && get("/srv/kept").is_some() && get("/.embrak-script").is_none());
    assert!(matches!(get("/etc/same").unwrap().kind, Kind::Hardlink { .. }));
    assert!(trees[0].1.iter().all(|(_, e)| e.mtime <= 1_772_323_200));
    // Another second step: the first is not run again.
    let started = |place: &Place| {
        place
            .heard
            .0
            .lock()
            .unwrap()
            .iter()
            .filter(|e| matches!(e, embrak_engine::Event::Started(l) if l.contains("finish")))
            .count()
    };
    assert_eq!(started(&place), 2);
    place.write("l/images/i.toml", &step("exit 3"));
    let said = place.failure(&["i"]);
    assert!(said.contains("finish 2 (l/images/i.toml:") && said.contains("ended with status 3"), "{said}");
    assert_eq!(started(&place), 3);
    place.write("l/images/i.toml", &(step("while :; do :; done") + "time-limit = '1s'\n"));
    assert!(place.failure(&["i"]).contains("took longer than the 1 seconds of its limit"));
}

#[test]
fn nothing_of_another_architecture_is_run() {
    let place = Place::of(&[
        ("l/images/i.toml", "image = 'i'\noutputs = ['rootfs:tar']\n[[finish]]\nrun = 'true'\n"),
        ("l/boards/b.toml", "board = 'b'\nsummary = 's'\narchitecture = 'riscv64'\nboot = 'none'\n"),
    ]);
    let image = std::fs::read_to_string(place.root().join("l/images/i.toml")).unwrap();
    place.write(
        "l/images/i.toml",
        &format!("{image}[disk]\n[[disk.partition]]\nlabel = 'r'\ntype = 'root'\nsize = '8MiB'\nfilesystem = 'ext4'\n"),
    );
    let said = place.failure(&["i"]);
    assert!(said.contains("is for riscv64") && said.contains("declared"), "{said}");
    let events = place.heard.0.lock().unwrap();
    let begun = events.iter().any(|e| matches!(e, embrak_engine::Event::Started(_)));
    assert!(!begun, "it is told before anything is built");
}
