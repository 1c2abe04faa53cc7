//! Layers from elsewhere: a commit of a git repository, or an archive with its digest.
//!
//! Either becomes a tree in the store and is read from a view of it, so that what is read is what the digest says.
//! Git is asked for single objects, not for a checkout: attributes and settings of this machine change nothing.

use crate::error::{EngineError, Result};
use crate::sources;
use crate::vendor::Vendored;
use embrak_model::definitions::LayerSource;
use embrak_model::{Problem, RemoteLayers};
use embrak_repo::{FetchEvent, Fetcher, open_archive};
use embrak_store::Store;
use embrak_tree::{Digest, Entry, Kind, Tree, TreePath};
use std::collections::BTreeSet;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

/// An archive of a layer above this many bytes is refused.
const ARCHIVE_LIMIT: u64 = 512 << 20;
/// A layer unpacks to no more than this many bytes.
const LAYER_LIMIT: u64 = 4 << 30;

/// Gets layers into a store.
pub struct LayerFetcher {
    store: Arc<Store>,
    vendored: Option<Arc<Vendored>>,
    stop: &'static AtomicBool,
}

impl std::fmt::Debug for LayerFetcher {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "LayerFetcher({})", self.store.root().display())
    }
}

/// Digest of where a layer is from: the name its tree is kept by.
pub(crate) fn source_key(source: &LayerSource) -> Digest {
    match source {
        LayerSource::Directory(path) => Digest::of(serde_json::json!(["directory", path]).to_string()),
        // Where a commit or a digest is fetched from does not change what it is.
        LayerSource::Git { commit, path, .. } => Digest::of(serde_json::json!(["git", commit, path]).to_string()),
        LayerSource::Archive { sha256, path, .. } => {
            Digest::of(serde_json::json!(["archive", sha256, path]).to_string())
        }
    }
}

impl LayerFetcher {
    /// Keeps layers in `store`; with `vendored`, takes them from there and nowhere else.
    pub fn new(store: Arc<Store>, vendored: Option<Arc<Vendored>>, stop: &'static AtomicBool) -> Self {
        LayerFetcher { store, vendored, stop }
    }

    fn tree(&self, root: &Path, source: &LayerSource) -> Result<Tree> {
        let key = source_key(source);
        let name = format!("layer {}", key.hex());
        if let Some(vendored) = &self.vendored {
            let digest = vendored.layer(&key).ok_or_else(|| {
                EngineError::other(
                    format!("layer `{source}` is not among what was vendored"),
                    "vendor the workspace again",
                )
            })?;
            return sources::get_tree(&self.store, &digest);
        }
        if let Some(digest) = self.store.kept(&name)?.and_then(|text| text.parse::<Digest>().ok())
            && let Ok(tree) = sources::get_tree(&self.store, &digest)
            && tree.blobs().all(|(digest, _)| self.store.has(&digest))
        {
            return Ok(tree);
        }
        let tree = match source {
            LayerSource::Git { git, commit, path } => self.git(root, git, commit, path.as_deref())?,
            LayerSource::Archive { archive, sha256, path } => self.archive(root, archive, sha256, path.as_deref())?,
            LayerSource::Directory(path) => {
                return Err(EngineError::other(format!("layer `{path}` is a directory"), "read it where it lies"));
            }
        };
        let digest = sources::put_tree(&self.store, &tree)?;
        let mut objects: BTreeSet<Digest> = tree.blobs().map(|(digest, _)| digest).collect();
        objects.insert(digest);
        self.store.keep(&name, &digest.to_string(), &objects)?;
        Ok(tree)
    }

