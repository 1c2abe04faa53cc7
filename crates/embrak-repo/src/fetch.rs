//! Fetching over HTTP(S) and from `file:`, by digest, several at once, going on where it broke off.

use embrak_store::{Store, StoreError};
use embrak_tree::Digest;
use std::collections::BTreeSet;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

/// How often something is tried.
const ATTEMPTS: u32 = 4;
/// How long to wait before the second try; doubled each time.
const BACK_OFF: Duration = Duration::from_millis(300);
/// How long a server may say nothing.
const SILENCE: Duration = Duration::from_secs(60);
const BLOCK: usize = 128 << 10;

/// Why something could not be fetched.
#[derive(Debug, thiserror::Error)]
pub enum FetchError {
    /// It is not there.
    #[error("{url} is not there")]
    NotFound {
        /// What.
        url: String,
    },
    /// The server says no.
    #[error("{url}: the server answers {status}")]
    Status {
        /// What.
        url: String,
        /// HTTP status.
        status: u16,
    },
    /// Nobody answers, or the connection breaks.
    #[error("{url} cannot be reached: {why}")]
    Unreachable {
        /// What.
        url: String,
        /// Why.
        why: String,
    },
    /// What came is not what was promised.
    #[error("{url}: {what}")]
    Wrong {
        /// What was asked for.
        url: String,
        /// What is wrong with what came.
        what: String,
    },
    /// Fetching is not allowed now.
    #[error("{url} would have to be fetched, and this works without the network")]
    Offline {
        /// What.
        url: String,
    },
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// It was asked to stop.
    #[error("interrupted; what has arrived is kept, and the next try goes on from there")]
    Interrupted,
}

impl FetchError {
    /// What to do about it.
    pub fn help(&self) -> String {
        match self {
            FetchError::NotFound { .. } => "look at the URL, suites and components; a package that is gone from the mirror has been replaced there: `embrak lock --update` moves on".into(),
            FetchError::Status { .. } => "try again later, or another mirror".into(),
            FetchError::Unreachable { .. } => "look at the network and at the proxy variables (https_proxy, http_proxy, no_proxy); what is in the store already stays usable".into(),
            FetchError::Wrong { .. } => "the mirror may be changing just now: try again later, or another mirror".into(),
            FetchError::Offline { .. } => "run it once with the network, or vendor it with `embrak vendor`".into(),
            FetchError::Store(_) | FetchError::Interrupted => String::new(),
        }
    }
}

/// Something to fetch into the store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FetchItem {
    /// Where it is.
    pub url: String,
    /// What its bytes have to digest to.
    pub digest: Digest,
    /// How many bytes it has.
    pub size: u64,
    /// What it is called in progress.
    pub label: String,
}

/// Progress of fetching.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FetchEvent<'a> {
    /// So many things of so many bytes are going to be fetched.
    Planned {
        /// How many.
        items: usize,
        /// Their bytes.
        bytes: u64,
    },
    /// More bytes have arrived.
    Advanced(u64),
    /// One has arrived and is what it should be.
    Arrived(&'a str),
    /// Something did not work, why is said, and it is tried again.
    Again(String),
}

type Report<'a> = dyn Fn(FetchEvent<'_>) + Sync + 'a;

/// Fetches things.
pub struct Fetcher<'a> {
    agent: ureq::Agent,
    /// Values that must not be shown.
    secrets: Vec<String>,
    offline: bool,
    parallel: usize,
    report: &'a Report<'a>,
    stop: &'a AtomicBool,
    back_off: Duration,
}

impl<'a> Fetcher<'a> {
    /// A fetcher that reports to `report` and ends when `stop` is set. A proxy is taken from the environment.
    pub fn new(report: &'a Report<'a>, stop: &'a AtomicBool) -> Self {
        Fetcher {
            agent: agent(SILENCE),
            secrets: Vec::new(),
            offline: false,
            parallel: 6,
            report,
            stop,
            back_off: BACK_OFF,
        }
    }

    /// Never shows these values, wherever they are in a URL.
    #[must_use]
    pub fn hiding(mut self, secrets: Vec<String>) -> Self {
        self.secrets = secrets.into_iter().filter(|s| !s.is_empty()).collect();
        self
    }

    /// Refuses everything that is not in a file.
    #[must_use]
    pub fn offline(mut self, offline: bool) -> Self {
        self.offline = offline;
        self
    }

    /// Gives a server up that says nothing for so long.
    #[must_use]
    pub fn silence(mut self, span: Duration) -> Self {
        self.agent = agent(span);
        self
    }

    /// Waits so long before the second try.
    #[must_use]
    pub fn back_off(mut self, span: Duration) -> Self {
        self.back_off = span;
        self
    }

