//! Scripts of packages followed, and the database as the package tool reads it.

use embrak_root::{Accounts, Installed, PackageScripts, Report, Root, apply, caches, settle, write_database};
use embrak_tree::{Entry, Kind, MemoryBlobs, Tree, TreePath};
use std::process::Command;

fn path(text: &str) -> TreePath {
    text.parse().unwrap()
}

fn tree(blobs: &MemoryBlobs, files: &[(&str, &str)]) -> Tree {
    let mut tree = Tree::new();
    for (at, text) in files {
        let (digest, size) = blobs.add(*text);
        tree.insert(path(at), Entry::file(digest, size).dated(7));
    }
    tree.add_missing_directories(7);
    tree
}

fn followed<'a>(blobs: &'a MemoryBlobs, files: Tree, postinst: &str, preinst: &str) -> (Root<'a>, Accounts, Report) {
    let mut root = Root::new(files.clone(), blobs, 9);
    let mut accounts = Accounts::read(&root).unwrap();
    let script = |text: &str| (!text.is_empty()).then(|| format!("#!/bin/sh\nset -e\n{text}\n"));
    let packages = [PackageScripts {
        package: "lamp",
        architecture: "amd64",
        tree: &files,
        preinst: script(preinst),
        postinst: script(postinst),
        templates: Some(
            "Template: lamp/colour\nType: string\nDefault: white\n\nTemplate: lamp/x\nType: boolean\n".into(),
        ),
    }];
    let report = settle(&mut root, &mut accounts, &packages).unwrap();
    accounts.write(&mut root).unwrap();
    apply(&mut root, &report).unwrap();
    (root, accounts, report)
}

#[test]
fn what_scripts_usually_do_is_done() {
    let blobs = MemoryBlobs::default();
    let files = tree(
        &blobs,
        &[
            ("/etc/group", "root:x:0:\nadm:x:4:\n"),
            ("/etc/passwd", "root:x:0:0:root:/root:/bin/sh\n"),
            ("/usr/bin/lamp.bright", "b"),
            ("/usr/bin/lamp.dim", "d"),
            ("/usr/share/man/lamp.1", "m"),
            ("/usr/share/lamp/default.conf", "colour = white\n"),
            ("/usr/bin/other", "theirs"),
            ("/usr/lib/systemd/system/lampd.service", "[Install]\nWantedBy=multi-user.target\n"),
        ],
    );
    let script = r#"
. /usr/share/debconf/confmodule
USER_NAME=lampkeeper
install_conf() {
    if [ ! -e "$DPKG_ROOT$2" ]; then
        cp -p "/usr/share/lamp/$1" "$2"
    fi
}
case "$1" in
configure)
    getent passwd $USER_NAME > /dev/null || adduser --quiet --system --group --home /var/lib/lamp --no-create-home "$USER_NAME"
    adduser $USER_NAME adm
    install -d -o $USER_NAME -g $USER_NAME -m 0750 /var/lib/lamp
    install_conf default.conf /etc/lamp.conf
    db_get lamp/colour
    echo "colour $RET" > /etc/lamp.colour
    if dpkg --compare-versions "$2" lt-nl 1.0; then rm -f /etc/lamp.conf; fi
    if [ -n "$2" ] && [ -d /run/systemd/system ]; then systemctl daemon-reload; fi
    for kind in bright dim; do
        [ "$kind" = bright ] && priority=50 || priority=10
        update-alternatives --install /usr/bin/lamp lamp /usr/bin/lamp.$kind $priority \
            --slave /usr/share/man/lamp-link.1 lamp.1 /usr/share/man/lamp.1
    done
    chmod u+s,go-r /usr/bin/lamp.dim && chgrp adm /usr/bin/lamp.dim
    setcap cap_net_raw+ep /usr/bin/lamp.bright
    ln -sf ../lamp.conf /etc/lamp/link || true
    if deb-systemd-helper --quiet was-enabled 'lampd.service'; then
        deb-systemd-helper enable 'lampd.service' >/dev/null || true
    fi
    tmp=$(mktemp)
    cp /usr/share/lamp/default.conf "$tmp"
    ucf --three-way "$tmp" /etc/lamp.ucf
    rm -f "$tmp"
    ;;
