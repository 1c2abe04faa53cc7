//! Signing keys: Ed25519 (RFC 8032) and ECDSA over P-256 with SHA-256 (FIPS 186-5), in PKCS#8 PEM, plain or encrypted by
//! PBES2 (RFC 8018); public keys in SubjectPublicKeyInfo PEM (RFC 8410, RFC 5480). A key can also lie with another
//! program, see [`crate::signer`].

use crate::signer::External;
use ed25519_dalek::pkcs8::spki::der::pem::LineEnding;
use ed25519_dalek::pkcs8::{DecodePrivateKey, DecodePublicKey, EncodePrivateKey, EncodePublicKey};
use ed25519_dalek::{Signer as _, VerifyingKey};
use embrak_tree::Digest;
use p256::pkcs8::{
    DecodePrivateKey as _, DecodePublicKey as _, EncodePrivateKey as _, EncodePublicKey as _, EncryptedPrivateKeyInfo,
    PrivateKeyInfo, pkcs5::pbes2,
};
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
    /// It is encrypted, and nobody gave a passphrase, or a wrong one.
    #[error("{name} is protected by a passphrase: {why}")]
    Passphrase {
        /// The file.
        name: String,
        /// What is wrong.
        why: String,
    },
    /// The program that holds the key did not do its part.
    #[error("the signer {name}: {why}")]
    Signer {
        /// The program or file.
        name: String,
        /// What is wrong.
        why: String,
    },
    /// There is no randomness to make a key from.
    #[error("the system gives no random bytes: {0}")]
    Random(String),
}

/// How a key signs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Algorithm {
    /// Ed25519.
    #[serde(rename = "ed25519")]
    Ed25519,
    /// ECDSA over P-256 with SHA-256.
    #[serde(rename = "p256")]
    P256,
}

impl fmt::Display for Algorithm {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Algorithm::Ed25519 => "Ed25519",
            Algorithm::P256 => "ECDSA P-256",
        })
    }
}

enum Private {
    Ed25519(ed25519_dalek::SigningKey),
    P256(p256::ecdsa::SigningKey),
    External(External),
}

/// A private key, or a program that has one.
pub struct SigningKey(Private);

#[derive(Debug, Clone, PartialEq, Eq)]
enum Public {
    Ed25519(VerifyingKey),
    P256(p256::ecdsa::VerifyingKey),
}

/// A public key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublicKey(Public);

const PRIVATE: &str = "an Ed25519 or P-256 private key in PKCS#8 PEM";
const PUBLIC: &str = "an Ed25519 or P-256 public key in SubjectPublicKeyInfo PEM";
const PLAIN_LABEL: &str = "PRIVATE KEY";
const ENCRYPTED_LABEL: &str = "ENCRYPTED PRIVATE KEY";
/// Rounds of PBKDF2 with HMAC-SHA-256: what is recommended for passwords today.
const ROUNDS: u32 = 600_000;

fn format_error(name: &str, expected: &'static str, why: impl fmt::Display) -> KeyError {
    KeyError::Format { name: name.to_string(), expected, why: why.to_string() }
}

fn random<const N: usize>() -> Result<[u8; N], KeyError> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).map_err(|e| KeyError::Random(e.to_string()))?;
    Ok(bytes)
}

impl SigningKey {
    /// A new Ed25519 key from the system's randomness.
    ///
    /// # Errors
    /// The system gives none.
    pub fn generate() -> Result<Self, KeyError> {
        SigningKey::generate_for(Algorithm::Ed25519)
    }

    /// A new key from the system's randomness.
    ///
    /// # Errors
    /// The system gives none.
    pub fn generate_for(algorithm: Algorithm) -> Result<Self, KeyError> {
        match algorithm {
            Algorithm::Ed25519 => {
                Ok(SigningKey(Private::Ed25519(ed25519_dalek::SigningKey::from_bytes(&random::<32>()?))))
            }
            // Of all numbers of 256 bits hardly one is not below the order; it is drawn again.
            Algorithm::P256 => loop {
                if let Ok(key) = p256::ecdsa::SigningKey::from_slice(&random::<32>()?) {
                    return Ok(SigningKey(Private::P256(key)));
                }
            },
        }
    }

    /// A key whose secret is known: for tests and nothing else.
    pub fn from_seed(seed: [u8; 32]) -> Self {
        SigningKey(Private::Ed25519(ed25519_dalek::SigningKey::from_bytes(&seed)))
    }

