//! Sizes: `64MiB`, `fit`, `fit+20%`, `rest`.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// A number of bytes, written with a binary unit: `512B`, `8KiB`, `64MiB`, `2GiB`, `1TiB`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct ByteSize(pub u64);

const UNITS: [(&str, u32); 5] = [("TiB", 40), ("GiB", 30), ("MiB", 20), ("KiB", 10), ("B", 0)];

impl FromStr for ByteSize {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        let fail = || format!("`{text}` is not a size: write a number and B, KiB, MiB, GiB or TiB, such as `64MiB`");
        let (unit, shift) = UNITS.into_iter().find(|(unit, _)| text.ends_with(unit)).ok_or_else(fail)?;
        let number: u64 = text[..text.len() - unit.len()].trim().parse().map_err(|_| fail())?;
        number.checked_mul(1 << shift).map(ByteSize).ok_or_else(|| format!("`{text}` is larger than 64 bits can count"))
    }
}

impl fmt::Display for ByteSize {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let exact = UNITS.into_iter().find(|(_, shift)| self.0.is_multiple_of(1 << shift) && self.0 >= 1 << shift);
        let (unit, shift) = exact.unwrap_or(("B", 0));
        write!(f, "{}{unit}", self.0 >> shift)
    }
}

impl ByteSize {
    /// For people: three digits or so, `1.4 MiB`.
    pub fn human(&self) -> String {
        let (unit, shift) = UNITS.into_iter().find(|(_, shift)| self.0 >= 1 << shift).unwrap_or(("B", 0));
        let value = self.0 as f64 / (1u64 << shift) as f64;
        if shift == 0 || value >= 100.0 || self.0.is_multiple_of(1 << shift) {
            format!("{value:.0} {unit}")
        } else {
            format!("{value:.1} {unit}")
        }
    }
}

/// How large a partition is to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum SizeSpec {
    /// So many bytes.
    Fixed(ByteSize),
    /// What the content needs, and so many percent and bytes more.
    Fit {
        /// Percent of the content's need on top.
        percent: u32,
        /// Bytes on top.
        extra: ByteSize,
    },
    /// What the other partitions leave of a disk whose size is given.
    Rest,
}

impl FromStr for SizeSpec {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        if text == "rest" {
            return Ok(SizeSpec::Rest);
        }
        let Some(more) = text.strip_prefix("fit") else { return text.parse().map(SizeSpec::Fixed) };
        let none = SizeSpec::Fit { percent: 0, extra: ByteSize(0) };
        if more.is_empty() {
            return Ok(none);
        }
        let fail = || format!("`{text}` is not a size: after `fit` write nothing, `+20%` or `+64MiB`");
        let more = more.strip_prefix('+').ok_or_else(fail)?;
        match more.strip_suffix('%') {
            Some(percent) => Ok(SizeSpec::Fit { percent: percent.parse().map_err(|_| fail())?, extra: ByteSize(0) }),
            None => Ok(SizeSpec::Fit { percent: 0, extra: more.parse().map_err(|_| fail())? }),
        }
    }
}

impl fmt::Display for SizeSpec {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            SizeSpec::Fixed(size) => write!(f, "{size}"),
            SizeSpec::Rest => f.write_str("rest"),
            SizeSpec::Fit { percent: 0, extra: ByteSize(0) } => f.write_str("fit"),
            SizeSpec::Fit { percent: 0, extra } => write!(f, "fit+{extra}"),
            SizeSpec::Fit { percent, .. } => write!(f, "fit+{percent}%"),
        }
    }
}

macro_rules! through_string {
    ($type:ty, $pattern:literal) => {
        impl schemars::JsonSchema for $type {
            fn schema_name() -> std::borrow::Cow<'static, str> {
                stringify!($type).into()
            }
            fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
                schemars::json_schema!({ "type": "string", "pattern": $pattern })
            }
        }
        impl TryFrom<String> for $type {
            type Error = String;
            fn try_from(text: String) -> Result<Self, String> {
                text.parse()
            }
        }
        impl From<$type> for String {
            fn from(value: $type) -> String {
                value.to_string()
            }
        }
    };
}
pub(crate) use through_string;
through_string!(ByteSize, "^[0-9]+ *(B|[KMGT]iB)$");
through_string!(SizeSpec, "^([0-9]+ *(B|[KMGT]iB)|rest|fit(\\+[0-9]+ *(%|B|[KMGT]iB))?)$");

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn sizes_read_and_print() {
        for text in ["64MiB", "2GiB", "513B", "fit", "fit+20%", "fit+64MiB", "rest"] {
            assert_eq!(text.parse::<SizeSpec>().unwrap().to_string(), text);
        }
        assert_eq!("1024KiB".parse::<ByteSize>().unwrap().to_string(), "1MiB");
        for bad in ["64", "64MB", "MiB", "-1MiB", "99999999999999999999B", "17000000TiB", "fit20%", "fit+", "fit+x%"] {
            assert!(bad.parse::<SizeSpec>().is_err(), "{bad}");
        }
    }

    #[test]
    fn people_get_few_digits() {
        let shown: Vec<String> = [0, 512, 1536, 150 << 20, 3 << 30].map(|n| ByteSize(n).human()).into();
        assert_eq!(shown, ["0 B", "512 B", "1.5 KiB", "150 MiB", "3 GiB"]);
    }

    proptest! {
        #[test]
        fn any_number_of_bytes_prints_exactly(bytes: u64) {
            prop_assert_eq!(ByteSize(bytes).to_string().parse::<ByteSize>().unwrap(), ByteSize(bytes));
        }
    }
}
