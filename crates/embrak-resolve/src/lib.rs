//! Choosing packages: versions, requirements, a solver, and the explanation when there is no solution.
//!
//! Knows nothing of files or wire formats: a [`Universe`] of candidates goes in, with a text for each saying
//! where it comes from, and a [`Solution`] or an [`Unsolvable`] comes out. Both are the same on every machine.

mod explain;
mod requirement;
mod solver;
mod universe;
mod version;

pub use explain::Unsolvable;
pub use requirement::{Alternatives, Operator, Requirement, RequirementError};
pub use solver::{Solution, solve};
pub use universe::{Candidate, CandidateId, Catalog, Exclusion, Need, Prefer, Provided, Request, Universe};
pub use version::{Version, VersionError};
