//! Our own repositories: published into a directory, read over HTTP.

use embrak_fixtures::{Fault, Server};
use embrak_repo::{FetchEvent, FetchItem, Fetcher, OwnRepository, PackageHead, Repository, publish};
use embrak_resolve::Catalog;
use embrak_store::Store;
use embrak_tree::{Entry, MemoryBlobs, Tree, TreePath};
use embrak_trust::SigningKey;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

static STOP: AtomicBool = AtomicBool::new(false);
const DATE: &str = "2026-03-01T00:00:00Z";

fn quiet(_: FetchEvent<'_>) {}

fn fetcher() -> Fetcher<'static> {
    Fetcher::new(&quiet, &STOP).back_off(Duration::from_millis(5))
}

fn package(name: &str, version: &str, content: &str, blobs: &MemoryBlobs) -> (PackageHead, Tree) {
    let (digest, size) = blobs.add(content);
    let path: TreePath = format!("/usr/bin/{name}").parse().unwrap();
    let mut tree: Tree = [(path, Entry::file(digest, size))].into_iter().collect();
    tree.add_missing_directories(0);
    let head = PackageHead {
        embrak_package: PackageHead::FORMAT,
        name: name.into(),
        version: version.into(),
        architecture: "x86_64".into(),
        summary: format!("The {name}"),
        license: "MIT".into(),
        requires: vec!["libgauge >= 0.3, < 1".into(), "syslog | journal".into()],
        provides: vec!["gauge-logger = 2".into()],
        conflicts: vec![],
        tree: tree.digest(),
        size,
        files: 1,
    };
    (head, tree)
}

fn repository(url: &str, key: &SigningKey) -> OwnRepository {
    OwnRepository {
        name: "holm".into(),
        url: url.into(),
        keys: vec![key.public()],
        trusted: false,
        architecture: "x86_64".into(),
        rank: 1,
    }
}

#[test]
fn what_is_published_can_be_had_and_never_changes() {
    let dir = tempfile::tempdir().unwrap();
    let blobs = MemoryBlobs::default();
    let key = SigningKey::from_seed([7; 32]);
    let at = dir.path().join("repository");
    let first = [package("tidelog", "1.4-1", "one", &blobs)];
    assert_eq!(publish(&at, "holm", &first, &blobs, &key, DATE).unwrap().added, ["tidelog 1.4-1"]);
    let store = Store::open(dir.path().join("store")).unwrap();
    let server = Server::start(&at);
    let repo = repository(&server.url(), &key);
    let snapshot = repo.refresh(&store, &fetcher()).unwrap();
    let indexes = repo.open(&store, &fetcher(), &snapshot).unwrap();
    let record = indexes[0].exact("tidelog", "1.4-1").unwrap();
    let candidate = indexes[0].candidate(0);
    let requires: Vec<String> = candidate.requires.iter().map(|(r, _)| r.to_string()).collect();
    assert_eq!(requires, ["libgauge >= 0.3, < 1", "syslog | journal"]);
    let item =
        FetchItem { url: repo.url(&record), digest: record.digest.unwrap(), size: record.size, label: String::new() };
    fetcher().all(&store, &[item]).unwrap();
    let unpacked = repo.unpack(&store, &record, &store.object_path(&record.digest.unwrap())).unwrap();
    assert_eq!(unpacked.tree, first[0].1);

    // More is added; only the new part of the index is fetched.
    let more = [package("tidelog", "1.4-1", "one", &blobs), package("foghorn", "2", "horn", &blobs)];
    let published = publish(&at, "holm", &more, &blobs, &key, DATE).unwrap();
    assert_eq!(
        (published.added, published.present),
        (vec!["foghorn 2".to_string()], vec!["tidelog 1.4-1".to_string()])
    );
    server.log();
    let snapshot = repo.refresh(&store, &fetcher()).unwrap();
    assert_eq!(snapshot.indexes.len(), 2);
    assert_eq!(server.log().iter().filter(|l| l.contains("parts/")).count(), 1);

    let changed = [package("tidelog", "1.4-1", "two", &blobs)];
    let error = publish(&at, "holm", &changed, &blobs, &key, DATE).unwrap_err().to_string();
    assert!(error.contains("other content: raise its `revision`"), "{error}");
    let leftover = std::fs::read_dir(&at).unwrap().flatten().any(|f| f.file_name().to_string_lossy().ends_with(".new"));
    assert!(!leftover, "nothing half-made stays");
}

#[test]
fn another_key_or_a_changed_byte_is_refused() {
    let dir = tempfile::tempdir().unwrap();
    let blobs = MemoryBlobs::default();
    let (key, other) = (SigningKey::from_seed([7; 32]), SigningKey::from_seed([8; 32]));
    let at = dir.path().join("repository");
    publish(&at, "holm", &[package("tidelog", "1", "one", &blobs)], &blobs, &key, DATE).unwrap();
    let error = publish(&at, "holm", &[], &blobs, &other, DATE).unwrap_err().to_string();
    assert!(error.contains("is signed by another key"), "{error}");
    let store = Store::open(dir.path().join("store")).unwrap();
    let url = format!("file://{}", at.display());
    let mut repo = repository(&url, &other);
    let error = repo.refresh(&store, &fetcher()).unwrap_err().to_string();
    assert!(error.contains("is not signed by a declared key"), "{error}");
    repo.keys.clear();
    assert!(repo.refresh(&store, &fetcher()).unwrap_err().to_string().contains("no key is declared"));
    repo.trusted = true;
    assert!(repo.refresh(&store, &fetcher()).is_ok());

    let head = at.join("repository.json");
    let good = std::fs::read(&head).unwrap();
    let repo = repository(&url, &key);
    for at in (0..good.len() - 1).step_by(17) {
        let mut damaged = good.clone();
        damaged[at] ^= 1;
        std::fs::write(&head, damaged).unwrap();
        assert!(repo.refresh(&store, &fetcher()).is_err(), "byte {at}");
    }
    std::fs::write(&head, good).unwrap();
    let server = Server::start(&at);
    server.fault(Fault::Garble("parts/".into()));
    let fresh = Store::open(dir.path().join("fresh")).unwrap();
    assert!(repository(&server.url(), &key).refresh(&fresh, &fetcher()).is_err());
}
