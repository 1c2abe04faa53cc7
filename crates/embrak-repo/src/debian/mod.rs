//! Debian-format repositories: `dists/SUITE/InRelease`, `Packages` indexes by component and architecture, `.deb`
//! files (Debian repository format; Debian Policy chapters 5 and 7).

mod packages;
mod release;

pub use release::Release;

use crate::deb::{Limits, unpack_deb};
use crate::fetch::{FetchError, FetchItem, Fetcher};
use crate::index::{FORMAT, Index, cached};
use crate::openpgp::{Keyring, SignedBy};
use crate::record::{PackageRecord, Snapshot, SnapshotIndex, Unpacked};
use crate::{Contents, Repository, RepositoryError, Result};
use embrak_store::Store;
use embrak_tree::{BlobSource, Digest};
use std::fs::File;
use std::path::Path;
use std::sync::Arc;

/// A Release file above this many bytes is refused; Debian's own has some 150,000.
const RELEASE_LIMIT: u64 = 16 << 20;
/// An index may unpack to this many bytes.
const INDEX_LIMIT: u64 = 2 << 30;
/// How often a repository that changes under us is asked anew.
const ROUNDS: usize = 3;

/// A repository of this format, as a workspace declares it.
pub struct DebianRepository {
    /// As the workspace calls it.
    pub name: String,
    /// Where it is, without a slash at the end.
    pub url: String,
    /// Its suites, later ones as good as earlier ones.
    pub suites: Vec<String>,
    /// The components to use of each.
    pub components: Vec<String>,
    /// Its architecture in Debian's words: `amd64`.
    pub architecture: String,
    /// The keys that may have signed it; none only when it is trusted without.
    pub keyring: Option<Keyring>,
    /// Digest of the keyring's bytes.
    pub keyring_digest: Option<Digest>,
    /// Whether to use it without a signature.
    pub trusted: bool,
    /// Whether to use it though its `Valid-Until` is over.
    pub expired: bool,
    /// Whether to fetch the lists of files too.
    pub contents: bool,
    /// How its packages rank among others; lower is preferred.
    pub rank: u32,
    /// The present time, seconds since 1970.
    pub now: i64,
}

/// What Debian calls an architecture.
pub fn architecture_name(ours: &str) -> &str {
    match ours {
        "x86_64" => "amd64",
        "aarch64" => "arm64",
        "armv7" => "armhf",
        other => other,
    }
}

/// A suite's Release document, checked.
struct Suite {
    release: Release,
    documents: Vec<Digest>,
    signed_by: Option<SignedBy>,
}

impl DebianRepository {
    fn fail(&self, source: FetchError) -> RepositoryError {
        match source {
            FetchError::Store(e) => RepositoryError::Store(e),
            source => RepositoryError::Fetch { repository: self.name.clone(), source },
        }
    }

    fn damaged(&self, what: String) -> RepositoryError {
        RepositoryError::Damaged { repository: self.name.clone(), what }
    }

    fn suite(&self, store: &Store, fetcher: &Fetcher, suite: &str) -> Result<Suite> {
        let base = format!("{}/dists/{suite}", self.url);
        let untrusted = |what: String| RepositoryError::Untrusted { repository: self.name.clone(), what };
        let (text, documents, signed_by) = match fetcher.document(&format!("{base}/InRelease"), RELEASE_LIMIT) {
            Ok(bytes) => {
                let document = String::from_utf8(bytes.clone())
                    .map_err(|_| self.damaged(format!("dists/{suite}/InRelease is not text")))?;
                let (text, by) = match (&self.keyring, self.trusted) {
                    (Some(keyring), trusted) => match keyring.open_inline(&document) {
                        Ok((text, by)) => (text, Some(by)),
                        Err(_) if trusted => (release::without_signature(&document), None),
                        Err(why) => {
                            return Err(untrusted(format!("dists/{suite}/InRelease is not to be trusted: {why}")));
                        }
                    },
                    (None, _) => (release::without_signature(&document), None),
                };
                (text, vec![store.put_bytes(&bytes)?], by)
            }
            Err(FetchError::NotFound { .. }) => {
                let release = fetcher.document(&format!("{base}/Release"), RELEASE_LIMIT).map_err(|e| self.fail(e))?;
                let mut documents = vec![store.put_bytes(&release)?];
                let by = match fetcher.document(&format!("{base}/Release.gpg"), RELEASE_LIMIT) {
                    Ok(signature) => {
                        documents.push(store.put_bytes(&signature)?);
                        let checked = self.keyring.as_ref().map(|k| k.check_detached(&release, &signature));
                        match checked.transpose() {
                            Ok(by) => by,
                            Err(_) if self.trusted => None,
                            Err(why) => {
                                return Err(untrusted(format!("dists/{suite}/Release is not to be trusted: {why}")));
                            }
                        }
                    }
                    Err(FetchError::NotFound { .. }) => None,
                    Err(error) => return Err(self.fail(error)),
                };
                if by.is_none() && !self.trusted {
                    return Err(untrusted(format!(
                        "dists/{suite} is not signed: it has neither InRelease nor Release.gpg"
                    )));
                }
                (String::from_utf8_lossy(&release).into_owned(), documents, by)
            }
            Err(error) => return Err(self.fail(error)),
        };
        let release = Release::parse(&text).map_err(|what| self.damaged(format!("dists/{suite}/Release: {what}")))?;
        if let Some(until) = release.valid_until
            && until < self.now
            && !self.expired
        {
            let what = format!("dists/{suite} was valid until {}, and that is over", release::shown_time(until));
            return Err(RepositoryError::Expired { repository: self.name.clone(), what });
        }
        Ok(Suite { release, documents, signed_by })
    }

