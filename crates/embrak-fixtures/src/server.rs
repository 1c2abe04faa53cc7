//! An HTTP server over a directory that can be told to misbehave.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use tiny_http::{Header, Request, Response, StatusCode};

/// What goes wrong.
#[derive(Debug, Clone)]
pub enum Fault {
    /// The next so many requests for paths that hold this text are answered with this status.
    Status(String, u16, usize),
    /// The next so many answers for paths that hold this text break off after so many bytes.
    BreakOff(String, usize, usize),
    /// Paths that hold this text give other bytes of the same length.
    Garble(String),
    /// Requests without this Authorization header are refused.
    Password(String),
}

#[derive(Default)]
struct State {
    faults: Vec<Fault>,
    log: Vec<String>,
}

/// A running server; it ends with the value.
pub struct Server {
    inner: Arc<tiny_http::Server>,
    state: Arc<Mutex<State>>,
    thread: Option<std::thread::JoinHandle<()>>,
}

impl Server {
    /// Serves a directory on a free port of this machine.
    pub fn start(dir: &Path) -> Server {
        let inner = Arc::new(tiny_http::Server::http("127.0.0.1:0").unwrap());
        let state = Arc::new(Mutex::new(State::default()));
        let (server, shared, dir) = (inner.clone(), state.clone(), dir.to_path_buf());
        let thread = std::thread::spawn(move || {
            let mut answers = Vec::new();
            for request in server.incoming_requests() {
                let (dir, shared) = (dir.clone(), shared.clone());
                answers.push(std::thread::spawn(move || answer(request, &dir, &shared)));
            }
            for answer in answers {
                let _ = answer.join();
            }
        });
        Server { inner, state, thread: Some(thread) }
    }

    /// Its URL.
    pub fn url(&self) -> String {
        format!("http://{}", self.inner.server_addr())
    }

    /// Lets something go wrong from now on.
    pub fn fault(&self, fault: Fault) {
        self.state.lock().unwrap().faults.push(fault);
    }

    /// Nothing goes wrong any more.
    pub fn mend(&self) {
        self.state.lock().unwrap().faults.clear();
    }

    /// What was asked for since the last call: `PATH` or `PATH from BYTE`.
    pub fn log(&self) -> Vec<String> {
        std::mem::take(&mut self.state.lock().unwrap().log)
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.inner.unblock();
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn answer(request: Request, dir: &Path, shared: &Mutex<State>) {
    let path = request.url().to_string();
    let header = |name: &'static str| {
        request.headers().iter().find(|h| h.field.equiv(name)).map(|h| h.value.as_str().to_string())
    };
    let from: usize =
        header("Range").and_then(|r| r.strip_prefix("bytes=")?.strip_suffix('-')?.parse().ok()).unwrap_or_default();
    let (mut status, mut break_off, mut garble) = (None, None, false);
    {
        let mut state = shared.lock().unwrap();
        state.log.push(if from > 0 { format!("{path} from {from}") } else { path.clone() });
        for fault in &mut state.faults {
            // One thing at a time goes wrong.
            if status.is_some() || break_off.is_some() {
                break;
            }
            match fault {
                Fault::Status(text, code, times) if path.contains(text.as_str()) && *times > 0 => {
                    *times -= 1;
                    status = Some(*code);
                }
                Fault::BreakOff(text, after, times) if path.contains(text.as_str()) && *times > 0 => {
                    *times -= 1;
                    break_off = Some(*after);
                }
                Fault::Garble(text) if path.contains(text.as_str()) => garble = true,
                Fault::Password(wanted) if header("Authorization").as_deref() != Some(wanted) => status = Some(401),
                _ => {}
            }
        }
    }
    let empty = |code: u16| Response::empty(StatusCode(code));
    if let Some(code) = status {
        let _ = request.respond(empty(code));
        return;
    }
    let file: PathBuf = dir.join(path.trim_start_matches('/').replace("%3a", ":"));
    let file = if file.exists() { file } else { dir.join(path.trim_start_matches('/')) };
    let Ok(mut bytes) = fs::read(&file) else {
        let _ = request.respond(empty(404));
        return;
    };
    if garble {
        bytes.iter_mut().for_each(|b| *b ^= 0x55);
    }
    if from >= bytes.len() && from > 0 {
        let _ = request.respond(empty(416));
        return;
    }
    let whole = bytes.len();
    let bytes = bytes.split_off(from);
    if let Some(after) = break_off {
        // Promises all of it and closes the connection too early.
        use std::io::Write;
        let mut out = request.into_writer();
        let head = format!("HTTP/1.1 200 OK\r\nContent-Length: {whole}\r\n\r\n");
        let _ = out.write_all(head.as_bytes());
        let _ = out.write_all(&bytes[..after.min(bytes.len())]);
        let _ = out.flush();
        return;
    }
    let code = if from > 0 { 206 } else { 200 };
    let mut response = Response::from_data(bytes).with_status_code(code);
    if from > 0 {
        let value = format!("bytes {from}-{}/{whole}", whole - 1);
        response.add_header(Header::from_bytes("Content-Range", value).unwrap());
    }
    let _ = request.respond(response);
}
