//! Versions and their order: `[epoch:]upstream[-revision]`, compared as Debian Policy section 5.6.12 says.
//!
//! Letters sort before other characters, a tilde sorts before everything even the end, runs of digits
//! compare as numbers: `1.0~rc1 < 1.0 < 1.0a < 1.0+b < 1.0.1 < 1.10 < 1:0.1`.

use serde::{Deserialize, Serialize};
use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

/// A version. Equal by order, not by spelling: `1.0` and `1.00` are the same version.
#[derive(Clone, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Version(String);

/// Why a text is not a version.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{text}` is not a version: {why}")]
pub struct VersionError {
    text: String,
    why: &'static str,
}

impl Version {
    /// As it was written.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The version that sorts before every other.
    pub fn lowest() -> Self {
        Version("~~".to_string())
    }

    fn parts(&self) -> (u64, &str, &str) {
        let (epoch, rest) = match self.0.split_once(':') {
            Some((epoch, rest)) => (epoch.parse().unwrap_or(0), rest),
            None => (0, self.0.as_str()),
        };
        let (upstream, revision) = rest.rsplit_once('-').unwrap_or((rest, "0"));
        (epoch, upstream, revision)
    }
}

impl FromStr for Version {
    type Err = VersionError;
    fn from_str(text: &str) -> Result<Self, VersionError> {
        let fail = |why| Err(VersionError { text: text.to_string(), why });
        let rest = match text.split_once(':') {
            Some((epoch, rest)) => {
                if epoch.is_empty() || !epoch.bytes().all(|b| b.is_ascii_digit()) || epoch.len() > 9 {
                    return fail("the epoch before `:` has to be a number");
                }
                rest
            }
            None => text,
        };
        if rest.is_empty() || rest.starts_with('-') {
            return fail("it is empty");
        }
        if rest.len() > 250 {
            return fail("it is longer than 250 characters");
        }
        if !rest.bytes().all(|b| b.is_ascii_alphanumeric() || b".+-~:".contains(&b)) {
            return fail("only letters, digits and `.` `+` `-` `~` are allowed");
        }
        Ok(Version(text.to_string()))
    }
}

impl TryFrom<String> for Version {
    type Error = VersionError;
    fn try_from(text: String) -> Result<Self, VersionError> {
        text.parse()
    }
}

impl From<Version> for String {
    fn from(version: Version) -> String {
        version.0
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl fmt::Debug for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl PartialEq for Version {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}
impl Eq for Version {}

impl PartialOrd for Version {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Version {
    fn cmp(&self, other: &Self) -> Ordering {
        let (a, b) = (self.parts(), other.parts());
        a.0.cmp(&b.0).then_with(|| compare_part(a.1, b.1)).then_with(|| compare_part(a.2, b.2))
    }
}

/// Rank of a character that is not a digit; the end of the text ranks 0.
fn rank(byte: Option<u8>) -> i32 {
    match byte {
        None => 0,
        Some(b) if b.is_ascii_digit() => 0,
        Some(b'~') => -1,
        Some(b) if b.is_ascii_alphabetic() => i32::from(b),
        Some(b) => i32::from(b) + 256,
    }
}

fn compare_part(a: &str, b: &str) -> Ordering {
    let (mut a, mut b) = (a.as_bytes(), b.as_bytes());
    while !a.is_empty() || !b.is_empty() {
        loop {
            let (x, y) = (a.first().copied(), b.first().copied());
            let in_text = |byte: Option<u8>| byte.is_some_and(|c| !c.is_ascii_digit());
            if !in_text(x) && !in_text(y) {
                break;
            }
            match rank(x).cmp(&rank(y)) {
                Ordering::Equal => {}
                unequal => return unequal,
            }
            a = a.get(1..).unwrap_or_default();
            b = b.get(1..).unwrap_or_default();
        }
        let (x, y) = (take_number(&mut a), take_number(&mut b));
        match x.len().cmp(&y.len()).then_with(|| x.cmp(y)) {
            Ordering::Equal => {}
            unequal => return unequal,
        }
    }
    Ordering::Equal
}

/// Takes the digits at the front, leading zeros dropped.
fn take_number<'a>(text: &mut &'a [u8]) -> &'a [u8] {
    let end = text.iter().position(|b| !b.is_ascii_digit()).unwrap_or(text.len());
    let (digits, rest) = text.split_at(end);
    *text = rest;
    let zeros = digits.iter().position(|&b| b != b'0').unwrap_or(digits.len());
    &digits[zeros..]
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn hard_cases() {
        let rising = [
            "0~~",
            "0~~a",
            "0~",
            "0",
            "0.1",
            "1.0~beta1~git",
            "1.0~beta1",
            "1.0~rc1-1",
            "1.0",
            "1.0-1",
            "1.0-1a",
            "1.0-1.1",
            "1.0a",
            "1.0a1",
            "1.0b",
            "1.0+dfsg",
            "1.0.0",
            "1.0.1",
            "1.2",
            "1.2.3",
            "1.10",
            "2-1~bpo1",
            "2-1",
            "2-1+b1",
            "2-10",
            "9z",
            "9.1",
            "20260301",
            "1:0.1",
            "1:1~",
            "10:0",
        ];
        for (i, a) in rising.iter().enumerate() {
            for (j, b) in rising.iter().enumerate() {
                let (x, y): (Version, Version) = (a.parse().unwrap(), b.parse().unwrap());
                assert_eq!(x.cmp(&y), i.cmp(&j), "{a} against {b}");
            }
        }
        for (a, b) in [("1.0", "1.00"), ("0:1", "1"), ("1-0", "1"), ("1.0", "01.0")] {
            assert_eq!(a.parse::<Version>().unwrap(), b.parse::<Version>().unwrap(), "{a} and {b}");
        }
    }

    #[test]
    fn bad_versions_say_why() {
        for bad in ["", "-1", "a:1", ":1", "1 2", "1_2", "1/2", "é"] {
            assert!(bad.parse::<Version>().is_err(), "{bad}");
        }
    }

    proptest! {
        #[test]
        fn the_order_is_total(a in "([0-9]:)?[0-9a~.+-]{1,8}", b in "([0-9]:)?[0-9a~.+-]{1,8}", c in "[0-9a~.+-]{1,8}") {
            let versions: Vec<Version> = [a, b, c].iter().filter_map(|t| t.parse().ok()).collect();
            for x in &versions {
                prop_assert_eq!(x.cmp(x), Ordering::Equal);
                for y in &versions {
                    prop_assert_eq!(x.cmp(y), y.cmp(x).reverse());
                    for z in &versions {
                        if x <= y && y <= z { prop_assert!(x <= z, "{} {} {}", x, y, z); }
                    }
                }
            }
        }
    }
}
