//! Release files: what a suite has, by digest.

use crate::control::{Stanza, Stanzas};
use embrak_tree::Digest;
use std::collections::BTreeMap;

/// A file a suite lists.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Listed {
    /// SHA-256 of its bytes.
    pub digest: Digest,
    /// Their number.
    pub size: u64,
}

/// A Release file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Release {
    /// Such as `stable`.
    pub suite: String,
    /// Such as `Debian-Security`.
    pub label: String,
    /// When it was made, seconds since 1970.
    pub date: i64,
    /// Until when it may be used.
    pub valid_until: Option<i64>,
    /// Components it has.
    pub components: Vec<String>,
    /// Architectures it is for.
    pub architectures: Vec<String>,
    /// Whether packages for all architectures are in an index of their own only.
    pub separate_all: bool,
    /// Whether files may be asked for by their digest.
    pub by_hash: bool,
    /// Its files by path below the suite.
    pub listed: BTreeMap<String, Listed>,
}

/// Compressions in the order they are preferred.
const PREFERRED: [&str; 4] = [".zst", ".xz", ".gz", ""];

impl Release {
    /// Reads a Release file.
    ///
    /// # Errors
    /// It is no such file, or lacks its date or its SHA-256 digests.
    pub fn parse(text: &str) -> Result<Release, String> {
        let mut stanza = Stanza::default();
        let mut stanzas = Stanzas::new(text.as_bytes());
        if !stanzas.next_into(&mut stanza).map_err(|e| e.to_string())? {
            return Err("it is empty".into());
        }
        let time = |field: &str| stanza.get(field).map(|t| parse_time(t).ok_or(format!("{field} `{t}` is not a date")));
        let words = |field: &str| -> Vec<String> {
            stanza.get(field).unwrap_or_default().split_whitespace().map(String::from).collect()
        };
        let architectures: Vec<String> = words("Architectures");
        let date = time("Date").ok_or("it has no Date")??;
        let valid_until = time("Valid-Until").transpose()?;
        let table = stanza.get("SHA256").ok_or("it lists no SHA256 digests")?;
        let mut listed = BTreeMap::new();
        for line in table.lines().filter(|l| !l.trim().is_empty()) {
            let mut parts = line.split_whitespace();
            let entry = || {
                let digest = Digest::from_hex(parts.next()?).ok()?;
                let size = parts.next()?.parse().ok()?;
                let path = parts.next()?;
                // A path that leads out of the suite is none.
                let inside = !path.starts_with('/') && path.split('/').all(|p| !p.is_empty() && p != "..");
                inside.then(|| (path.to_string(), Listed { digest, size }))
            };
            let (path, entry) = { entry }().ok_or_else(|| format!("`{line}` is not `DIGEST SIZE PATH`"))?;
            listed.insert(path, entry);
        }
        Ok(Release {
            suite: stanza.get("Suite").unwrap_or_default().to_string(),
            label: stanza.get("Label").unwrap_or_default().to_string(),
            date,
            valid_until,
            components: words("Components"),
            separate_all: architectures.iter().any(|a| a == "all")
                && stanza.get("No-Support-for-Architecture-all") != Some("Packages"),
            architectures,
            by_hash: stanza.get("Acquire-By-Hash") == Some("yes"),
            listed,
        })
    }

    /// The best compressed form of a file.
    pub fn best(&self, plain: &str) -> Option<(String, &Listed)> {
        PREFERRED.iter().find_map(|end| {
            let path = format!("{plain}{end}");
            self.listed.get(&path).map(|listed| (path, listed))
        })
    }

    /// Whether its packages mend security faults, as it says itself.
    pub fn is_security(&self, named: &str) -> bool {
        [named, &self.suite, &self.label].iter().any(|t| t.to_lowercase().contains("security"))
    }
}

/// RFC 2822 dates as Release files have them.
fn parse_time(text: &str) -> Option<i64> {
    let text = text.trim();
    let text = text.strip_suffix("UTC").map_or_else(|| text.to_string(), |t| format!("{t}+0000"));
    jiff::fmt::rfc2822::parse(&text).ok().map(|t| t.timestamp().as_second())
}

/// `2026-03-01T00:00:00Z`
pub(crate) fn shown_time(seconds: i64) -> String {
    jiff::Timestamp::from_second(seconds).map(|t| t.to_string()).unwrap_or_default()
}

/// The text of a document with a signature around it, the signature not looked at (RFC 9580 section 7.1).
pub(crate) fn without_signature(document: &str) -> String {
    let Some((_, rest)) = document.split_once("-----BEGIN PGP SIGNED MESSAGE-----") else {
        return document.to_string();
    };
    let body = rest.split_once("\n\n").map_or(rest, |(_, body)| body);
    let text = body.split("-----BEGIN PGP SIGNATURE-----").next().unwrap_or_default();
    text.lines().map(|l| l.strip_prefix("- ").unwrap_or(l)).fold(String::new(), |all, l| all + l + "\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    const SAMPLE: &str = "Origin: Mainland\nLabel: Mainland-Security\nSuite: stable-security\nDate: Sun, 01 Mar 2026 00:00:00 UTC\n\
        Valid-Until: Sun, 08 Mar 2026 00:00:00 +0000\nAcquire-By-Hash: yes\nArchitectures: amd64 arm64\nComponents: main extra\nSHA256:\n \
        e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855 0 main/binary-amd64/Packages\n \
        e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855 7 main/binary-amd64/Packages.xz\n";

    #[test]
    fn a_release_file() {
        let release = Release::parse(SAMPLE).unwrap();
        assert_eq!((release.date, release.valid_until), (1_772_323_200, Some(1_772_323_200 + 7 * 86_400)));
        assert_eq!(release.components, ["main", "extra"]);
        let (path, listed) = release.best("main/binary-amd64/Packages").unwrap();
        assert_eq!((path.as_str(), listed.size), ("main/binary-amd64/Packages.xz", 7));
        assert!(
            release.by_hash && release.is_security("stable") && release.best("extra/binary-amd64/Packages").is_none()
        );
    }

    #[test]
    fn what_is_wrong_is_said() {
        for (from, to, wanted) in [
            ("Date:", "Fate:", "no Date"),
            ("Sun, 01 Mar 2026", "Someday", "is not a date"),
            ("SHA256:", "MD5Sum:", "no SHA256"),
            (" 7 main/", " 7 ../main/", "is not `DIGEST SIZE PATH`"),
            (" 7 main/", " x main/", "is not `DIGEST SIZE PATH`"),
        ] {
            let error = Release::parse(&SAMPLE.replacen(from, to, 1)).unwrap_err();
            assert!(error.contains(wanted), "{error}");
        }
        assert!(Release::parse("").is_err());
    }

    #[test]
    fn the_signature_comes_off() {
        let signed = format!(
            "-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\n{SAMPLE}- -dashed: x\n-----BEGIN PGP SIGNATURE-----\nabc\n"
        );
        let text = without_signature(&signed);
        assert_eq!(text, format!("{SAMPLE}-dashed: x\n"));
        assert_eq!(without_signature(SAMPLE), SAMPLE);
    }
}
