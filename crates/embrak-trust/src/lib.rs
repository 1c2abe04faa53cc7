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
pub mod log;
mod policy;
pub mod signer;
mod statement;
mod verify;

pub use envelope::{Envelope, EnvelopeError, PAYLOAD_TYPE};
pub use keys::{Algorithm, KeyError, KeyId, PublicKey, SigningKey};
pub use policy::{Day, Policy, PolicyError, PolicyRule, Signer};
pub use statement::{
    BILL_CYCLONEDX, BILL_SPDX, CHECKS, LAYER, LOCK, PROVENANCE, RELEASE, REPRODUCTION, STATEMENT_TYPE, Statement,
    StatementKind, Subject,
};
pub use verify::{Check, Checked, Definition, Subjects, Verified, read_evidence, verify, verify_definition};
