//! Who said what about an artifact: keys, signed statements, policy.
//!
//! ```text
//!   statement (in-toto v1) --sign--> envelope (DSSE) --> one line of NAME.evidence.jsonl
//!   artifact + evidence + policy --check--> Verified<Artifact>, with every rule and what met it
//! ```
//!
//! [`Verified`] has no public constructor: who holds one has passed the check.

mod envelope;
mod keys;
mod policy;
mod statement;
mod verify;

pub use envelope::{Envelope, EnvelopeError, PAYLOAD_TYPE};
pub use keys::{KeyError, KeyId, PublicKey, SigningKey};
pub use policy::{Policy, PolicyError, PolicyRule, Signer};
pub use statement::{PROVENANCE, REPRODUCTION, STATEMENT_TYPE, Statement, StatementKind, Subject};
pub use verify::{Check, Checked, Subjects, Verified, read_evidence, verify};
