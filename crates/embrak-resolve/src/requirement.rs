//! Requirements as users write them: `ringfs`, `tidelog >= 1.4`, `libgauge >= 0.3, < 0.5`, `syslog | journal`.

use crate::Version;
use std::fmt;
use std::str::FromStr;

/// How a version has to stand to the one in the requirement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operator {
    /// `<`
    Less,
    /// `<=`
    AtMost,
    /// `=`
    Equal,
    /// `>=`
    AtLeast,
    /// `>`
    More,
}

impl Operator {
    /// Whether `version` stands so to `bound`.
    pub fn holds(self, version: &Version, bound: &Version) -> bool {
        match self {
            Operator::Less => version < bound,
            Operator::AtMost => version <= bound,
            Operator::Equal => version == bound,
            Operator::AtLeast => version >= bound,
            Operator::More => version > bound,
        }
    }

    fn sign(self) -> &'static str {
        match self {
            Operator::Less => "<",
            Operator::AtMost => "<=",
            Operator::Equal => "=",
            Operator::AtLeast => ">=",
            Operator::More => ">",
        }
    }
}

/// A name and the bounds its version has to keep, all of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Requirement {
    /// Name of a package, or of something packages provide.
    pub name: String,
    /// Bounds; none means any version.
    pub bounds: Vec<(Operator, Version)>,
}

/// One or more requirements of which one has to be met; the earlier is preferred.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Alternatives(pub Vec<Requirement>);

/// Why a text is not a requirement.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{text}` is not a requirement: {why} (write `name`, `name >= 1.4`, `name >= 1.4, < 2` or `this | that`)")]
pub struct RequirementError {
    text: String,
    why: String,
}

impl Requirement {
    /// Any version of `name`.
    pub fn any(name: impl Into<String>) -> Self {
        Requirement { name: name.into(), bounds: Vec::new() }
    }

    /// Whether a package of this version is within the bounds. Something provided without a version meets
    /// only a requirement without bounds.
    pub fn admits(&self, version: Option<&Version>) -> bool {
        match version {
            Some(version) => self.bounds.iter().all(|(operator, bound)| operator.holds(version, bound)),
            None => self.bounds.is_empty(),
        }
    }
}

/// Whether a text may be the name of a definition: lower case letters, digits, `-`, `.`, `+`, beginning with a
/// letter or digit.
pub(crate) fn is_name(text: &str) -> bool {
    text.bytes().next().is_some_and(|b| b.is_ascii_lowercase() || b.is_ascii_digit())
        && text.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b"-.+".contains(&b))
}

impl FromStr for Requirement {
    type Err = RequirementError;
    fn from_str(text: &str) -> Result<Self, RequirementError> {
        let fail = |why: String| RequirementError { text: text.trim().to_string(), why };
        let trimmed = text.trim();
        let end = trimmed.find(|c: char| c.is_whitespace() || "<>=!,".contains(c)).unwrap_or(trimmed.len());
        let (name, rest) = trimmed.split_at(end);
        if !is_name(name) {
            return Err(fail(format!("`{name}` is not a name")));
        }
        let mut bounds = Vec::new();
        for bound in rest.split(',').map(str::trim) {
            if bound.is_empty() && rest.trim().is_empty() {
                continue;
            }
            let signs = [Operator::AtMost, Operator::AtLeast, Operator::Less, Operator::More, Operator::Equal];
            for (wrong, right) in [("=>", ">="), ("=<", "<="), ("==", "=")] {
                if bound.starts_with(wrong) {
                    return Err(fail(format!("`{wrong}` is not an operator, did you mean `{right}`?")));
                }
            }
            let operator = signs
                .into_iter()
                .find(|o| bound.starts_with(o.sign()))
                .ok_or_else(|| fail(format!("`{bound}` does not begin with <, <=, =, >= or >")))?;
            let version = bound[operator.sign().len()..].trim().parse().map_err(|e| fail(format!("{e}")))?;
            bounds.push((operator, version));
        }
        Ok(Requirement { name: name.to_string(), bounds })
    }
}

impl fmt::Display for Requirement {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.name)?;
        for (index, (operator, version)) in self.bounds.iter().enumerate() {
            write!(f, "{} {} {version}", if index > 0 { "," } else { "" }, operator.sign())?;
        }
        Ok(())
    }
}

impl FromStr for Alternatives {
    type Err = RequirementError;
    fn from_str(text: &str) -> Result<Self, RequirementError> {
        text.split('|').map(str::parse).collect::<Result<_, _>>().map(Alternatives)
    }
}

impl fmt::Display for Alternatives {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, requirement) in self.0.iter().enumerate() {
            write!(f, "{}{requirement}", if index > 0 { " | " } else { "" })?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn requirements_read_and_print() {
        for text in ["ringfs", "tidelog >= 1.4", "libgauge >= 0.3, < 0.5", "syslog | journal = 2:1-1"] {
            assert_eq!(text.parse::<Alternatives>().unwrap().to_string(), text);
        }
        assert_eq!("a>=1,<2".parse::<Requirement>().unwrap().to_string(), "a >= 1, < 2");
        let swapped = "lampd => 2".parse::<Requirement>().unwrap_err().to_string();
        assert!(swapped.contains("did you mean `>=`?"), "{swapped}");
        for bad in ["", "A", "a >", "a >= ", "a ~ 1", "a | ", "a >= 1,", "a b", "-a"] {
            assert!(bad.parse::<Alternatives>().is_err(), "{bad}");
        }
    }

    #[test]
    fn bounds_are_all_kept() {
        let within: Requirement = "a >= 1, < 2".parse().unwrap();
        let admits = |text: &str| within.admits(Some(&text.parse().unwrap()));
        assert!(admits("1") && admits("1.9") && !admits("0.9") && !admits("2"));
        assert!(!within.admits(None));
        assert!(Requirement::any("a").admits(None));
    }
}