    fn round(&self, store: &Store, fetcher: &Fetcher) -> Result<Snapshot> {
        let mut snapshot = Snapshot {
            digest: Digest::of(""),
            date: String::new(),
            valid_until: None,
            signed_by: Vec::new(),
            indexes: Vec::new(),
            documents: Vec::new(),
        };
        let (mut newest, mut identity) = (i64::MIN, String::new());
        let mut valid_until: Option<i64> = None;
        for name in &self.suites {
            let suite = self.suite(store, fetcher, name)?;
            for document in &suite.documents {
                identity += &format!("{name} {document}\n");
            }
            snapshot.documents.extend(&suite.documents);
            if let Some(by) = suite.signed_by
                && !snapshot.signed_by.contains(&by.fingerprint)
            {
                snapshot.signed_by.push(by.fingerprint);
            }
            newest = newest.max(suite.release.date);
            valid_until = match (valid_until, suite.release.valid_until) {
                (Some(a), Some(b)) => Some(a.min(b)),
                (a, b) => a.or(b),
            };
            self.indexes(name, &suite.release, &mut snapshot.indexes)?;
        }
        snapshot.digest = Digest::of(identity);
        snapshot.date = release::shown_time(newest);
        snapshot.valid_until = valid_until.map(release::shown_time);
        Ok(snapshot)
    }

    /// Which index files of a suite to use.
    fn indexes(&self, suite: &str, release: &Release, out: &mut Vec<SnapshotIndex>) -> Result<()> {
        let components = if self.components.is_empty() { release.components.clone() } else { self.components.clone() };
        // A component of the security suites may be written `updates/main`.
        let present = |c: &&String| {
            release.components.is_empty() || release.components.iter().any(|r| r == *c || r.ends_with(&format!("/{c}")))
        };
        if let Some(missing) = components.iter().find(|c| !present(c)) {
            let what = format!("suite {suite} has no component `{missing}`; it has {}", release.components.join(", "));
            return Err(self.damaged(what));
        }
        for component in &components {
            let mut found = false;
            for architecture in [self.architecture.as_str(), "all"] {
                if architecture == "all" && !release.separate_all {
                    continue;
                }
                let plain = format!("{component}/binary-{architecture}/Packages");
                let Some((file, entry)) = release.best(&plain) else { continue };
                found = true;
                out.push(self.index(suite, component, &file, entry, release, &plain, false));
            }
            if !found {
                let known = release.architectures.join(", ");
                let what = format!(
                    "suite {suite}, component {component} has no packages for {} (it is for {known})",
                    self.architecture
                );
                return Err(self.damaged(what));
            }
            if self.contents {
                let of_component = format!("{component}/Contents-{}", self.architecture);
                let of_suite = format!("Contents-{}", self.architecture);
                for plain in [of_component, of_suite] {
                    if let Some((file, entry)) = release.best(&plain) {
                        out.push(self.index(suite, component, &file, entry, release, &plain, true));
                        break;
                    }
                }
            }
        }
        Ok(())
    }

    #[expect(clippy::too_many_arguments, reason = "each says one thing of one line of a Release file")]
    fn index(
        &self,
        suite: &str,
        component: &str,
        file: &str,
        entry: &release::Listed,
        release: &Release,
        plain: &str,
        files: bool,
    ) -> SnapshotIndex {
        let directory = file.rsplit_once('/').map_or(String::new(), |(dir, _)| format!("{dir}/"));
        SnapshotIndex {
            of: format!("{suite}/{component}"),
            path: format!("dists/{suite}/{file}"),
            by_hash: release.by_hash.then(|| format!("dists/{suite}/{directory}by-hash/SHA256/{}", entry.digest.hex())),
            digest: entry.digest,
            size: entry.size,
            unpacked: release.listed.get(plain).map(|e| e.size),
            security: release.is_security(suite),
            files,
        }
    }

