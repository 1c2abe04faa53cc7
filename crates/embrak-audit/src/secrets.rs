//! What looks like a secret, by pattern and by how random it is.

use crate::{Finding, Subject, tell};
use embrak_tree::{Kind, TreePath};
use regex::bytes::{Regex, RegexSet};
use std::sync::LazyLock;

/// Longer files hold data, not settings.
const LONGEST: u64 = 256 * 1024;
/// Where examples and translations are at home, and what tells of keys without being one.
const ELSEWHERE: [&str; 12] = [
    "/usr/share/doc/",
    "/usr/share/man/",
    "/usr/share/info/",
    "/usr/share/locale/",
    "/usr/share/zoneinfo/",
    "/usr/share/i18n/",
    "/usr/share/perl/",
    "/usr/share/perl5/",
    "/usr/lib/python3",
    "/var/lib/dpkg/",
    "/usr/share/bash-completion/",
    "/usr/lib/x86_64-linux-gnu/perl",
];
/// Bits per character from which on a word is not language.
const RANDOM: f64 = 3.6;

const PATTERNS: [(&str, &str); 5] = [
    (r"-----BEGIN (?:[A-Z0-9]+ )*PRIVATE KEY(?: BLOCK)?-----\s", "a private key in PEM"),
    (r"\b(?:AKIA|ASIA)[0-9A-Z]{16}\b", "the name of a key for a cloud"),
    (r"\b(?:gh[pousr]_[A-Za-z0-9]{36}|xox[baprs]-[A-Za-z0-9-]{20,}|glpat-[A-Za-z0-9_-]{20,})", "an access token"),
    (r"\beyJ[A-Za-z0-9_-]{10,}\.eyJ[A-Za-z0-9_-]{10,}\.[A-Za-z0-9_-]{20,}", "a signed web token"),
    (
        r"[a-z][a-z0-9+.-]*://[^\s/:@\x22'<>$%{}]{1,64}:[^\s/:@\x22'<>$%{}*]{4,}@[a-zA-Z0-9]",
        "an address with a password",
    ),
];

static SET: LazyLock<Option<RegexSet>> = LazyLock::new(|| RegexSet::new(PATTERNS.map(|(p, _)| p)).ok());
static ASSIGNED: LazyLock<Option<Regex>> = LazyLock::new(|| {
    Regex::new(
        r#"(?i)(?:^|[\s,;{"'])([a-z0-9_.-]{0,40}(?:passw(?:or)?d|passphrase|secret|token|api[_-]?key|access[_-]?key|psk)["']?)\s*[:=]\s*["']?([^\s"'#;,<>(){}$%\\]{8,128})"#,
    )
    .ok()
});

pub(crate) fn look(subject: &Subject<'_>, found: &mut Vec<Finding>) {
    for (place, tree) in &subject.trees {
        let mut worth: Vec<&TreePath> = Vec::new();
        for (path, entry) in tree.iter() {
            let Kind::File { size, .. } = entry.kind else { continue };
            let text = path.to_string();
            let shipped = ELSEWHERE.iter().any(|dir| text.starts_with(dir));
            if (16..=LONGEST).contains(&size) && !shipped {
                worth.push(path);
            }
        }
        (subject.read)(place, &worth, &mut |path, bytes| {
            if !bytes[..bytes.len().min(4096)].contains(&0) {
                file(place, path, bytes, found);
            }
        });
    }
}

fn line_of(bytes: &[u8], at: usize) -> usize {
    1 + bytes[..at].iter().filter(|b| **b == b'\n').count()
}

