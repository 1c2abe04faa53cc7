//! What is allowed, why, and until when.

use crate::Finding;
use globset::{GlobBuilder, GlobMatcher};
use serde::Deserialize;

/// A day.
pub type Date = jiff::civil::Date;

/// Something that is found and meant to be so.
#[derive(Debug, Clone, Deserialize)]
#[serde(try_from = "Written")]
pub struct Allowance {
    /// Which rule.
    pub rule: String,
    /// A glob over what the finding is at.
    pub at: String,
    matcher: GlobMatcher,
    /// Why it is all right.
    pub reason: String,
    /// The last day it is.
    pub until: Option<Date>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    rule: String,
    at: String,
    reason: String,
    until: Option<toml::value::Datetime>,
}

impl TryFrom<Written> for Allowance {
    type Error = String;
    fn try_from(written: Written) -> Result<Self, String> {
        let until = written.until.map(|d| d.to_string());
        Allowance::new(&written.rule, &written.at, &written.reason, until.as_deref())
    }
}

impl Allowance {
    /// An allowance; `until` is a day such as `2027-01-31`.
    ///
    /// # Errors
    /// The glob or the day cannot be read, or no reason is given.
    pub fn new(rule: &str, at: &str, reason: &str, until: Option<&str>) -> Result<Self, String> {
        if reason.trim().is_empty() {
            return Err(format!("the allowance of `{rule}` at {at} gives no reason"));
        }
        let day = |text: &str| text.parse::<Date>().map_err(|e| format!("`{text}` is no day such as 2027-01-31: {e}"));
        Ok(Allowance {
            rule: rule.to_string(),
            at: at.to_string(),
            matcher: GlobBuilder::new(at)
                .literal_separator(true)
                .build()
                .map_err(|e| format!("`{at}` is no glob: {e}"))?
                .compile_matcher(),
            reason: reason.to_string(),
            until: until.map(day).transpose()?,
        })
    }

    /// Whether it is about a finding.
    pub fn fits(&self, finding: &Finding) -> bool {
        self.rule == finding.rule && self.matcher.is_match(&finding.at)
    }
}