    fn fetch_indexes(
        &self,
        store: &Store,
        fetcher: &Fetcher,
        snapshot: &Snapshot,
    ) -> std::result::Result<(), FetchError> {
        for index in snapshot.indexes.iter().filter(|i| !store.has(&i.digest)) {
            let item = |path: &str| FetchItem {
                url: format!("{}/{path}", self.url),
                digest: index.digest,
                size: index.size,
                label: index.of.clone(),
            };
            // Asked for by its digest, a file does not change when the mirror moves on.
            let directory = index.path.rsplit_once('/').map_or("", |(dir, _)| dir);
            let by_hash =
                index.by_hash.clone().unwrap_or_else(|| format!("{directory}/by-hash/SHA256/{}", index.digest.hex()));
            match fetcher.all(store, &[item(&by_hash)]) {
                Err(FetchError::NotFound { .. } | FetchError::Status { .. }) => {
                    fetcher.all(store, &[item(&index.path)])?;
                }
                done => done?,
            }
        }
        Ok(())
    }
}

impl Repository for DebianRepository {
    fn name(&self) -> &str {
        &self.name
    }

    fn key(&self) -> Digest {
        let keyring = self.keyring_digest.map(|d| d.hex());
        let parts =
            (&self.url, &self.suites, &self.components, &self.architecture, keyring, self.trusted, self.contents);
        Digest::of(serde_json::json!(["debian", parts]).to_string())
    }

    fn refresh(&self, store: &Store, fetcher: &Fetcher) -> Result<Snapshot> {
        if self.keyring.is_none() && !self.trusted {
            let what = "no keyring is declared to check it with".to_string();
            return Err(RepositoryError::Untrusted { repository: self.name.clone(), what });
        }
        let mut before = None;
        for _ in 0..ROUNDS {
            let snapshot = self.round(store, fetcher)?;
            match self.fetch_indexes(store, fetcher, &snapshot) {
                Ok(()) => return Ok(snapshot),
                // The mirror moved on between its Release file and its indexes, if it has another one now.
                Err(FetchError::Wrong { .. } | FetchError::NotFound { .. }) if before != Some(snapshot.digest) => {
                    before = Some(snapshot.digest);
                }
                Err(FetchError::Wrong { url, what }) => {
                    let what = format!("its Release file and its indexes do not belong together: {url}: {what}");
                    return Err(self.damaged(what));
                }
                Err(error) => return Err(self.fail(error)),
            }
        }
        Err(self.damaged(format!("it has changed {ROUNDS} times while it was read")))
    }

    fn open(&self, store: &Store, fetcher: &Fetcher, snapshot: &Snapshot) -> Result<Vec<Arc<Index>>> {
        self.fetch_indexes(store, fetcher, snapshot).map_err(|e| self.fail(e))?;
        let mut out = Vec::new();
        for entry in snapshot.indexes.iter().filter(|i| !i.files) {
            let origin = format!("{} {} Packages", self.name, entry.of);
            let key = Digest::of(format!("index {FORMAT} debian {} {}", self.architecture, entry.digest));
            let mut index = cached(
                store,
                &key,
                |bytes| Index::load(bytes, &origin, self.rank, &self.architecture),
                || packages::build(store, entry, &self.architecture, INDEX_LIMIT),
                |what| self.damaged(format!("{}: {what}", entry.path)),
            )?;
            index.security = entry.security;
            out.push(Arc::new(index));
        }
        Ok(out)
    }

    fn url(&self, record: &PackageRecord) -> String {
        format!("{}/{}", self.url, record.path)
    }

    fn unpack(&self, store: &Store, record: &PackageRecord, file: &Path) -> Result<Unpacked> {
        let name = format!("{} {}", record.name, record.version);
        let input =
            File::open(file).map_err(|e| RepositoryError::Package { package: name.clone(), what: e.to_string() })?;
        unpack_deb(&name, std::io::BufReader::with_capacity(256 << 10, input), store, Limits::default())
    }
}

impl DebianRepository {
    /// The lists of files of a snapshot, as far as they were fetched.
    ///
    /// # Errors
    /// A list is damaged.
    pub fn contents(&self, store: &Store, snapshot: &Snapshot) -> Result<Vec<Contents>> {
        let mut out = Vec::new();
        for entry in snapshot.indexes.iter().filter(|i| i.files && store.has(&i.digest)) {
            let key = Digest::of(format!("contents {} {}", crate::contents::FORMAT, entry.digest));
            let loaded = std::fs::read(store.index_path(&key)).ok().and_then(|bytes| Contents::load(bytes).ok());
            out.push(match loaded {
                Some(contents) => contents,
                None => {
                    let wrong = |what: String| self.damaged(format!("{}: {what}", entry.path));
                    let object = store.open(&entry.digest).map_err(|e| wrong(e.to_string()))?;
                    let bytes = Contents::build(object, &entry.path, INDEX_LIMIT).map_err(|e| wrong(e.to_string()))?;
                    store.put_index(&key, &bytes)?;
                    Contents::load(bytes).map_err(wrong)?
                }
            });
        }
        Ok(out)
    }
}