fn file(place: &str, path: &TreePath, bytes: &[u8], found: &mut Vec<Finding>) {
    let (Some(set), Some(assigned)) = (&*SET, &*ASSIGNED) else { return };
    for index in set.matches(bytes) {
        let Ok(pattern) = Regex::new(PATTERNS[index].0) else { continue };
        let Some(hit) = pattern.find(bytes) else { continue };
        let line = line_of(bytes, hit.start());
        if index == 0 {
            // A program that looks for keys has the words; a key has a body.
            let body: Vec<u8> =
                bytes[hit.end()..].iter().copied().take(512).filter(|b| !b.is_ascii_whitespace()).collect();
            let length = body.iter().take_while(|b| b.is_ascii_alphanumeric() || b"+/=:,-".contains(b)).count();
            if length >= 60 && !path.to_string().contains("ssh_host_") {
                tell(found, "private-key", place, path, format!("line {line}: {}", PATTERNS[index].1));
            }
        } else {
            tell(found, "secret", place, path, format!("line {line}: {}", PATTERNS[index].1));
        }
    }
    for hit in assigned.captures_iter(bytes) {
        let (Some(name), Some(value)) = (hit.get(1), hit.get(2)) else { continue };
        let key = String::from_utf8_lossy(name.as_bytes()).trim_matches(['"', '\'']).to_string();
        if is_random(value.as_bytes()) && is_setting(bytes, name.start()) {
            let line = line_of(bytes, name.start());
            tell(
                found,
                "secret",
                place,
                path,
                format!("line {line}: `{key}` is set to {} random characters", value.len()),
            );
            return;
        }
    }
}

/// Whether a line sets something, instead of talking about it.
fn is_setting(bytes: &[u8], at: usize) -> bool {
    let start = bytes[..at].iter().rposition(|b| *b == b'\n').map_or(0, |n| n + 1);
    let before = String::from_utf8_lossy(&bytes[start..at]).trim_start().to_string();
    !before.starts_with(['#', ';', '*', '%']) && !before.starts_with("//") && before.split_whitespace().count() <= 3
}

/// Whether a value is neither a word, nor a path, nor a name of something.
pub(crate) fn is_random(value: &[u8]) -> bool {
    let text = String::from_utf8_lossy(value);
    let has = |what: fn(char) -> bool| text.chars().any(what);
    let digits = text.chars().filter(char::is_ascii_digit).count();
    let both_cases = has(|c| c.is_ascii_lowercase()) && has(|c| c.is_ascii_uppercase());
    let mixed = digits >= 2 && has(|c| c.is_ascii_alphabetic()) && (both_cases || text.len() >= 16);
    let path_like = text.contains('/')
        && text
            .split('/')
            .filter(|p| p.len() > 2 && p.chars().all(|c| c.is_ascii_lowercase() || c == '.' || c == '-'))
            .count()
            >= 2;
    let call_like = text.contains("::")
        || text.contains("->")
        || text.contains("()")
        || text.starts_with('/')
        || text.starts_with("&");
    let example = ["example", "changeme", "xxxx", "placeholder", "your", "secret", "password"]
        .iter()
        .any(|w| text.to_lowercase().contains(w));
    mixed && !path_like && !call_like && !example && entropy(value) >= RANDOM.min((value.len() as f64).log2() * 0.85)
}

/// Shannon's entropy in bits per byte.
pub(crate) fn entropy(bytes: &[u8]) -> f64 {
    let mut counts = [0u32; 256];
    for byte in bytes {
        counts[usize::from(*byte)] += 1;
    }
    let all = bytes.len().max(1) as f64;
    counts.iter().filter(|n| **n > 0).map(|n| f64::from(*n) / all).map(|p| -p * p.log2()).sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn random_words_are_told_from_language() {
        for secret in ["hV7q2LmX9sQe", "9f86d081884c7d659a2feaa0c55ad015", "Tq7!rLp92_wz"] {
            assert!(is_random(secret.as_bytes()), "{secret}");
        }
        for harmless in
            ["required", "/etc/pam.d/common-auth", "optional1", "aaaa1111aaaa", "getpass2::prompt", "your-password-1"]
        {
            assert!(!is_random(harmless.as_bytes()), "{harmless}");
        }
    }
}
