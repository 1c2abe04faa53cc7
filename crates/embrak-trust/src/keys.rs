//! Signing keys: Ed25519 (RFC 8032) in PKCS#8 PEM, public keys in SubjectPublicKeyInfo PEM (RFC 8410).

use ed25519_dalek::pkcs8::spki::der::pem::LineEnding;
use ed25519_dalek::pkcs8::{DecodePrivateKey, DecodePublicKey, EncodePrivateKey, EncodePublicKey};
use ed25519_dalek::{Signature, Signer as _, VerifyingKey};
use embrak_tree::Digest;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::io::Write as _;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::Path;

/// Identity of a key: SHA-256 of its SubjectPublicKeyInfo in DER, 64 hexadecimal digits.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct KeyId(pub String);

impl KeyId {
    /// The first 12 digits, for people.
    pub fn short(&self) -> &str {
        self.0.get(..12).unwrap_or(&self.0)
    }
}

impl fmt::Display for KeyId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Why a key cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum KeyError {
    /// The text is not a key.
    #[error("{name} is not {expected}: {why}")]
    Format {
        /// The file.
        name: String,
        /// What was expected.
        expected: &'static str,
        /// What is wrong.
        why: String,
    },
    /// The file cannot be read or written.
    #[error("cannot {doing} the key {name}: {source}")]
    Io {
        /// What was being done.
        doing: &'static str,
        /// The file.
        name: String,
        /// Why it failed.
        source: std::io::Error,
    },
    /// Others may read the file.
    #[error(
        "others than its owner may read the private key {name} (mode {mode:04o}): run `chmod 600 {name}`, and if it was so for long, make a new key"
    )]
    Mode {
        /// The file.
        name: String,
        /// Its mode.
        mode: u32,
    },
    /// There is no randomness to make a key from.
    #[error("the system gives no random bytes: {0}")]
    Random(String),
}

/// A private key.
pub struct SigningKey(ed25519_dalek::SigningKey);

/// A public key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublicKey(VerifyingKey);

const PRIVATE: &str = "an Ed25519 private key in PKCS#8 PEM";
const PUBLIC: &str = "an Ed25519 public key in SubjectPublicKeyInfo PEM";

fn format_error(name: &str, expected: &'static str, why: impl fmt::Display) -> KeyError {
    KeyError::Format { name: name.to_string(), expected, why: why.to_string() }
}

impl SigningKey {
    /// A new key from the system's randomness.
    ///
    /// # Errors
    /// The system gives none.
    pub fn generate() -> Result<Self, KeyError> {
        let mut seed = [0; 32];
        getrandom::fill(&mut seed).map_err(|e| KeyError::Random(e.to_string()))?;
        Ok(SigningKey(ed25519_dalek::SigningKey::from_bytes(&seed)))
    }

    /// A key whose secret is known: for tests and nothing else.
    pub fn from_seed(seed: [u8; 32]) -> Self {
        SigningKey(ed25519_dalek::SigningKey::from_bytes(&seed))
    }

    /// Its public half.
    pub fn public(&self) -> PublicKey {
        PublicKey(self.0.verifying_key())
    }

    /// Signs some bytes.
    pub fn sign(&self, message: &[u8]) -> Vec<u8> {
        self.0.sign(message).to_bytes().to_vec()
    }

    /// As PKCS#8 PEM.
    ///
    /// # Errors
    /// It cannot be encoded.
    pub fn to_pem(&self) -> Result<String, KeyError> {
        // Without the public half (RFC 5958 version 1), as most programs write and read it.
        let pair = ed25519_dalek::pkcs8::KeypairBytes { secret_key: self.0.to_bytes(), public_key: None };
        let pem = pair.to_pkcs8_pem(LineEnding::LF).map_err(|e| format_error("the new key", PRIVATE, e))?;
        Ok(pem.to_string())
    }

    /// Reads PKCS#8 PEM; `name` is for messages.
    ///
    /// # Errors
    /// It is not such a key.
    pub fn from_pem(text: &str, name: &str) -> Result<Self, KeyError> {
        ed25519_dalek::SigningKey::from_pkcs8_pem(text).map(SigningKey).map_err(|e| format_error(name, PRIVATE, e))
    }