    fn archive(&self, root: &Path, archive: &str, sha256: &str, path: Option<&str>) -> Result<Tree> {
        let url = if archive.contains("://") {
            archive.to_string()
        } else {
            format!("file://{}", root.join(archive).display())
        };
        let quiet = |_: FetchEvent<'_>| {};
        let fetcher = Fetcher::new(&quiet, self.stop);
        let bytes = fetcher
            .document(&url, ARCHIVE_LIMIT)
            .map_err(|e| EngineError::other(format!("layer archive: {e}"), e.help()))?;
        let found = Digest::of(&bytes);
        if found.hex() != sha256 {
            return Err(EngineError::other(
                format!(
                    "layer archive {}: its bytes digest to {found}, they should to sha256:{sha256}",
                    fetcher.shown(&url)
                ),
                "if the new archive is the right one, write its digest into embrak.toml",
            ));
        }
        let wrong = |what: String| {
            EngineError::other(
                format!("layer archive {}: {what}", fetcher.shown(&url)),
                "make it a tar archive, plain or packed with gz, xz or zst",
            )
        };
        let reader = open_archive(&bytes, LAYER_LIMIT).map_err(|e| wrong(e.to_string()))?;
        let tree = embrak_tree::tar::read_tree(reader, &*self.store).map_err(|e| wrong(e.to_string()))?;
        below(tree, path).map_err(wrong)
    }

    fn git(&self, root: &Path, url: &str, commit: &str, path: Option<&str>) -> Result<Tree> {
        let work = self.store.workplace()?;
        let dir = work.path().join("layer.git");
        // A relative path is from the workspace's directory, as everything in embrak.toml is.
        let url = if url.contains("://") || (url.contains(':') && !url.starts_with('.')) || url.starts_with('/') {
            url.to_string()
        } else {
            root.join(url).to_string_lossy().into_owned()
        };
        let shown =
            url.rsplit_once('@').filter(|_| url.contains("://")).map_or(url.as_str(), |(_, host)| host).to_string();
        let fail = |what: String| {
            EngineError::other(
                format!("layer from git {shown}: {what}"),
                "look at the URL and the commit; what is in the store already needs no network",
            )
        };
        let git = |args: &[&str]| -> Result<Vec<u8>> {
            let output = command(&dir).args(args).output().map_err(|e| fail(format!("cannot start git: {e}")))?;
            if output.status.success() {
                return Ok(output.stdout);
            }
            let said = String::from_utf8_lossy(&output.stderr).replace(&url, &shown);
            Err(fail(said.lines().last().unwrap_or("git has failed").trim().to_string()))
        };
        std::fs::create_dir(&dir).map_err(|e| fail(e.to_string()))?;
        git(&["init", "--quiet", "--bare"])?;
        // The one commit if the server gives it, else everything there is.
        if git(&["fetch", "--quiet", "--depth", "1", &url, commit]).is_err() {
            git(&["fetch", "--quiet", &url, "+refs/*:refs/embrak/*"])?;
        }
        let top = match path {
            Some(path) => format!("{commit}:{}", path.trim_matches('/')),
            None => format!("{commit}^{{tree}}"),
        };
        let listed = git(&["ls-tree", "-r", "-z", "--full-tree", &top])?;
        let mut batch = command(&dir)
            .args(["cat-file", "--batch"])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .map_err(|e| fail(format!("cannot start git: {e}")))?;
        let (Some(mut ask), Some(answers)) = (batch.stdin.take(), batch.stdout.take()) else {
            return Err(fail("git does not answer".into()));
        };
        let mut answers = BufReader::new(answers);
        let mut tree = Tree::new();
        for line in listed.split(|&b| b == 0).filter(|l| !l.is_empty()) {
            let text = String::from_utf8_lossy(line);
            let parts = text.split_once('\t').and_then(|(meta, _)| {
                let mut words = meta.split(' ');
                Some((words.next()?.to_string(), words.next()?.to_string(), words.next()?.to_string()))
            });
            let Some((mode, kind, object)) = parts else { return Err(fail("git lists something unknown".into())) };
            let name = &line[line.iter().position(|&b| b == b'\t').map_or(0, |at| at + 1)..];
            let at = TreePath::from_relative(name).map_err(|e| fail(e.to_string()))?;
            if kind != "blob" {
                return Err(fail(format!("{at} is a {kind} (a submodule?), which a layer cannot have")));
            }
            writeln!(ask, "{object}").and_then(|()| ask.flush()).map_err(|e| fail(e.to_string()))?;
            let mut head = String::new();
            answers.read_line(&mut head).map_err(|e| fail(e.to_string()))?;
            let size: u64 = head
                .trim_end()
                .rsplit(' ')
                .next()
                .and_then(|n| n.parse().ok())
                .ok_or_else(|| fail(format!("git does not have {at}")))?;
            let mut content = (&mut answers).take(size);
            let entry = if mode == "120000" {
                let mut target = Vec::new();
                content.read_to_end(&mut target).map_err(|e| fail(e.to_string()))?;
                Entry::symlink(target)
            } else {
                let (digest, size) = self.store.put_reader(&mut content)?;
                let mode = if mode == "100755" { 0o755 } else { 0o644 };
                Entry::new(Kind::File { digest, size }, mode)
            };
            let mut end = [0];
            answers.read_exact(&mut end).map_err(|e| fail(e.to_string()))?;
            tree.insert(at, entry);
        }
        drop(ask);
        let _ = batch.wait();
        tree.add_missing_directories(0);
        Ok(tree)
    }
}

