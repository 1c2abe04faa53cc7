//! Several stores over one directory at once, as several processes would have them.

use embrak_store::Store;
use embrak_tree::{BlobSource, Digest, Entry, Tree};
use std::collections::BTreeSet;
use std::sync::atomic::{AtomicUsize, Ordering};

#[test]
fn many_write_the_same_objects_and_all_are_sound() {
    let dir = tempfile::tempdir().unwrap();
    std::thread::scope(|scope| {
        for _ in 0..6 {
            scope.spawn(|| {
                let store = Store::open(dir.path()).unwrap();
                for n in 0..60 {
                    let digest = store.put_bytes(format!("object {n}")).unwrap();
                    assert_eq!(store.read(&digest).unwrap(), format!("object {n}").into_bytes());
                }
            });
        }
    });
    let store = Store::open(dir.path()).unwrap();
    assert_eq!(store.usage().unwrap().0, 60);
    assert!(store.check_objects(|_| ()).unwrap().is_empty());
    assert_eq!(std::fs::read_dir(store.root().join("tmp")).unwrap().count(), 2, "only our own session is there");
}

#[test]
fn an_action_is_computed_once_whoever_asks() {
    let dir = tempfile::tempdir().unwrap();
    let key = Digest::of("compile lampd");
    let computed = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..5 {
            scope.spawn(|| {
                let store = Store::open(dir.path()).unwrap();
                let _lock = store.lock_action(&key).unwrap();
                if store.action(&key).unwrap().is_none() {
                    computed.fetch_add(1, Ordering::Relaxed);
                    std::thread::sleep(std::time::Duration::from_millis(30));
                    let object = store.put_bytes("lampd").unwrap();
                    store.record_action(&key, "{}", &BTreeSet::from([object])).unwrap();
                }
            });
        }
    });
    assert_eq!(computed.load(Ordering::Relaxed), 1);
}

#[test]
fn views_are_made_once_and_survive_each_other() {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(dir.path()).unwrap();
    let mut tree = Tree::new();
    for n in 0..50 {
        let digest = store.put_bytes(format!("{n}")).unwrap();
        tree.insert(format!("/d{}/f{n}", n % 5).parse().unwrap(), Entry::file(digest, 2));
    }
    let places: BTreeSet<_> = std::thread::scope(|scope| {
        let all: Vec<_> =
            (0..4).map(|_| scope.spawn(|| Store::open(dir.path()).unwrap().view(&tree).unwrap())).collect();
        all.into_iter().map(|t| t.join().unwrap()).collect()
    });
    assert_eq!(places.len(), 1);
    let place = places.first().unwrap();
    assert_eq!(std::fs::read(place.join("d3/f13")).unwrap(), b"13");
}

#[test]
fn runs_of_several_get_numbers_of_their_own() {
    let dir = tempfile::tempdir().unwrap();
    let numbers: BTreeSet<i64> = std::thread::scope(|scope| {
        let all: Vec<_> = (0..8)
            .map(|n| {
                let dir = dir.path();
                scope.spawn(move || {
                    let store = Store::open(dir).unwrap();
                    let id = store.start_run(&format!("/w{n}"), "{}").unwrap();
                    store.finish_run(id, "done", "{}", &[], &BTreeSet::new()).unwrap();
                    id
                })
            })
            .collect();
        all.into_iter().map(|t| t.join().unwrap()).collect()
    });
    assert_eq!(numbers.len(), 8);
    assert!(Store::open(dir.path()).unwrap().runs().unwrap().iter().all(|r| r.status == "done"));
}

#[test]
fn opening_and_closing_all_the_time_never_finds_the_index_locked() {
    let dir = tempfile::tempdir().unwrap();
    std::thread::scope(|scope| {
        for n in 0..8 {
            let dir = dir.path();
            scope.spawn(move || {
                for m in 0..25 {
                    // The last one to close takes the log down while others set it up.
                    let store = Store::open(dir).unwrap();
                    let key = Digest::of(format!("{n} {m}"));
                    store.record_action(&key, "{}", &BTreeSet::new()).unwrap();
                    assert!(store.action(&key).unwrap().is_some());
                }
            });
        }
    });
}

#[test]
fn a_store_of_a_newer_version_is_refused() {
    let dir = tempfile::tempdir().unwrap();
    drop(Store::open(dir.path()).unwrap());
    let db = rusqlite::Connection::open(dir.path().join("index.sqlite")).unwrap();
    db.pragma_update(None, "user_version", 99).unwrap();
    let error = Store::open(dir.path()).err().unwrap().to_string();
    assert!(error.contains("has format 99, this Embrak knows up to 2"), "{error}");
    drop(db);
    std::fs::write(dir.path().join("index.sqlite"), "this is not a database at all, whatever its name says").unwrap();
    assert!(Store::open(dir.path()).err().unwrap().to_string().contains("cannot be used"));
}

#[test]
fn pruning_waits_for_others_and_keeps_what_is_on_record() {
    let dir = tempfile::tempdir().unwrap();
    let (working, pruning) = (Store::open(dir.path()).unwrap(), Store::open(dir.path()).unwrap());
    let run = working.start_run("/w", "{}").unwrap();
    let object = working.put_bytes("in use").unwrap();
    let key = Digest::of("k");
    working.record_action(&key, "{}", &BTreeSet::from([object])).unwrap();
    let error = pruning.prune(0).unwrap_err().to_string();
    assert!(error.contains("another Embrak is at work"), "{error}");
    assert!(working.has(&object));
    working.finish_run(run, "done", "{}", &[key], &BTreeSet::new()).unwrap();
    drop(working);
    pruning.prune(1).unwrap();
    assert!(pruning.action(&key).unwrap().is_some());
    pruning.prune(0).unwrap();
    assert!(pruning.action(&key).unwrap().is_none() && !pruning.has(&object));
}