    /// Its public half.
    pub fn public(&self) -> PublicKey {
        match &self.0 {
            Private::Ed25519(key) => PublicKey(Public::Ed25519(key.verifying_key())),
            Private::P256(key) => PublicKey(Public::P256(*key.verifying_key())),
            Private::External(external) => external.public.clone(),
        }
    }

    /// Signs some bytes. Signatures by P-256 are in DER and of the one kind that cannot be changed into another.
    ///
    /// # Errors
    /// The program that has the key does not sign, or signs wrongly.
    pub fn sign(&self, message: &[u8]) -> Result<Vec<u8>, KeyError> {
        match &self.0 {
            Private::Ed25519(key) => Ok(key.sign(message).to_bytes().to_vec()),
            Private::P256(key) => {
                let signature: p256::ecdsa::Signature = p256::ecdsa::signature::Signer::sign(key, message);
                Ok(signature.normalize_s().unwrap_or(signature).to_der().as_bytes().to_vec())
            }
            Private::External(external) => external.sign(message),
        }
    }

    fn document(&self) -> Result<p256::pkcs8::SecretDocument, KeyError> {
        let fail = |e: &dyn fmt::Display| format_error("the key", PRIVATE, e);
        match &self.0 {
            Private::Ed25519(key) => {
                // Without the public half (RFC 5958 version 1), as most programs write and read it.
                let pair = ed25519_dalek::pkcs8::KeypairBytes { secret_key: key.to_bytes(), public_key: None };
                let der = pair.to_pkcs8_der().map_err(|e| fail(&e))?;
                der.as_bytes().try_into().map_err(|e: p256::pkcs8::der::Error| fail(&e))
            }
            Private::P256(key) => {
                let secret = p256::SecretKey::from_slice(&key.to_bytes()).map_err(|e| fail(&e))?;
                secret.to_pkcs8_der().map_err(|e| fail(&e))
            }
            Private::External(external) => {
                let why = "it has the key, and does not give it away".to_string();
                Err(KeyError::Signer { name: external.name(), why })
            }
        }
    }

    /// As PKCS#8 PEM.
    ///
    /// # Errors
    /// It cannot be encoded, or lies with another program.
    pub fn to_pem(&self) -> Result<String, KeyError> {
        let pem = self.document()?.to_pem(PLAIN_LABEL, p256::pkcs8::LineEnding::LF);
        Ok(pem.map_err(|e| format_error("the key", PRIVATE, e))?.to_string())
    }

    /// As PKCS#8 PEM, encrypted by PBES2 with PBKDF2, HMAC-SHA-256 and AES-256-CBC.
    ///
    /// # Errors
    /// As [`SigningKey::to_pem`]; the passphrase is empty.
    pub fn to_encrypted_pem(&self, passphrase: &str) -> Result<String, KeyError> {
        if passphrase.is_empty() {
            return Err(KeyError::Passphrase { name: "the key".into(), why: "an empty one protects nothing".into() });
        }
        let fail = |e: &dyn fmt::Display| format_error("the key", PRIVATE, e);
        let (salt, iv) = (random::<16>()?, random::<16>()?);
        let document = self.document()?;
        let info = PrivateKeyInfo::try_from(document.as_bytes()).map_err(|e| fail(&e))?;
        let parameters = pbes2::Parameters::pbkdf2_sha256_aes256cbc(ROUNDS, &salt, &iv).map_err(|e| fail(&e))?;
        let encrypted = info.encrypt_with_params(parameters, passphrase).map_err(|e| fail(&e))?;
        let pem = encrypted.to_pem(ENCRYPTED_LABEL, p256::pkcs8::LineEnding::LF).map_err(|e| fail(&e))?;
        Ok(pem.to_string())
    }