    /// Reads a key file, which nobody but its owner may read.
    ///
    /// # Errors
    /// It cannot be read, is readable by others, or is not a key.
    pub fn load(path: &Path) -> Result<Self, KeyError> {
        let name = path.display().to_string();
        let io = |source| KeyError::Io { doing: "read", name: name.clone(), source };
        let mode = std::fs::metadata(path).map_err(io)?.permissions().mode() & 0o777;
        if mode & 0o077 != 0 {
            return Err(KeyError::Mode { name, mode });
        }
        let text = std::fs::read_to_string(path).map_err(io)?;
        SigningKey::from_pem(&text, &path.display().to_string())
    }

    /// Writes a new key file of mode 0600.
    ///
    /// # Errors
    /// There is such a file already, or it cannot be written.
    pub fn save(&self, path: &Path) -> Result<(), KeyError> {
        let io = |source| KeyError::Io { doing: "write", name: path.display().to_string(), source };
        let mut file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(io)?;
        file.write_all(self.to_pem()?.as_bytes()).and_then(|()| file.sync_all()).map_err(io)
    }
}

impl PublicKey {
    /// As SubjectPublicKeyInfo PEM.
    ///
    /// # Errors
    /// It cannot be encoded.
    pub fn to_pem(&self) -> Result<String, KeyError> {
        self.0.to_public_key_pem(LineEnding::LF).map_err(|e| format_error("the public key", PUBLIC, e))
    }

    /// Reads SubjectPublicKeyInfo PEM, written the one way it is usually written; `name` is for messages.
    ///
    /// # Errors
    /// It is not such a key, or is spelled another way.
    pub fn from_pem(text: &str, name: &str) -> Result<Self, KeyError> {
        let key = VerifyingKey::from_public_key_pem(text).map(PublicKey).map_err(|e| format_error(name, PUBLIC, e))?;
        if key.to_pem()? != text {
            return Err(format_error(
                name,
                PUBLIC,
                "it is not written the usual way (lines of 64 characters, line feeds)",
            ));
        }
        Ok(key)
    }

    /// Reads a public key file.
    ///
    /// # Errors
    /// It cannot be read or is not a key.
    pub fn load(path: &Path) -> Result<Self, KeyError> {
        let name = path.display().to_string();
        let text = std::fs::read_to_string(path).map_err(|source| KeyError::Io {
            doing: "read",
            name: name.clone(),
            source,
        })?;
        PublicKey::from_pem(&text, &name)
    }

    /// Its identity.
    pub fn id(&self) -> KeyId {
        let der = self.0.to_public_key_der().map(|d| d.as_bytes().to_vec()).unwrap_or_default();
        KeyId(Digest::of(der).hex())
    }

    /// Whether a signature of some bytes is by this key. Malleable signatures are refused.
    pub fn verifies(&self, message: &[u8], signature: &[u8]) -> bool {
        Signature::from_slice(signature).is_ok_and(|s| self.0.verify_strict(message, &s).is_ok())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn keys_are_written_and_read() {
        let key = SigningKey::generate().unwrap();
        let again = SigningKey::from_pem(&key.to_pem().unwrap(), "k").unwrap();
        assert_eq!(again.public(), key.public());
        let public = PublicKey::from_pem(&key.public().to_pem().unwrap(), "p").unwrap();
        assert!(public.verifies(b"lamp", &key.sign(b"lamp")));
        assert!(!public.verifies(b"lamp!", &key.sign(b"lamp")));
        assert_eq!(public.id(), key.public().id());
        assert_eq!(public.id().0.len(), 64);
    }

    #[test]
    fn a_private_key_others_can_read_is_refused() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("k.key");
        let key = SigningKey::generate().unwrap();
        key.save(&path).unwrap();
        assert!(matches!(key.save(&path), Err(KeyError::Io { .. })), "an existing key is never overwritten");
        SigningKey::load(&path).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o640)).unwrap();
        assert!(matches!(SigningKey::load(&path), Err(KeyError::Mode { mode: 0o640, .. })));
    }

    proptest! {
        #[test]
        fn a_flipped_bit_in_a_public_key_is_another_key_or_none(at in any::<prop::sample::Index>(), bit in 0u8..7) {
            let key = SigningKey::from_seed([7; 32]).public();
            let mut text = key.to_pem().unwrap().into_bytes();
            let at = at.index(text.len());
            text[at] ^= 1 << bit;
            if let Ok(other) = PublicKey::from_pem(&String::from_utf8(text).unwrap(), "k") {
                prop_assert_ne!(other.id(), key.id());
            }
        }
    }
}
