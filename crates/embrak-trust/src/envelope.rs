//! Signed envelopes: DSSE v1 (secure-systems-lab), one per line.

use crate::{KeyId, PublicKey, SigningKey, Statement};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Serialize};

/// Payload type of in-toto statements.
pub const PAYLOAD_TYPE: &str = "application/vnd.in-toto+json";

/// An envelope.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub struct Envelope {
    /// What the payload is.
    pub payload_type: String,
    /// The payload in Base64.
    payload: String,
    /// Who signed it.
    pub signatures: Vec<EnvelopeSignature>,
}

/// One signature.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct EnvelopeSignature {
    /// Which key; only a hint, the signature itself decides.
    pub keyid: KeyId,
    /// The signature in Base64.
    sig: String,
}

/// Why an envelope cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EnvelopeError {
    /// The line is not an envelope.
    #[error("not a signed envelope: {0}")]
    Format(String),
    /// The key did not sign.
    #[error("{0}")]
    Key(String),
    /// The payload is not a statement.
    #[error("the signed text is not a statement: {0}")]
    Statement(String),
}

/// What is signed: type and payload with their lengths (DSSE protocol, "PAE").
fn pre_authentication(payload_type: &str, payload: &[u8]) -> Vec<u8> {
    let mut out = format!("DSSEv1 {} {payload_type} {} ", payload_type.len(), payload.len()).into_bytes();
    out.extend_from_slice(payload);
    out
}

impl Envelope {
    /// Signs a statement.
    ///
    /// # Errors
    /// The statement cannot be written as JSON.
    pub fn sign(statement: &Statement, key: &SigningKey) -> Result<Self, EnvelopeError> {
        let payload = serde_json::to_vec(statement).map_err(|e| EnvelopeError::Statement(e.to_string()))?;
        Envelope::sign_bytes(PAYLOAD_TYPE, &payload, key)
    }

    /// Signs a document of another type.
    ///
    /// # Errors
    /// The key does not sign.
    pub fn sign_bytes(payload_type: &str, payload: &[u8], key: &SigningKey) -> Result<Self, EnvelopeError> {
        let message = pre_authentication(payload_type, payload);
        let signature = key.sign(&message).map_err(|e| EnvelopeError::Key(e.to_string()))?;
        Ok(Envelope {
            payload_type: payload_type.to_string(),
            payload: STANDARD.encode(payload),
            signatures: vec![EnvelopeSignature { keyid: key.public().id(), sig: STANDARD.encode(signature) }],
        })
    }

    /// The document of an envelope of this type, if one of the keys has signed it, and which of them did.
    pub fn opened_by<'k>(&self, payload_type: &str, keys: &'k [PublicKey]) -> Option<(Vec<u8>, &'k PublicKey)> {
        let payload = STANDARD.decode(&self.payload).ok().filter(|_| self.payload_type == payload_type)?;
        let message = pre_authentication(payload_type, &payload);
        let signed = |key: &&PublicKey| {
            let of = |s: &EnvelopeSignature| {
                s.keyid == key.id() && STANDARD.decode(&s.sig).is_ok_and(|sig| key.verifies(&message, &sig))
            };
            self.signatures.iter().any(of)
        };
        let key = keys.iter().find(signed)?;
        Some((payload, key))
    }

    /// The document of an envelope, whoever signed it or not: only for one that is trusted for another reason.
    pub fn unverified_payload(&self) -> Result<Vec<u8>, EnvelopeError> {
        STANDARD.decode(&self.payload).map_err(|e| EnvelopeError::Format(e.to_string()))
    }

    /// The envelope as one line without its end.
    pub fn to_line(&self) -> String {
        serde_json::to_string(self).unwrap_or_default()
    }

    /// Reads a line. It has to be written the one way [`Envelope::to_line`] writes, so that no byte of a file can
    /// change unnoticed.
    ///
    /// # Errors
    /// It is not an envelope, or is spelled another way.
    pub fn from_line(line: &str) -> Result<Self, EnvelopeError> {
        let envelope: Envelope = serde_json::from_str(line).map_err(|e| EnvelopeError::Format(e.to_string()))?;
        if envelope.to_line() != line {
            return Err(EnvelopeError::Format("the line is not written the one way it has to be".into()));
        }
        Ok(envelope)
    }

    /// The signature that this key made over the payload, if there is one.
    pub fn signed_by(&self, key: &PublicKey) -> bool {
        let Ok(payload) = STANDARD.decode(&self.payload) else { return false };
        let message = pre_authentication(&self.payload_type, &payload);
        self.signatures
            .iter()
            .any(|s| s.keyid == key.id() && STANDARD.decode(&s.sig).is_ok_and(|sig| key.verifies(&message, &sig)))
    }

    /// The statement inside. Whether to believe it depends on who signed.
    ///
    /// # Errors
    /// It is not a statement.
    pub fn statement(&self) -> Result<Statement, EnvelopeError> {
        if self.payload_type != PAYLOAD_TYPE {
            return Err(EnvelopeError::Statement(format!("its type is `{}`", self.payload_type)));
        }
        let payload = STANDARD.decode(&self.payload).map_err(|e| EnvelopeError::Format(e.to_string()))?;
        let statement: Statement =
            serde_json::from_slice(&payload).map_err(|e| EnvelopeError::Statement(e.to_string()))?;
        if statement.kind != crate::STATEMENT_TYPE {
            return Err(EnvelopeError::Statement(format!("its _type is `{}`", statement.kind)));
        }
        Ok(statement)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_protocols_own_example() {
        // From the DSSE protocol text.
        let expected = b"DSSEv1 29 http://example.com/HelloWorld 11 hello world";
        assert_eq!(pre_authentication("http://example.com/HelloWorld", b"hello world"), expected);
    }
}
