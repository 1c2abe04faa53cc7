//! Guessing why two builds differ, from the bytes that differ.
//!
//! A guess is made only with evidence that can be shown: the two values read as dates, as paths, as host names. When
//! nothing fits, nothing is guessed.

use object::{Object, ObjectSection};
use serde::Serialize;

/// A likely cause.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Cause {
    /// In two or three words: `time stamp`, `build path`.
    pub name: String,
    /// What speaks for it.
    pub evidence: String,
    /// What to do.
    pub advice: String,
}

/// Where two byte strings differ and why they may.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Explained {
    /// The first byte that differs.
    pub offset: u64,
    /// How many bytes differ, when the lengths are equal.
    pub differing: Option<u64>,
    /// The part of the format it lies in: an ELF section.
    pub section: Option<String>,
    /// The value in the first, in readable form.
    pub before: String,
    /// The value in the second.
    pub after: String,
    /// The likely cause.
    pub cause: Option<Cause>,
}

/// Explains the first difference of two byte strings; none when they are equal.
pub fn explain_bytes(a: &[u8], b: &[u8]) -> Option<Explained> {
    let shorter = a.len().min(b.len());
    let offset = (0..shorter).find(|&i| a[i] != b[i]).unwrap_or(shorter);
    if offset == a.len() && offset == b.len() {
        return None;
    }
    let differing = (a.len() == b.len()).then(|| a.iter().zip(b).filter(|(x, y)| x != y).count() as u64);
    // A build id follows from all the rest: when something else differs too, that is the cause.
    let places: Vec<usize> = difference_starts(a, b);
    let informative =
        places.iter().copied().find(|&at| section_at(a, at).as_deref() != Some(".note.gnu.build-id")).unwrap_or(offset);
    let (before, after) = (readable(a, informative), readable(b, informative));
    let cause = time_in_text(&before, &after)
        .or_else(|| path_in_text(&before, &after))
        .or_else(|| octal_time(a, b, informative))
        .or_else(|| time_in_binary(a, b, informative));
    Some(Explained { offset: informative as u64, differing, section: section_at(a, informative), before, after, cause })
}

/// Where runs of differing bytes begin, at most a hundred.
fn difference_starts(a: &[u8], b: &[u8]) -> Vec<usize> {
    let shorter = a.len().min(b.len());
    let mut out = Vec::new();
    let mut last = None;
    for at in (0..shorter).filter(|&i| a[i] != b[i]) {
        if last.is_none_or(|l| at > l + 16) {
            out.push(at);
            if out.len() == 100 {
                break;
            }
        }
        last = Some(at);
    }
    out
}

fn section_at(bytes: &[u8], at: usize) -> Option<String> {
    let file = object::File::parse(bytes).ok()?;
    file.sections()
        .find(|s| {
            s.file_range().is_some_and(|(start, size)| (start..start.saturating_add(size)).contains(&(at as u64)))
        })
        .and_then(|s| s.name().ok().map(String::from))
}

/// The text around a place, or the bytes there in hexadecimal when it is no text.
fn readable(bytes: &[u8], at: usize) -> String {
    let printable = |b: u8| (0x20..0x7f).contains(&b);
    let at = at.min(bytes.len());
    let start = (0..at).rev().take(48).take_while(|&i| printable(bytes[i])).last().unwrap_or(at);
    let end = (at..bytes.len()).take(80).take_while(|&i| printable(bytes[i])).last().map_or(at, |i| i + 1);
    if end > at && end - start >= 4 {
        return String::from_utf8_lossy(&bytes[start..end]).into_owned();
    }
    let shown = &bytes[at..bytes.len().min(at + 8)];
    if shown.is_empty() {
        "the end".to_string()
    } else {
        shown.iter().map(|b| format!("{b:02x}")).collect::<Vec<_>>().join(" ")
    }
}

fn timestamp_cause(evidence: String) -> Cause {
    Cause {
        name: "time stamp".into(),
        evidence,
        advice:
            "use the value of SOURCE_DATE_EPOCH, which every step has in its environment, instead of the present time"
                .into(),
    }
}

/// Seconds since 1970 between 2001 and 2100.
fn as_time(seconds: i64) -> Option<String> {
    (978_307_200..4_102_444_800)
        .contains(&seconds)
        .then(|| jiff::Timestamp::from_second(seconds).ok().map(|t| t.to_string()))
        .flatten()
}

fn time_in_text(a: &str, b: &str) -> Option<Cause> {
    let numbers = |text: &str| -> Vec<String> {
        text.split(|c: char| !c.is_ascii_digit()).filter(|run| run.len() == 10).map(String::from).collect()
    };
    for (x, y) in numbers(a).iter().zip(&numbers(b)) {
        if let (true, Some(before), Some(after)) =
            (x != y, x.parse().ok().and_then(as_time), y.parse().ok().and_then(as_time))
        {
            return Some(timestamp_cause(format!(
                "{x} and {y} are {before} and {after}, counted in seconds since 1970"
            )));
        }
    }
    let clock = |text: &str| -> Option<String> {
        // HH:MM:SS
        let bytes = text.as_bytes();
        (0..bytes.len().saturating_sub(7)).find_map(|i| {
            let part = &bytes[i..i + 8];
            let digit = |n: usize| part[n].is_ascii_digit();
            let good = [0, 1, 3, 4, 6, 7].into_iter().all(digit) && part[2] == b':' && part[5] == b':';
            (good && part[..2] < b"24"[..] && part[3] < b'6' && part[6] < b'6')
                .then(|| String::from_utf8_lossy(part).into_owned())
        })
    };
    if let (Some(x), Some(y)) = (clock(a), clock(b))
        && x != y
    {
        return Some(timestamp_cause(format!("{x} and {y} are times of day")));
    }
    let date = |text: &str| -> Option<String> {
        let bytes = text.as_bytes();
        (0..bytes.len().saturating_sub(9)).find_map(|i| {
            let part = std::str::from_utf8(bytes.get(i..i + 10)?).ok()?;
            part.parse::<jiff::civil::Date>().ok().map(|_| part.to_string())
        })
    };
    match (date(a), date(b)) {
        (Some(x), Some(y)) if x != y => Some(timestamp_cause(format!("{x} and {y} are dates"))),
        _ => None,
    }
}

