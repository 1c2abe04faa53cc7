//! Checking OpenPGP signatures (RFC 9580) against a declared keyring.
//!
//! A document counts as signed when one of the keyring's certificates, or one of its subkeys that is bound to it
//! and may sign, has made one of the signatures; when neither the signature nor the key had expired at the
//! document's time; and when the key is not revoked. Signatures by keys that are not in the keyring are passed
//! over: repositories sign with old and new keys at once.

use pgp::composed::{CleartextSignedMessage, Deserializable, DetachedSignature, SignedPublicKey};
use pgp::crypto::hash::HashAlgorithm;
use pgp::packet::{Signature, SignatureType};
use pgp::types::{KeyDetails, Tag};
use std::io::{BufReader, Cursor};

/// The keys a repository may be signed with.
#[derive(Debug)]
pub struct Keyring {
    keys: Vec<SignedPublicKey>,
    from: String,
}

/// Who signed a document.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignedBy {
    /// Fingerprint of the key or subkey, in lower-case hexadecimal digits.
    pub fingerprint: String,
    /// What the key's owner calls it.
    pub user: String,
}

impl Keyring {
    /// Reads certificates, armored or not, one or several.
    ///
    /// # Errors
    /// There is none in it, or one is damaged.
    pub fn parse(bytes: &[u8], from: &str) -> Result<Keyring, String> {
        let armored = bytes.trim_ascii_start().starts_with(b"-----BEGIN");
        let mut keys = Vec::new();
        let fail = |e: pgp::errors::Error| format!("{from} is not an OpenPGP keyring: {e}");
        if armored {
            // Several armored blocks may stand one behind the other.
            let text = String::from_utf8_lossy(bytes);
            const BEGIN: &str = "-----BEGIN PGP PUBLIC KEY BLOCK-----";
            let starts: Vec<usize> = text.match_indices(BEGIN).map(|(at, _)| at).collect();
            for (n, &start) in starts.iter().enumerate() {
                let block = &text[start..starts.get(n + 1).copied().unwrap_or(text.len())];
                let (found, _) = SignedPublicKey::from_armor_many(Cursor::new(block.as_bytes())).map_err(fail)?;
                keys.extend(found.collect::<Result<Vec<_>, _>>().map_err(fail)?);
            }
        } else {
            let found = SignedPublicKey::from_bytes_many(BufReader::new(bytes)).map_err(fail)?;
            keys.extend(found.collect::<Result<Vec<_>, _>>().map_err(fail)?);
        }
        if keys.is_empty() {
            return Err(format!("{from} holds no OpenPGP public key"));
        }
        Ok(Keyring { keys, from: from.to_string() })
    }

    /// Checks a document with its signature around it (RFC 9580 section 7); its text and who signed it.
    ///
    /// # Errors
    /// It is not such a document, or none of the keys has signed it.
    pub fn open_inline(&self, document: &str) -> Result<(String, SignedBy), String> {
        let (message, _) =
            CleartextSignedMessage::from_string(document).map_err(|e| format!("it is not a signed document: {e}"))?;
        // What is signed ends its lines with CR LF; what people wrote does not.
        let signed = message.signed_text();
        let by = self.first(message.signatures().iter(), signed.as_bytes())?;
        Ok((signed.replace("\r\n", "\n"), by))
    }

    /// Checks a document with its signature beside it.
    ///
    /// # Errors
    /// The signature cannot be read, or none of the keys has made it.
    pub fn check_detached(&self, document: &[u8], signature: &[u8]) -> Result<SignedBy, String> {
        let fail = |e: pgp::errors::Error| format!("its signature cannot be read: {e}");
        let signatures: Vec<DetachedSignature> = if signature.trim_ascii_start().starts_with(b"-----BEGIN") {
            let (found, _) = DetachedSignature::from_armor_many(Cursor::new(signature)).map_err(fail)?;
            found.collect::<Result<_, _>>().map_err(fail)?
        } else {
            let found = DetachedSignature::from_bytes_many(BufReader::new(signature)).map_err(fail)?;
            found.collect::<Result<_, _>>().map_err(fail)?
        };
        self.first(signatures.iter().map(|s| &s.signature), document)
    }