abort-*) exit 1 ;;
esac
"#;
    let before = "dpkg-divert --package lamp --rename --divert /usr/bin/other.theirs --add /usr/bin/other";
    let mut files_of_lamp = files.clone();
    files_of_lamp.remove(&path("/usr/bin/other"));
    let mut root = Root::new(files.clone(), &blobs, 9);
    let mut accounts = Accounts::read(&root).unwrap();
    let packages = [PackageScripts {
        package: "lamp",
        architecture: "amd64",
        tree: &files_of_lamp,
        preinst: Some(format!("#!/bin/sh\n{before}\n")),
        postinst: Some(format!("#!/bin/sh\nset -e{script}")),
        templates: Some("Template: lamp/colour\nDefault: white\n".into()),
    }];
    let report = settle(&mut root, &mut accounts, &packages).unwrap();
    accounts.write(&mut root).unwrap();
    apply(&mut root, &report).unwrap();
    assert!(report.left.is_empty(), "{:?}", report.left);

    let user = accounts.user("lampkeeper").unwrap().clone();
    assert_eq!((user.uid, user.home.as_str()), (user.gid, "/var/lib/lamp"));
    assert_eq!(accounts.group("adm").unwrap().members, ["lampkeeper"]);
    let home = root.entry("/var/lib/lamp").unwrap();
    assert_eq!((home.mode, home.uid, home.gid), (0o750, user.uid, user.gid));
    assert_eq!(root.text("/etc/lamp.conf").unwrap(), "colour = white\n");
    assert_eq!(root.entry("/etc/lamp.conf").unwrap().mtime, 7, "cp -p keeps the time");
    assert_eq!(root.text("/etc/lamp.colour").unwrap(), "colour white\n");
    assert_eq!(root.text("/etc/lamp.ucf").unwrap(), "colour = white\n");
    assert_eq!(root.resolve("/usr/bin/lamp", true).unwrap(), path("/usr/bin/lamp.bright"));
    assert_eq!(root.resolve("/usr/share/man/lamp-link.1", true).unwrap(), path("/usr/share/man/lamp.1"));
    let dim = root.entry("/usr/bin/lamp.dim").unwrap();
    assert_eq!((dim.mode, dim.gid), (0o4600, 4));
    assert_eq!(
        root.entry("/usr/bin/lamp.bright").unwrap().xattrs[b"security.capability".as_slice()][4..8],
        [0, 0x20, 0, 0]
    );
    assert!(root.entry("/usr/bin/other").is_none());
    assert_eq!(root.text("/usr/bin/other.theirs").unwrap(), "theirs");
    assert_eq!(
        root.resolve("/etc/systemd/system/multi-user.target.wants/lampd.service", true).unwrap(),
        path("/usr/lib/systemd/system/lampd.service")
    );
    assert!(root.list("/tmp").is_empty());
}

#[test]
fn what_cannot_be_known_is_listed_and_not_done() {
    let blobs = MemoryBlobs::default();
    let files = tree(&blobs, &[("/usr/bin/lamp", "b")]);
    let script = r#"
if [ "$(uname -m)" = x86_64 ]; then
    chmod 4755 /usr/bin/lamp
else
    chmod 0700 /usr/bin/lamp
fi
while read -r line; do useradd "$line"; done < /etc/lamps
some-tool --make | grep -q done && ln -s a /etc/b
sed -i s/a/b/ /usr/bin/lamp
"#;
    let (root, _, report) = followed(&blobs, files, script, "");
    assert_eq!(root.entry("/usr/bin/lamp").unwrap().mode, 0o644);
    let left: Vec<&str> = report.left.iter().map(|l| l.what.as_str()).collect();
    for wanted in
        ["chmod, under a condition", "useradd, under a condition", "ln, under a condition", "sed of /usr/bin/lamp"]
    {
        assert!(left.iter().any(|l| l.starts_with(wanted)), "{wanted} in {left:?}");
    }
    // What is no script of the shell is not guessed at.
    let (_, _, report) = followed(&blobs, tree(&blobs, &[]), "if true; then", "");
    assert!(report.left.iter().any(|l| l.what.contains("cannot be followed")), "{:?}", report.left);
}