fn path_in_text(a: &str, b: &str) -> Option<Cause> {
    let path = |text: &str| {
        text.split([' ', '"', '\'', ':', '=', ','])
            .find(|w| w.starts_with('/') && w.matches('/').count() >= 2)
            .map(String::from)
    };
    let (x, y) = (path(a)?, path(b)?);
    let same_end = x.rsplit('/').next() == y.rsplit('/').next();
    (x != y && same_end).then(|| Cause {
        name: "build path".into(),
        evidence: format!("{x} and {y} are paths to one file"),
        advice: "compile with -ffile-prefix-map, or keep absolute paths out of what is installed".into(),
    })
}

/// The time of a member of a tar archive: eleven octal digits at byte 136 of a header (POSIX pax interchange format).
fn octal_time(a: &[u8], b: &[u8], at: usize) -> Option<Cause> {
    let start = at - at % 512 + 136;
    let magic = |bytes: &[u8]| bytes.get(at - at % 512 + 257..at - at % 512 + 262) == Some(b"ustar");
    if !(start..start + 12).contains(&at) || !magic(a) || !magic(b) {
        return None;
    }
    let time = |bytes: &[u8]| -> Option<String> {
        let text = std::str::from_utf8(bytes.get(start..start + 11)?).ok()?;
        as_time(i64::from_str_radix(text.trim(), 8).ok()?)
    };
    let (x, y) = (time(a)?, time(b)?);
    let mut cause = timestamp_cause(format!("the times of an archive's member are {x} and {y}"));
    cause.advice = "archive with fixed times: `tar --mtime=@$SOURCE_DATE_EPOCH --sort=name --owner=0 --group=0`".into();
    (x != y).then_some(cause)
}

/// A little-endian number of 32 or 64 bits that counts seconds in both, not far from one another.
fn time_in_binary(a: &[u8], b: &[u8], at: usize) -> Option<Cause> {
    for start in at.saturating_sub(7)..=at {
        let number =
            |bytes: &[u8]| bytes.get(start..start + 4).map(|s| i64::from(u32::from_le_bytes([s[0], s[1], s[2], s[3]])));
        let (x, y) = (number(a)?, number(b)?);
        // Letters and digits read as a number are times, too, and are none.
        if a.get(start..start + 4)?.iter().all(|b| (0x20..0x7f).contains(b) || *b == b'\n') {
            continue;
        }
        // Only low bytes of a time differ between two builds; numbers that differ wildly are something else.
        if x != y && (x - y).abs() < 366 * 86400 && x > 1_262_304_000 && y > 1_262_304_000 {
            let (before, after) = (as_time(x)?, as_time(y)?);
            return Some(timestamp_cause(format!(
                "the numbers at {start} are {before} and {after}, counted in seconds since 1970"
            )));
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    fn cause(a: &[u8], b: &[u8]) -> Option<String> {
        explain_bytes(a, b).and_then(|e| e.cause).map(|c| c.name)
    }

    #[test]
    fn causes_are_named_only_with_evidence() {
        assert_eq!(cause(b"\0built 1795417200\0", b"\0built 1795417299\0").as_deref(), Some("time stamp"));
        assert_eq!(cause(b"at 10:11:12 UTC", b"at 10:11:59 UTC").as_deref(), Some("time stamp"));
        assert_eq!(cause(b"made 2026-11-23 .", b"made 2026-11-24 .").as_deref(), Some("time stamp"));
        assert_eq!(cause(b"src=/home/a/x/main.c", b"src=/tmp/b/x/main.c").as_deref(), Some("build path"));
        let binary = |n: u32| [&[0u8; 6][..], &n.to_le_bytes(), &[0; 6]].concat();
        assert_eq!(cause(&binary(1_795_417_200), &binary(1_795_417_299)).as_deref(), Some("time stamp"));
        assert_eq!(cause(b"colour red", b"colour tan"), None);
        assert_eq!(cause(b"count 12", b"count 13"), None);
        assert_eq!(cause(b"VERSION=2026.3\n", b"VERSION=2026.4\n"), None);
        assert_eq!(cause(&binary(7), &binary(8)), None);
        assert_eq!(explain_bytes(b"same", b"same"), None);
    }

    #[test]
    fn places_and_values_are_readable() {
        let explained = explain_bytes(b"....\0horn of 1795417200 s\0", b"....\0horn of 1795417201 s\0").unwrap();
        assert_eq!(
            (explained.before.as_str(), explained.after.as_str()),
            ("horn of 1795417200 s", "horn of 1795417201 s")
        );
        assert_eq!(explained.differing, Some(1));
        let cut = explain_bytes(b"ab", b"abc").unwrap();
        assert_eq!((cut.before.as_str(), cut.offset, cut.differing), ("the end", 2, None));
    }
}
