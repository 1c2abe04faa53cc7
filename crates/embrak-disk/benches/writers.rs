//! The writers alone, without digesting what they write: a directory as ext4, as qcow2 around it and as a tar archive.
//! Prints one line of seconds for each, the best of some rounds, and the peak of memory; `bench/images` sets general
//! tools beside it.
//!
//!   cargo bench -p embrak-disk --bench writers -- DIRECTORY SCRATCH-DIRECTORY

use embrak_disk::{Extents, ext4, qcow2};
use embrak_tree::{BlobSource, Digest, Entry, Kind, Tree, TreePath, fill, tar};
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read, Seek};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::Instant;

const ROUNDS: usize = 3;

/// Files where they lie, by a digest of their path: contents are not looked at.
struct InPlace(HashMap<Digest, PathBuf>);

impl BlobSource for InPlace {
    fn open(&self, digest: &Digest) -> io::Result<Box<dyn Read + Send + '_>> {
        Ok(Box::new(File::open(&self.0[digest])?))
    }

    fn open_at(&self, digest: &Digest, offset: u64) -> io::Result<Box<dyn Read + Send + '_>> {
        let mut file = File::open(&self.0[digest])?;
        file.seek(io::SeekFrom::Start(offset))?;
        Ok(Box::new(file))
    }
}

fn walk(dir: &Path, at: &TreePath, tree: &mut Tree, blobs: &mut InPlace) -> io::Result<()> {
    for found in std::fs::read_dir(dir)? {
        let path = found?.path();
        let name = path.file_name().unwrap_or_default().as_bytes();
        let inside = at.join(name).map_err(io::Error::other)?;
        let meta = path.symlink_metadata()?;
        let kind = if meta.is_dir() {
            Kind::Directory
        } else if meta.is_symlink() {
            Kind::Symlink { target: std::fs::read_link(&path)?.as_os_str().as_bytes().to_vec() }
        } else {
            let digest = Digest::of(path.as_os_str().as_bytes());
            blobs.0.insert(digest, path.clone());
            Kind::File { digest, size: meta.size() }
        };
        tree.insert(inside.clone(), Entry::new(kind, meta.permissions().mode() & 0o7777).dated(meta.mtime()));
        if meta.is_dir() {
            walk(&path, &inside, tree, blobs)?;
        }
    }
    Ok(())
}

/// Reading the directory counts, as it does for the tools beside.
fn read(dir: &Path) -> io::Result<(Tree, InPlace)> {
    let (mut tree, mut blobs) = (Tree::new(), InPlace(HashMap::new()));
    tree.insert(TreePath::root(), Entry::new(Kind::Directory, 0o755));
    walk(dir, &TreePath::root(), &mut tree, &mut blobs)?;
    Ok((tree, blobs))
}

fn filesystem(tree: &Tree, blobs: &InPlace) -> Result<Extents, ext4::WriteError> {
    let content = ext4::Content::of(tree, blobs, 0)?;
    let mut options = ext4::Ext4Options {
        size: 1 << 20,
        label: "root".into(),
        uuid: [7; 16],
        mtime: 0,
        reserved_percent: 1,
        journal: true,
    };
    options.size = content.smallest_size(&options)?;
    content.write(&options)
}

fn best(name: &str, to: &Path, mut write: impl FnMut(&File) -> io::Result<()>) -> io::Result<()> {
    let mut least = f64::MAX;
    for _ in 0..=ROUNDS {
        let _ = std::fs::remove_file(to);
        let file = File::options().read(true).write(true).create_new(true).open(to)?;
        let start = Instant::now();
        write(&file)?;
        least = least.min(start.elapsed().as_secs_f64());
    }
    let status = std::fs::read_to_string("/proc/self/status")?;
    let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:")?.trim().strip_suffix(" kB")?.parse().ok());
    println!("{name} {least:.3} {}", peak.unwrap_or(0u64) / 1024);
    Ok(())
}

fn main() -> io::Result<()> {
    let paths: Vec<String> = std::env::args().skip(1).filter(|argument| argument != "--bench").collect();
    let [from, scratch] = paths.as_slice() else {
        eprintln!("skipped: give a directory to write and one to write into");
        return Ok(());
    };
    let (from, scratch) = (Path::new(from), Path::new(scratch));
    let made = |tree: &Tree, blobs: &InPlace| filesystem(tree, blobs).map_err(io::Error::other);
    best("ext4", &scratch.join("ours.ext4"), |file| {
        let (tree, blobs) = read(from)?;
        fill(&made(&tree, &blobs)?, &blobs, file)
    })?;
    best("tar", &scratch.join("ours.tar"), |file| {
        let (tree, blobs) = read(from)?;
        fill(&tar::archive(&tree, tar::Version::default()), &blobs, file)
    })?;
    // The disk is there, as it is for the tool beside.
    let (tree, blobs) = read(from)?;
    let disk = made(&tree, &blobs)?;
    best("qcow2", &scratch.join("ours.qcow2"), |file| fill(&qcow2::wrap(&disk), &blobs, file))
}