    /// A URL without what must not be shown: secrets, and whatever stands before `@`.
    pub fn shown(&self, url: &str) -> String {
        let mut out = url.to_string();
        for secret in &self.secrets {
            out = out.replace(secret, "***");
        }
        with_credentials(&out, "***@")
    }

    /// A small document whose digest nobody knows yet.
    ///
    /// # Errors
    /// It cannot be had, or is longer than `limit`.
    pub fn document(&self, url: &str, limit: u64) -> Result<Vec<u8>, FetchError> {
        self.patiently(url, || {
            let mut out = Vec::new();
            let mut body = self.open(url, 0)?.body;
            let read = (&mut body).take(limit + 1).read_to_end(&mut out);
            read.map_err(|e| FetchError::Unreachable { url: self.shown(url), why: e.to_string() })?;
            if out.len() as u64 > limit {
                return Err(FetchError::Wrong {
                    url: self.shown(url),
                    what: format!("it is longer than {limit} bytes"),
                });
            }
            Ok(out)
        })
    }

    /// Gets one thing into the store, unless it is there.
    ///
    /// # Errors
    /// It cannot be had, or is not what its digest says.
    pub fn into_store(&self, store: &Store, item: &FetchItem) -> Result<(), FetchError> {
        if store.has(&item.digest) {
            return Ok(());
        }
        self.patiently(&item.url, || self.attempt(store, item))?;
        (self.report)(FetchEvent::Arrived(&item.label));
        Ok(())
    }

    /// Gets all that the store does not have, several at once.
    ///
    /// # Errors
    /// The first that cannot be had; the others under way are finished.
    pub fn all(&self, store: &Store, items: &[FetchItem]) -> Result<(), FetchError> {
        let mut seen = BTreeSet::new();
        let missing: Vec<&FetchItem> =
            items.iter().filter(|i| !store.has(&i.digest) && seen.insert(i.digest)).collect();
        if missing.is_empty() {
            return Ok(());
        }
        (self.report)(FetchEvent::Planned { items: missing.len(), bytes: missing.iter().map(|i| i.size).sum() });
        let next = AtomicUsize::new(0);
        let failed = AtomicBool::new(false);
        let failure = Mutex::new(None);
        std::thread::scope(|scope| {
            for _ in 0..self.parallel.min(missing.len()) {
                scope.spawn(|| {
                    while !failed.load(Ordering::Relaxed) {
                        let Some(item) = missing.get(next.fetch_add(1, Ordering::Relaxed)) else { return };
                        if let Err(error) = self.into_store(store, item) {
                            failed.store(true, Ordering::Relaxed);
                            failure.lock().unwrap_or_else(|e| e.into_inner()).get_or_insert(error);
                        }
                    }
                });
            }
        });
        match failure.into_inner().unwrap_or_else(|e| e.into_inner()) {
            Some(error) => Err(error),
            None => Ok(()),
        }
    }

    /// Tries again what may go better the next time.
    fn patiently<T>(&self, url: &str, mut work: impl FnMut() -> Result<T, FetchError>) -> Result<T, FetchError> {
        let mut wait = self.back_off;
        for attempt in 1.. {
            let error = match work() {
                Ok(done) => return Ok(done),
                Err(error) => error,
            };
            let hopeful = match &error {
                FetchError::Unreachable { .. } => !url.starts_with("file:"),
                FetchError::Status { status, .. } => *status == 429 || *status >= 500,
                _ => false,
            };
            if !hopeful || attempt >= ATTEMPTS || self.stop.load(Ordering::Relaxed) {
                return Err(error);
            }
            (self.report)(FetchEvent::Again(error.to_string()));
            std::thread::sleep(wait);
            wait *= 2;
        }
        Err(FetchError::Interrupted)
    }