    /// The first signature that counts.
    fn first<'s>(&self, signatures: impl Iterator<Item = &'s Signature>, content: &[u8]) -> Result<SignedBy, String> {
        let mut why = Vec::new();
        for signature in signatures {
            match self.check(signature, content) {
                Ok(by) => return Ok(by),
                Err(reason) => why.push(reason),
            }
        }
        if why.is_empty() {
            return Err("it has no signature".into());
        }
        why.dedup();
        Err(format!("no key of {} has signed it ({})", self.from, why.join("; ")))
    }

    fn check(&self, signature: &Signature, content: &[u8]) -> Result<SignedBy, String> {
        if !matches!(signature.typ(), Some(SignatureType::Binary | SignatureType::Text)) {
            return Err("a signature of another kind".into());
        }
        if matches!(
            signature.hash_alg(),
            None | Some(HashAlgorithm::Md5 | HashAlgorithm::Sha1 | HashAlgorithm::Ripemd160)
        ) {
            return Err("a signature over a digest that is not safe any more".into());
        }
        let made = signature.created().map(|t| u64::from(t.as_secs())).ok_or("a signature without a date")?;
        if signature.signature_expiration_time().is_some_and(|span| {
            let span = u64::from(span.as_secs());
            span != 0 && now() > made + span
        }) {
            return Err("a signature that has expired".into());
        }
        for key in &self.keys {
            if !key.details.revocation_signatures.is_empty() {
                continue;
            }
            let user =
                key.details.users.first().map_or_else(String::new, |u| String::from_utf8_lossy(u.id.id()).into_owned());
            let primary = key.primary_key.fingerprint();
            // Others certify keys too; only what the key says of itself counts here.
            let own = || {
                let primary = &key.primary_key;
                let of_users = key.details.users.iter().flat_map(move |u| {
                    let by_itself = move |s: &&Signature| s.verify_certification(primary, Tag::UserId, &u.id).is_ok();
                    u.signatures.iter().filter(by_itself)
                });
                let direct = key.details.direct_signatures.iter().filter(move |s| s.verify_key(primary).is_ok());
                of_users.chain(direct)
            };
            if signature.verify(&key.primary_key, content).is_ok() {
                return expiry(own(), u64::from(key.primary_key.created_at().as_secs()), made)
                    .map(|()| SignedBy { fingerprint: format!("{primary:x}"), user });
            }
            for subkey in &key.public_subkeys {
                let revoked = subkey.signatures.iter().any(|s| s.typ() == Some(SignatureType::SubkeyRevocation));
                let may_sign = subkey.signatures.iter().any(|s| s.key_flags().sign());
                if revoked || !may_sign || subkey.verify_bindings(&key.primary_key).is_err() {
                    continue;
                }
                if signature.verify(&subkey.key, content).is_ok() {
                    let fingerprint = format!("{:x}", subkey.key.fingerprint());
                    expiry(subkey.signatures.iter(), u64::from(subkey.key.created_at().as_secs()), made)?;
                    return expiry(own(), u64::from(key.primary_key.created_at().as_secs()), made)
                        .map(|()| SignedBy { fingerprint, user });
                }
            }
        }
        let by: Vec<String> = signature.issuer_fingerprint().iter().map(|f| format!("{f:x}")).collect();
        let by = if by.is_empty() { signature.issuer_key_id().iter().map(|k| k.to_string()).collect() } else { by };
        Err(format!("signed by {}", if by.is_empty() { "a key that is not named".into() } else { by.join(", ") }))
    }
}

/// Whether a key was valid when it signed: the newest statement about its life counts.
fn expiry<'s>(about: impl Iterator<Item = &'s Signature>, created: u64, signed: u64) -> Result<(), String> {
    let newest = about.filter(|s| s.created().is_some()).max_by_key(|s| s.created().map(|t| t.as_secs()));
    let span = newest.and_then(|s| s.key_expiration_time()).map_or(0, |d| u64::from(d.as_secs()));
    if span != 0 && signed > created + span {
        return Err("signed by a key that had expired".into());
    }
    Ok(())
}

fn now() -> u64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |d| d.as_secs())
}