    /// Reads PKCS#8 PEM, plain or encrypted; `name` is for messages, `passphrase` is asked when it is needed.
    ///
    /// # Errors
    /// It is not such a key, or the passphrase is not the right one.
    pub fn from_pem(text: &str, name: &str, passphrase: &dyn Fn() -> Result<String, String>) -> Result<Self, KeyError> {
        let (label, document) =
            p256::pkcs8::SecretDocument::from_pem(text).map_err(|e| format_error(name, PRIVATE, e))?;
        let document = match label {
            PLAIN_LABEL => document,
            ENCRYPTED_LABEL => {
                let closed = |why: String| KeyError::Passphrase { name: name.to_string(), why };
                let info = EncryptedPrivateKeyInfo::try_from(document.as_bytes())
                    .map_err(|e| format_error(name, PRIVATE, e))?;
                let passphrase = passphrase().map_err(closed)?;
                info.decrypt(passphrase).map_err(|_| closed("this is not the right one".into()))?
            }
            other => return Err(format_error(name, PRIVATE, format!("it is labelled `{other}`"))),
        };
        let der = document.as_bytes();
        if let Ok(key) = ed25519_dalek::SigningKey::from_pkcs8_der(der) {
            return Ok(SigningKey(Private::Ed25519(key)));
        }
        let key = p256::SecretKey::from_pkcs8_der(der).map_err(|e| format_error(name, PRIVATE, e))?;
        Ok(SigningKey(Private::P256(key.into())))
    }

    /// Reads a key file, which nobody but its owner may read; one that ends in `.signer` names a program that has the key.
    ///
    /// # Errors
    /// It cannot be read, is readable by others, or is not a key.
    pub fn load(path: &Path, passphrase: &dyn Fn() -> Result<String, String>) -> Result<Self, KeyError> {
        let name = path.display().to_string();
        let io = |source| KeyError::Io { doing: "read", name: name.clone(), source };
        let text = std::fs::read_to_string(path).map_err(io)?;
        let mode = std::fs::metadata(path).map_err(io)?.permissions().mode() & 0o777;
        if path.extension().is_some_and(|e| e == "signer") {
            // Whoever may write it decides what is run.
            if mode & 0o022 != 0 {
                return Err(KeyError::Mode { name, mode });
            }
            return Ok(SigningKey(Private::External(External::open(&text, path)?)));
        }
        if mode & 0o077 != 0 {
            return Err(KeyError::Mode { name, mode });
        }
        SigningKey::from_pem(&text, &name, passphrase)
    }

    /// Writes a new key file of mode 0600, encrypted when there is a passphrase.
    ///
    /// # Errors
    /// There is such a file already, or it cannot be written.
    pub fn save(&self, path: &Path, passphrase: Option<&str>) -> Result<(), KeyError> {
        let io = |source| KeyError::Io { doing: "write", name: path.display().to_string(), source };
        let pem = passphrase.map_or_else(|| self.to_pem(), |p| self.to_encrypted_pem(p))?;
        let mut file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(io)?;
        file.write_all(pem.as_bytes()).and_then(|()| file.sync_all()).map_err(io)
    }
}

impl PublicKey {
    /// As SubjectPublicKeyInfo PEM.
    ///
    /// # Errors
    /// It cannot be encoded.
    pub fn to_pem(&self) -> Result<String, KeyError> {
        let fail = |e: &dyn fmt::Display| format_error("the public key", PUBLIC, e);
        match &self.0 {
            Public::Ed25519(key) => key.to_public_key_pem(LineEnding::LF).map_err(|e| fail(&e)),
            Public::P256(key) => key.to_public_key_pem(p256::pkcs8::LineEnding::LF).map_err(|e| fail(&e)),
        }
    }

    /// Reads SubjectPublicKeyInfo PEM, written the one way it is usually written; `name` is for messages.
    ///
    /// # Errors
    /// It is not such a key, or is spelled another way.
    pub fn from_pem(text: &str, name: &str) -> Result<Self, KeyError> {
        let key = match VerifyingKey::from_public_key_pem(text) {
            Ok(key) => PublicKey(Public::Ed25519(key)),
            Err(_) => {
                let key = p256::ecdsa::VerifyingKey::from_public_key_pem(text);
                PublicKey(Public::P256(key.map_err(|e| format_error(name, PUBLIC, e))?))
            }
        };
        if key.to_pem()? != text {
            let why = "it is not written the usual way (lines of 64 characters, line feeds, points not compressed)";
            return Err(format_error(name, PUBLIC, why));
        }
        Ok(key)
    }

    /// Reads a public key file.
    ///
    /// # Errors
    /// It cannot be read or is not a key.
    pub fn load(path: &Path) -> Result<Self, KeyError> {
        let name = path.display().to_string();
        let io = |source| KeyError::Io { doing: "read", name: name.clone(), source };
        PublicKey::from_pem(&std::fs::read_to_string(path).map_err(io)?, &name)
    }