fn command(dir: &Path) -> Command {
    let mut command = Command::new("git");
    command.arg("-C").arg(dir).stdin(Stdio::null());
    command.env("LC_ALL", "C").env("GIT_TERMINAL_PROMPT", "0").env_remove("GIT_DIR").env_remove("GIT_WORK_TREE");
    command
}

/// What lies below a path, with no more metadata than a layer has.
fn below(tree: Tree, path: Option<&str>) -> std::result::Result<Tree, String> {
    let top = TreePath::from_relative(path.unwrap_or_default().trim_matches('/')).map_err(|e| e.to_string());
    let top = if path.is_none() { TreePath::root() } else { top? };
    let mut out = Tree::new();
    for (at, entry) in tree {
        if !at.starts_with(&top) || at == top {
            continue;
        }
        let mode = match &entry.kind {
            Kind::Directory => 0o755,
            Kind::File { .. } | Kind::Hardlink { .. } if entry.mode & 0o100 != 0 => 0o755,
            Kind::File { .. } | Kind::Hardlink { .. } => 0o644,
            Kind::Symlink { .. } => 0o777,
            other => return Err(format!("{at} is a {}, which a layer cannot have", other.name())),
        };
        let rest = at.as_bytes()[top.as_bytes().len()..].to_vec();
        let inside = TreePath::from_relative(rest.strip_prefix(b"/").unwrap_or(&rest)).map_err(|e| e.to_string())?;
        let kind = match entry.kind {
            Kind::Hardlink { target } => {
                let rest = target.as_bytes().get(top.as_bytes().len()..).unwrap_or_default().to_vec();
                let target =
                    TreePath::from_relative(rest.strip_prefix(b"/").unwrap_or(&rest)).map_err(|e| e.to_string())?;
                Kind::Hardlink { target }
            }
            kind => kind,
        };
        out.insert(inside, Entry::new(kind, mode));
    }
    if out.is_empty() {
        return Err(format!("there is nothing below `{}`", path.unwrap_or("/")));
    }
    out.add_missing_directories(0);
    Ok(out)
}

impl RemoteLayers for LayerFetcher {
    fn layer(&self, root: &Path, source: &LayerSource) -> std::result::Result<(PathBuf, String), Problem> {
        let problem = |e: EngineError| Problem::new(e.to_string()).help(e.help());
        let tree = self.tree(root, source).map_err(problem)?;
        let view = self.store.view(&tree).map_err(|e| problem(e.into()))?;
        Ok((view, tree.digest().to_string()))
    }
}