#[test]
fn scripts_that_do_not_end_are_given_up() {
    let blobs = MemoryBlobs::default();
    let endless = "again() { again; again; }\nagain\necho x > /etc/x";
    let (_, _, report) = followed(&blobs, tree(&blobs, &[]), endless, "");
    assert!(report.left.iter().any(|l| l.what.contains("20000")), "{:?}", report.left);
}

#[test]
fn links_that_go_in_a_circle_are_an_error() {
    let blobs = MemoryBlobs::default();
    let mut files = Tree::new();
    files.insert(path("/a"), Entry::symlink("b"));
    files.insert(path("/b"), Entry::symlink("a"));
    let root = Root::new(files, &blobs, 0);
    assert!(root.resolve("/a/x", true).unwrap_err().to_string().contains("circle"));
    assert_eq!(root.resolve("/../x/./y", true).unwrap(), path("/x/y"));
}

#[test]
fn the_package_tool_reads_the_database() {
    let blobs = MemoryBlobs::default();
    let files = tree(&blobs, &[("/etc/lamp.conf", "white\n"), ("/usr/bin/lamp", "b")]);
    let control = tree(
        &blobs,
        &[
            (
                "/control",
                "Package: lamp\nVersion: 2.0-1\nArchitecture: all\nMaintainer: Nobody <nobody@example.invalid>\nDescription: a lamp\n that shines\n",
            ),
            ("/conffiles", "/etc/lamp.conf\n"),
            ("/md5sums", "92eb5ffee6ae2fec3ad71c777531578f  usr/bin/lamp\n"),
            ("/postinst", "#!/bin/sh\n"),
            ("/triggers", "interest-noawait /usr/share/lamps\ninterest glow\n"),
        ],
    );
    let mut root = Root::new(files.clone(), &blobs, 9);
    write_database(&mut root, &[Installed { name: "lamp", files: &files, control: &control }], &Report::default())
        .unwrap();
    caches(&mut root, &mut Report::default()).unwrap();
    assert!(root.text("/var/lib/dpkg/status").unwrap().contains("Conffiles:\n /etc/lamp.conf "));
    assert_eq!(root.entry("/var/lib/dpkg/info/lamp.postinst").unwrap().mode, 0o755);
    assert_eq!(root.text("/var/lib/dpkg/triggers/File").unwrap(), "/usr/share/lamps lamp/noawait\n");
    let dir = tempfile::tempdir().unwrap();
    for (at, entry) in root.tree.iter() {
        let host = dir.path().join(String::from_utf8_lossy(at.relative()).as_ref());
        match &entry.kind {
            Kind::Directory => std::fs::create_dir_all(host).unwrap(),
            Kind::File { digest, .. } => {
                std::fs::create_dir_all(host.parent().unwrap()).unwrap();
                std::fs::write(host, embrak_tree::BlobSource::read(&blobs, digest).unwrap()).unwrap();
            }
            _ => {}
        }
    }
    let base = dir.path().join("var/lib/dpkg");
    let base = base.to_string_lossy();
    let run = |program: &str, args: &[&str]| match Command::new(program).args(args).output() {
        Ok(output) => {
            Some(String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr))
        }
        Err(error) => {
            assert!(std::env::var_os("EMBRAK_REQUIRE_JUDGES").is_none(), "{program} is missing: {error}");
            None
        }
    };
    let Some(said) = run("dpkg-query", &["--admindir", &base, "-W"]) else { return };
    assert_eq!(said, "lamp\t2.0-1\n");
    assert_eq!(run("dpkg-query", &["--admindir", &base, "-S", "/usr/bin/lamp"]).unwrap(), "lamp: /usr/bin/lamp\n");
    let root_option = format!("--root={}", dir.path().display());
    assert_eq!(run("dpkg", &[&root_option, "--verify"]).unwrap(), "");
    std::fs::write(dir.path().join("usr/bin/lamp"), "tampered").unwrap();
    assert!(run("dpkg", &[&root_option, "--verify"]).unwrap().contains("/usr/bin/lamp"));
}
