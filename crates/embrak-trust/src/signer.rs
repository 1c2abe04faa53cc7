//! Keys that another program holds, such as the driver of a hardware token.
//!
//! A file `NAME.signer` names the program: `command = ["holm-token", "--slot", "1"]`. It is started once for each
//! question, reads one line of JSON from its standard input and writes one line to its standard output:
//!
//! ```text
//!   {"embrakSigner":1,"do":"public"}                          -> {"publicKey":"-----BEGIN PUBLIC KEY-----\n..."}
//!   {"embrakSigner":1,"do":"sign","key":ID,"message":BASE64}  -> {"signature":BASE64}
//!   either                                                    -> {"error":"why not"}
//! ```
//!
//! `ID` is the SHA-256 of the public key's SubjectPublicKeyInfo. A signature is 64 bytes for Ed25519, DER for P-256.
//! Standard error and the terminal are the program's own, to ask for a PIN. What it signs is checked before it is used.

use crate::keys::{KeyError, PublicKey, settled};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::Deserialize;
use serde_json::{Value, json};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// Longer answers are none.
const LONGEST: usize = 64 * 1024;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    command: Vec<String>,
}

/// A program that has a key.
pub(crate) struct External {
    command: Vec<String>,
    dir: PathBuf,
    pub(crate) public: PublicKey,
}

impl External {
    /// Asks the program of a file for its public key. A program with a slash in its name lies relative to the file.
    pub(crate) fn open(text: &str, path: &Path) -> Result<External, KeyError> {
        let name = path.display().to_string();
        let fail = |why: String| KeyError::Signer { name: name.clone(), why };
        let file: File = toml::from_str(text).map_err(|e| fail(e.to_string().trim_end().to_string()))?;
        if file.command.is_empty() {
            return Err(fail("`command` is empty".into()));
        }
        let dir = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_path_buf();
        let answer = ask(&file.command, &dir, &json!({ "embrakSigner": 1, "do": "public" })).map_err(&fail)?;
        let pem = answer["publicKey"].as_str().ok_or_else(|| fail("its answer has no `publicKey`".into()))?;
        Ok(External { public: PublicKey::from_pem(pem, &name)?, command: file.command, dir })
    }

    pub(crate) fn name(&self) -> String {
        self.command.join(" ")
    }

    pub(crate) fn sign(&self, message: &[u8]) -> Result<Vec<u8>, KeyError> {
        let fail = |why: String| KeyError::Signer { name: self.name(), why };
        let request = json!({
            "embrakSigner": 1, "do": "sign", "key": self.public.id(), "message": STANDARD.encode(message),
        });
        let answer = ask(&self.command, &self.dir, &request).map_err(fail)?;
        let text = answer["signature"].as_str().ok_or_else(|| fail("its answer has no `signature`".into()))?;
        let signature = STANDARD.decode(text).map_err(|e| fail(format!("its signature is no Base64: {e}")))?;
        let signature = settled(&self.public, &signature);
        if !self.public.verifies(message, &signature) {
            return Err(fail("what it gave is no signature by its own key".into()));
        }
        Ok(signature)
    }
}

fn ask(command: &[String], dir: &Path, request: &Value) -> Result<Value, String> {
    let program = match command[0].contains('/') {
        true => dir.join(&command[0]),
        false => PathBuf::from(&command[0]),
    };
    let mut child = Command::new(&program)
        .args(&command[1..])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .map_err(|e| format!("cannot start {}: {e}", program.display()))?;
    if let Some(mut stdin) = child.stdin.take() {
        // One that does not read still answers, or not.
        let _ = stdin.write_all(format!("{request}\n").as_bytes());
    }
    let output = child.wait_with_output().map_err(|e| e.to_string())?;
    let text = String::from_utf8_lossy(&output.stdout[..output.stdout.len().min(LONGEST)]).into_owned();
    let answer: Result<Value, String> =
        serde_json::from_str(text.trim()).map_err(|e| format!("its answer is no JSON ({e})"));
    match answer {
        Ok(answer) if answer["error"].is_string() => Err(answer["error"].as_str().unwrap_or_default().to_string()),
        Ok(answer) if output.status.success() => Ok(answer),
        Ok(_) => Err(format!("it ended with {}", output.status)),
        Err(why) if output.status.success() => Err(why),
        Err(why) => Err(format!("it ended with {}; {why}", output.status)),
    }
}
