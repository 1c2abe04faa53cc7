//! FAT filesystems with long names (Microsoft FAT specification 1.03; ECMA-107 for FAT12 and FAT16).
//!
//! ```text
//!   FAT12/16:  boot sector | FAT | FAT | root directory | clusters 2..
//!   FAT32:     boot sector, FSInfo, backups (32 sectors) | FAT | FAT | clusters 2.. (the root is one of them)
//! ```
//!
//! The type is not stored: it follows from the number of clusters, below 4085 FAT12, below 65525 FAT16. Owners,
//! modes, links and devices have no place here; what cannot be held is an error, owners and modes are dropped.

mod names;
mod read;
mod write;

pub use read::{FatError, FatInfo, Volume};
pub use write::{FatOptions, WriteError, smallest_size, write};

/// Version of the bytes the writer makes.
pub const WRITER_VERSION: u32 = 1;

/// Which of the three.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, serde::Serialize)]
pub enum FatType {
    /// 12 bits per cluster.
    Fat12,
    /// 16 bits per cluster.
    Fat16,
    /// 28 bits per cluster, in 32.
    Fat32,
}

impl FatType {
    fn of_cluster_count(clusters: u64) -> Self {
        match clusters {
            0..4085 => FatType::Fat12,
            4085..65525 => FatType::Fat16,
            _ => FatType::Fat32,
        }
    }
}

impl std::fmt::Display for FatType {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            FatType::Fat12 => "FAT12",
            FatType::Fat16 => "FAT16",
            FatType::Fat32 => "FAT32",
        })
    }
}

/// Seconds since 1970 as FAT's date and time words, UTC, two-second steps; what is before 1980 becomes 1980.
fn dos_time(seconds: i64) -> (u16, u16) {
    let seconds = seconds.clamp(315_532_800, 4_354_819_198);
    let (days, rest) = (seconds.div_euclid(86400), seconds.rem_euclid(86400));
    let (year, month, day) = civil(days);
    let date = ((year - 1980) << 9 | month << 5 | day) as u16;
    let time = (rest / 3600) << 11 | (rest / 60 % 60) << 5 | (rest % 60 / 2);
    (date, time as u16)
}

/// The inverse of [`dos_time`]; 0 when the words are no date.
fn unix_time(date: u16, time: u16) -> i64 {
    let (year, month, day) = (1980 + i64::from(date >> 9), i64::from(date >> 5 & 15), i64::from(date & 31));
    if !(1..=12).contains(&month) || !(1..=31).contains(&day) {
        return 0;
    }
    let (hour, minute, second) = (i64::from(time >> 11), i64::from(time >> 5 & 63), i64::from(time & 31) * 2);
    days_of(year, month, day) * 86400 + hour * 3600 + minute * 60 + second
}

/// Year, month, day of a number of days since 1970-01-01 (proleptic Gregorian, eras of 400 years).
fn civil(days: i64) -> (i64, i64, i64) {
    let z = days + 719_468;
    let (era, doe) = (z.div_euclid(146_097), z.rem_euclid(146_097));
    let yoe = (doe - doe / 1460 + doe / 36524 - doe / 146_096) / 365;
    let doy = doe - (365 * yoe + yoe / 4 - yoe / 100);
    let mp = (5 * doy + 2) / 153;
    let month = if mp < 10 { mp + 3 } else { mp - 9 };
    (yoe + era * 400 + i64::from(month <= 2), month, doy - (153 * mp + 2) / 5 + 1)
}