    /// How it signs.
    pub fn algorithm(&self) -> Algorithm {
        match self.0 {
            Public::Ed25519(_) => Algorithm::Ed25519,
            Public::P256(_) => Algorithm::P256,
        }
    }

    /// Its identity.
    pub fn id(&self) -> KeyId {
        let der = match &self.0 {
            Public::Ed25519(key) => key.to_public_key_der().map(|d| d.as_bytes().to_vec()).unwrap_or_default(),
            Public::P256(key) => key.to_public_key_der().map(|d| d.as_bytes().to_vec()).unwrap_or_default(),
        };
        KeyId(Digest::of(der).hex())
    }

    /// Whether a signature of some bytes is by this key. Of P-256 only the smaller of the two signatures that would fit
    /// is taken, written in DER the one way: no signature can be changed into another that fits.
    pub fn verifies(&self, message: &[u8], signature: &[u8]) -> bool {
        match &self.0 {
            Public::Ed25519(key) => {
                ed25519_dalek::Signature::from_slice(signature).is_ok_and(|s| key.verify_strict(message, &s).is_ok())
            }
            Public::P256(key) => p256::ecdsa::Signature::from_der(signature).is_ok_and(|s| {
                let one_way = s.normalize_s().is_none() && s.to_der().as_bytes() == signature;
                one_way && p256::ecdsa::signature::Verifier::verify(key, message, &s).is_ok()
            }),
        }
    }
}

/// A P-256 signature as another program made it, in the one form that is taken here.
pub(crate) fn settled(public: &PublicKey, signature: &[u8]) -> Vec<u8> {
    match (&public.0, p256::ecdsa::Signature::from_der(signature)) {
        (Public::P256(_), Ok(found)) => found.normalize_s().unwrap_or(found).to_der().as_bytes().to_vec(),
        _ => signature.to_vec(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn none() -> Result<String, String> {
        Err("nobody is there to ask".into())
    }

    #[test]
    fn keys_are_written_and_read() {
        for algorithm in [Algorithm::Ed25519, Algorithm::P256] {
            let key = SigningKey::generate_for(algorithm).unwrap();
            let again = SigningKey::from_pem(&key.to_pem().unwrap(), "k", &none).unwrap();
            assert_eq!(again.public(), key.public());
            let public = PublicKey::from_pem(&key.public().to_pem().unwrap(), "p").unwrap();
            assert_eq!(public.algorithm(), algorithm);
            assert!(public.verifies(b"lamp", &key.sign(b"lamp").unwrap()));
            assert!(!public.verifies(b"lamp!", &key.sign(b"lamp").unwrap()));
            assert_eq!(public.id(), key.public().id());
            assert_eq!(public.id().0.len(), 64);
            let closed = key.to_encrypted_pem("ebb and flow").unwrap();
            let opened = SigningKey::from_pem(&closed, "k", &|| Ok("ebb and flow".into())).unwrap();
            assert_eq!(opened.public(), key.public());
            for wrong in [none(), Ok("flow and ebb".into())] {
                let error = SigningKey::from_pem(&closed, "k", &|| wrong.clone()).err().unwrap();
                assert!(matches!(error, KeyError::Passphrase { .. }), "{error}");
            }
            assert!(key.to_encrypted_pem("").is_err());
        }
    }

    #[test]
    fn of_two_signatures_that_fit_only_one_is_taken() {
        let key = SigningKey::generate_for(Algorithm::P256).unwrap();
        let signature = p256::ecdsa::Signature::from_der(&key.sign(b"lamp").unwrap()).unwrap();
        let (r, s) = signature.split_scalars();
        let other = p256::ecdsa::Signature::from_scalars(r, -*s).unwrap();
        let other = other.to_der().as_bytes().to_vec();
        assert!(!key.public().verifies(b"lamp", &other));
        assert!(key.public().verifies(b"lamp", &settled(&key.public(), &other)));
    }

    #[test]
    fn a_private_key_others_can_read_is_refused() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("k.key");
        let key = SigningKey::generate().unwrap();
        key.save(&path, None).unwrap();
        assert!(matches!(key.save(&path, None), Err(KeyError::Io { .. })), "an existing key is never overwritten");
        SigningKey::load(&path, &none).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o640)).unwrap();
        assert!(matches!(SigningKey::load(&path, &none), Err(KeyError::Mode { mode: 0o640, .. })));
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