    fn attempt(&self, store: &Store, item: &FetchItem) -> Result<(), FetchError> {
        let shown = self.shown(&item.url);
        let broken = |why: String| FetchError::Unreachable { url: shown.clone(), why };
        let mut partial = store.partial(&item.digest)?;
        // Another process may have got it while we waited for the file.
        if store.has(&item.digest) {
            let _ = std::fs::remove_file(partial.path());
            return Ok(());
        }
        let present = partial.file().seek(SeekFrom::End(0)).map_err(|e| broken(e.to_string()))?;
        let mut have = if present > item.size { 0 } else { present };
        let resumed = have > 0;
        if have < item.size || item.size == 0 {
            let mut answer = self.open(&item.url, have)?;
            if answer.starts_at != have {
                have = answer.starts_at;
            }
            let file = partial.file();
            let placed = file.set_len(have).and_then(|()| file.seek(SeekFrom::Start(have)));
            placed.map_err(|e| broken(e.to_string()))?;
            (self.report)(FetchEvent::Advanced(have));
            let mut block = vec![0; BLOCK];
            loop {
                if self.stop.load(Ordering::Relaxed) {
                    return Err(FetchError::Interrupted);
                }
                let n = match answer.body.read(&mut block) {
                    Ok(0) => break,
                    Ok(n) => n,
                    Err(e) if e.kind() == io::ErrorKind::Interrupted => continue,
                    Err(e) => return Err(broken(e.to_string())),
                };
                have += n as u64;
                if have > item.size {
                    file.set_len(0).map_err(|e| broken(e.to_string()))?;
                    let what = format!("it is longer than the {} bytes it should have", item.size);
                    return Err(FetchError::Wrong { url: shown, what });
                }
                file.write_all(&block[..n]).map_err(|e| FetchError::Store(no_room(partial_path(store), e)))?;
                (self.report)(FetchEvent::Advanced(n as u64));
            }
            if have < item.size {
                return Err(broken(format!("it ended after {have} of {} bytes", item.size)));
            }
        }
        match store.adopt_partial(partial, &item.digest)? {
            Ok(_) => Ok(()),
            // What was there before may have been of another state of the file: once more from the start.
            Err(_) if resumed => Err(broken("what had arrived before does not fit".into())),
            Err(found) => {
                let what = format!("its bytes digest to {found}, they should to {}", item.digest);
                Err(FetchError::Wrong { url: shown, what })
            }
        }
    }

    fn open(&self, url: &str, from: u64) -> Result<Answer, FetchError> {
        if self.stop.load(Ordering::Relaxed) {
            return Err(FetchError::Interrupted);
        }
        let shown = self.shown(url);
        if let Some(path) = url.strip_prefix("file://").or_else(|| url.strip_prefix("file:")) {
            let mut file = File::open(path).map_err(|e| match e.kind() {
                io::ErrorKind::NotFound => FetchError::NotFound { url: shown.clone() },
                _ => FetchError::Unreachable { url: shown.clone(), why: e.to_string() },
            })?;
            file.seek(SeekFrom::Start(from)).map_err(|e| FetchError::Unreachable { url: shown, why: e.to_string() })?;
            return Ok(Answer { body: Box::new(file), starts_at: from });
        }
        if self.offline {
            return Err(FetchError::Offline { url: shown });
        }
        let mut request = self.agent.get(url);
        if from > 0 {
            request = request.header("Range", format!("bytes={from}-"));
        }
        let response =
            request.call().map_err(|e| FetchError::Unreachable { url: shown.clone(), why: e.to_string() })?;
        let status = response.status().as_u16();
        let starts_at = match status {
            200 => 0,
            206 => {
                let range = response.headers().get("content-range").and_then(|v| v.to_str().ok());
                let start: Option<u64> = range.and_then(|r| r.strip_prefix("bytes ")?.split('-').next()?.parse().ok());
                match start {
                    Some(start) if start == from => from,
                    _ => {
                        return Err(FetchError::Wrong {
                            url: shown,
                            what: "the server sends another part than asked for".into(),
                        });
                    }
                }
            }
            // What is there is as long as the whole or longer: from the start.
            416 if from > 0 => return self.open(url, 0),
            404 | 410 => return Err(FetchError::NotFound { url: shown }),
            status => return Err(FetchError::Status { url: shown, status }),
        };
        Ok(Answer { body: Box::new(response.into_body().into_reader()), starts_at })
    }
}

fn agent(silence: Duration) -> ureq::Agent {
    ureq::Agent::config_builder()
        .http_status_as_error(false)
        .timeout_connect(Some(Duration::from_secs(20)))
        .timeout_recv_response(Some(silence))
        .timeout_per_read(Some(silence))
        .max_idle_connections_per_host(8)
        .user_agent(concat!("embrak/", env!("CARGO_PKG_VERSION")))
        .build()
        .new_agent()
}

/// A URL with something else instead of what stands before `@`, if anything does.
pub fn with_credentials(url: &str, instead: &str) -> String {
    let Some((scheme, rest)) = url.split_once("://") else { return url.to_string() };
    let end = rest.find('/').unwrap_or(rest.len());
    let (host, path) = rest.split_at(end);
    match host.rsplit_once('@') {
        Some((_, host)) => format!("{scheme}://{instead}{host}{path}"),
        None => url.to_string(),
    }
}

fn partial_path(store: &Store) -> std::path::PathBuf {
    store.root().join("partial")
}

fn no_room(path: std::path::PathBuf, source: io::Error) -> StoreError {
    StoreError::Io { doing: "write", path, source }
}

struct Answer {
    body: Box<dyn Read + Send>,
    starts_at: u64,
}