fn days_of(year: i64, month: i64, day: i64) -> i64 {
    let y = if month <= 2 { year - 1 } else { year };
    let (era, yoe) = (y.div_euclid(400), y.rem_euclid(400));
    let doy = (153 * (if month > 2 { month - 3 } else { month + 9 }) + 2) / 5 + day - 1;
    era * 146_097 + yoe * 365 + yoe / 4 - yoe / 100 + doy - 719_468
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Slice;
    use embrak_tree::{BlobSource, Digest, DigestOnly, Entry, Kind, MemoryBlobs, Tree, TreePath};
    use proptest::prelude::*;

    fn options(size: u64) -> FatOptions {
        FatOptions { size, label: "LIGHT".into(), serial: 0x1234_5678, mtime: 1_772_323_200, hidden_sectors: 2048 }
    }

    fn any_tree() -> impl Strategy<Value = Vec<(String, Vec<u8>)>> {
        let part = prop_oneof!["[a-z]{1,3}", "[A-Z]{1,8}[.][A-Z]{1,3}", "[a-zé .]{0,20}[a-z]{1,3}"];
        let path = proptest::collection::vec(part, 1..4).prop_map(|parts| parts.join("/"));
        let content = prop_oneof![
            4 => proptest::collection::vec(any::<u8>(), 0..3000),
            1 => (0usize..40_000).prop_map(|n| vec![5; n]),
        ];
        proptest::collection::vec((path, content), 0..25)
    }

    /// A tree of those files that do not get in each other's way.
    fn tree_of(files: Vec<(String, Vec<u8>)>) -> (Tree, MemoryBlobs) {
        let (mut tree, blobs) = (Tree::new(), MemoryBlobs::default());
        let mut taken: std::collections::BTreeMap<String, bool> = Default::default();
        for (path, content) in files {
            let Ok(path) = TreePath::from_relative(path.trim_start()) else { continue };
            let key = |p: &TreePath| p.to_string().to_lowercase();
            let parents: Vec<TreePath> = std::iter::successors(path.parent(), TreePath::parent).collect();
            let blocked = parents
                .iter()
                .any(|p| taken.get(&key(p)) == Some(&false) || (taken.contains_key(&key(p)) && tree.get(p).is_none()));
            if blocked
                || taken.contains_key(&key(&path))
                || path.to_string().split('/').any(|p| p.starts_with(' ') || p.ends_with('.') || p.ends_with(' '))
            {
                continue;
            }
            for parent in parents.iter().rev() {
                taken.insert(key(parent), true);
                tree.insert(parent.clone(), Entry::directory().dated(1_772_323_200));
            }
            taken.insert(key(&path), false);
            let (digest, size) = blobs.add(content);
            tree.insert(path, Entry::file(digest, size).dated(1_600_000_000));
        }
        tree.add_missing_directories(1_772_323_200);
        (tree, blobs)
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(20))]
        #[test]
        fn what_is_written_is_read(files in any_tree(), size in prop_oneof![Just(2u64 << 20), Just(16 << 20), Just(35 << 20)]) {
            let (tree, blobs) = tree_of(files);
            let image = write(&tree, &options(size)).unwrap();
            prop_assert_eq!(image.total(), size);
            let bytes = image.to_vec(&blobs).unwrap();
            let volume = Volume::open(&bytes).unwrap();
            let expected = match size >> 20 { 2 => FatType::Fat12, 16 => FatType::Fat16, _ => FatType::Fat32 };
            prop_assert_eq!(volume.info().kind, expected);
            prop_assert_eq!(volume.info().label.as_str(), "LIGHT");
            let (back, damage) = volume.tree(&DigestOnly).unwrap();
            prop_assert_eq!(damage, Vec::<String>::new());
            prop_assert_eq!(back, tree);
        }

        #[test]
        fn the_smallest_size_is_enough(files in any_tree()) {
            let (tree, _) = tree_of(files);
            let size = smallest_size(&tree, &options(0)).unwrap();
            prop_assert!(write(&tree, &options(size)).is_ok());
        }

        #[test]
        fn damaged_volumes_are_read_or_refused(at in 0usize..70_000, noise in proptest::collection::vec(any::<u8>(), 1..64)) {
            let (tree, blobs) = tree_of(vec![("a/b/c.txt".into(), vec![1; 5000]), ("long name here.text".into(), vec![2; 100])]);
            let mut bytes = write(&tree, &options(2 << 20)).unwrap().to_vec(&blobs).unwrap();
            bytes[at..at + noise.len()].copy_from_slice(&noise);
            if let Ok(volume) = Volume::open(&bytes) {
                let _ = volume.tree(&DigestOnly);
            }
        }
    }

    #[test]
    fn what_fat_cannot_hold_is_an_error() {
        let refuse = |path: &str, entry: Entry| {
            let tree: Tree =
                [(TreePath::root(), Entry::directory()), (path.parse().unwrap(), entry)].into_iter().collect();
            write(&tree, &options(4 << 20)).unwrap_err().to_string()
        };
        let file = |size| Entry::file(Digest::of(""), size);
        assert!(refuse("/link", Entry::symlink("x")).contains("/link is a symlink"));
        assert!(refuse("/a:b", file(0)).contains("`:`"));
        assert!(refuse("/dot.", file(0)).contains("ends in"));
        assert!(refuse("/big", file(1 << 32)).contains("4 GiB"));
        let error = refuse("/half", file(5 << 20));
        assert!(error.contains("bytes more than there are"), "{error}");
        let twins: Tree = ["/A", "/a"].iter().map(|p| (p.parse().unwrap(), file(0))).collect();
        assert!(write(&twins, &options(4 << 20)).unwrap_err().to_string().contains("only in case"));
    }

    #[test]
    fn short_names_get_numbers() {
        let (tree, blobs) = tree_of((0..12).map(|i| (format!("lamp pattern {i}.text"), vec![i])).collect());
        let bytes = write(&tree, &options(2 << 20)).unwrap().to_vec(&blobs).unwrap();
        let find = |name: &[u8]| bytes.windows(11).any(|w| w == name);
        assert!(find(b"LAMPPA~1TEX") && find(b"LAMPP~12TEX"));
    }

    #[test]
    fn one_file_can_be_read_alone() {
        let (tree, blobs) = tree_of(vec![("EFI/BOOT/BOOTX64.EFI".into(), vec![3; 100_000])]);
        let bytes = write(&tree, &options(40 << 20)).unwrap().to_vec(&blobs).unwrap();
        let slice = Slice { inner: &bytes, start: 0, length: bytes.len() as u64 };
        let volume = Volume::open(&slice).unwrap();
        let path = "/EFI/BOOT/BOOTX64.EFI".parse().unwrap();
        assert_eq!(volume.read_file(&path).unwrap(), vec![3; 100_000]);
        let Kind::File { digest, .. } = tree.get(&path).unwrap().kind else { panic!() };
        assert_eq!(blobs.read(&digest).unwrap(), vec![3; 100_000]);
    }

    #[test]
    fn times_have_two_second_steps() {
        for seconds in [315_532_800, 1_772_323_200, 1_709_164_800, 4_102_444_798] {
            let (date, time) = dos_time(seconds);
            assert_eq!(unix_time(date, time), seconds);
        }
        let (date, time) = dos_time(0);
        assert_eq!(unix_time(date, time), 315_532_800);
        assert_eq!(unix_time(0, 0), 0);
    }

    #[test]
    fn the_writer_is_pinned() {
        let (tree, blobs) =
            tree_of(vec![("etc/beacon.conf".into(), b"station = holm\n".to_vec()), ("A.TXT".into(), vec![0; 9000])]);
        let golden = [(2u64 << 20, "47271b81f1c8"), (16 << 20, "89ce1196c6a3"), (40 << 20, "cd8bd6ecf4eb")];
        for (size, expected) in golden {
            let bytes = write(&tree, &options(size)).unwrap().to_vec(&blobs).unwrap();
            let what = "the bytes changed: raise WRITER_VERSION and pin the new digest";
            assert_eq!(Digest::of(&bytes).short(), expected, "{size}: {what}");
        }
    }
}
