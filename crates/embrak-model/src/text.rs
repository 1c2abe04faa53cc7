//! Strings of definitions that have a form of their own: names, times, modes.

use crate::size::through_string;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// The name of a definition: lower case letters, digits, `-`, `.`, `+`, beginning with a letter or digit.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Name(String);

impl Name {
    /// The text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl FromStr for Name {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        let good = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit();
        let mut bytes = text.bytes();
        if bytes.next().is_some_and(good) && bytes.all(|b| good(b) || b"-.+_".contains(&b)) && text.len() <= 100 {
            Ok(Name(text.to_string()))
        } else {
            Err(format!(
                "`{text}` is not a name: use lower case letters, digits, `-`, `.` and `+`, beginning with a letter or digit"
            ))
        }
    }
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::ops::Deref for Name {
    type Target = str;
    fn deref(&self) -> &str {
        &self.0
    }
}

/// A moment: seconds since 1970-01-01 UTC, written as a date and time with offset.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Epoch(pub i64);

impl FromStr for Epoch {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        let time: jiff::Timestamp =
            text.parse().map_err(|_| format!("`{text}` is not a time with offset, such as 2026-03-01T00:00:00Z"))?;
        if !(315_532_800..4_102_444_800).contains(&time.as_second()) {
            return Err(format!("`{text}` is before 1980 or after 2099, which not every filesystem can hold"));
        }
        Ok(Epoch(time.as_second()))
    }
}

impl fmt::Display for Epoch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match jiff::Timestamp::from_second(self.0) {
            Ok(time) => write!(f, "{time}"),
            Err(_) => write!(f, "{}", self.0),
        }
    }
}

/// Permission bits written in octal: `"0640"`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Mode(pub u32);

impl FromStr for Mode {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        match u32::from_str_radix(text, 8) {
            Ok(mode) if mode <= 0o7777 && (3..=5).contains(&text.len()) => Ok(Mode(mode)),
            _ => Err(format!("`{text}` is not a mode: write it in octal, such as \"0640\"")),
        }
    }
}

impl fmt::Display for Mode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:04o}", self.0)
    }
}

through_string!(Name, "^[a-z0-9][a-z0-9._+-]*$");
through_string!(Epoch, "^[0-9]{4}-[0-9]{2}-[0-9]{2}[Tt ][0-9:.]+([Zz]|[+-][0-9:]+)$");
through_string!(Mode, "^0?[0-7]{3,4}$");

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn forms_are_checked() {
        assert_eq!("2026-03-01T00:00:00Z".parse::<Epoch>().unwrap(), Epoch(1_772_323_200));
        assert_eq!(Epoch(1_772_323_200).to_string(), "2026-03-01T00:00:00Z");
        assert!("2026-03-01".parse::<Epoch>().is_err());
        assert!("1970-01-01T00:00:00Z".parse::<Epoch>().is_err());
        assert_eq!("0640".parse::<Mode>().unwrap(), Mode(0o640));
        assert!("rw-".parse::<Mode>().is_err() && "99".parse::<Mode>().is_err());
        assert!("lamp-d+2.x".parse::<Name>().is_ok());
        assert!("Lampd".parse::<Name>().is_err() && "".parse::<Name>().is_err() && "a/b".parse::<Name>().is_err());
    }
}
