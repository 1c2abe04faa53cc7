//! Making the binary form.

use super::{FORMAT, MAGIC, NONE, row};
use crate::PackageRecord;
use crate::record::{Syntax, provided};
use embrak_resolve::Version;
use std::collections::{BTreeMap, HashMap};

/// Takes records in any order and makes the file.
pub struct IndexBuilder {
    syntax: Syntax,
    architecture: String,
    strings: Vec<u8>,
    /// Strings that come again and again.
    known: HashMap<String, u32>,
    rows: Vec<Row>,
}

struct Row {
    name: String,
    version: Version,
    bytes: [u8; row::LENGTH],
    search: String,
    provides: Vec<(String, Option<String>)>,
}

/// Whether a name can be one of a package of any format we read.
fn is_name(name: &str) -> bool {
    name.bytes().next().is_some_and(|b| b.is_ascii_alphanumeric())
        && name.bytes().all(|b| b.is_ascii_alphanumeric() || b"-.+_".contains(&b))
}

impl IndexBuilder {
    /// Nothing in it yet. Requirements are written in `syntax`, packages are for `architecture`, as the
    /// repository's format calls it.
    pub fn new(syntax: Syntax, architecture: &str) -> Self {
        IndexBuilder {
            syntax,
            architecture: architecture.to_string(),
            strings: Vec::new(),
            known: HashMap::new(),
            rows: Vec::new(),
        }
    }

    /// Puts a record in; one whose name or version is none, or that has no digest, is left out.
    pub fn add(&mut self, record: &PackageRecord) {
        let version: Option<Version> = record.version.parse().ok();
        let (Some(version), true, Some(digest)) = (version, is_name(&record.name), record.digest) else {
            return;
        };
        let mut bytes = [0u8; row::LENGTH];
        let mut put = |at: usize, value: u32| bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
        put(row::NAME, self.string(&record.name));
        put(row::VERSION, self.again(&record.version));
        put(row::ARCHITECTURE, self.again(&record.architecture));
        put(row::SUMMARY, self.string(&record.summary));
        put(row::SOURCE, self.again(&record.source));
        put(row::LICENSE, self.again(&record.license));
        put(row::PATH, self.string(&record.path));
        put(row::REQUIRES, self.string(&record.requires));
        put(row::RECOMMENDS, self.string(&record.recommends));
        put(row::CONFLICTS, self.string(&record.conflicts));
        put(row::REPLACES, self.string(&record.replaces));
        put(row::PROVIDES, self.string(&record.provides));
        put(row::LINE, record.line);
        put(row::FLAGS, u32::from(record.essential) | 2);
        bytes[row::SIZE..row::SIZE + 8].copy_from_slice(&record.size.to_le_bytes());
        bytes[row::INSTALLED..row::INSTALLED + 8].copy_from_slice(&record.installed.to_le_bytes());
        bytes[row::DIGEST..row::DIGEST + 32].copy_from_slice(digest.raw());
        let provides: Vec<(String, Option<String>)> = if record.provides.is_empty() {
            Vec::new()
        } else {
            provided(&record.provides, self.syntax, &self.architecture)
                .into_iter()
                .map(|p| (p.name, p.version.map(|v| v.to_string())))
                .collect()
        };
        let mut search = record.name.to_lowercase();
        search.push('\0');
        search.extend(record.summary.chars().filter(|c| !c.is_control()).flat_map(char::to_lowercase));
        search.push('\0');
        for (name, _) in &provides {
            search.push_str(&name.to_lowercase());
            search.push(' ');
        }
        search.push('\n');
        self.rows.push(Row { name: record.name.clone(), version, bytes, search, provides });
    }

    fn string(&mut self, text: &str) -> u32 {
        if text.is_empty() {
            return NONE;
        }
        let at = self.strings.len() as u32;
        self.strings.extend_from_slice(&(text.len() as u32).to_le_bytes());
        self.strings.extend_from_slice(text.as_bytes());
        at
    }

    fn again(&mut self, text: &str) -> u32 {
        if let Some(&at) = self.known.get(text) {
            return at;
        }
        let at = self.string(text);
        self.known.insert(text.to_string(), at);
        at
    }

    /// The file.
    pub fn finish(mut self) -> Vec<u8> {
        let mut rows = std::mem::take(&mut self.rows);
        rows.sort_by(|a, b| a.name.cmp(&b.name).then_with(|| b.version.cmp(&a.version)));
        rows.dedup_by(|b, a| a.name == b.name && a.version == b.version);
        let mut names: Vec<u8> = Vec::new();
        let mut search: Vec<u8> = Vec::new();
        let mut starts: Vec<u8> = Vec::new();
        let mut by_name: BTreeMap<String, Vec<(u32, Option<String>)>> = BTreeMap::new();
        let mut name_count = 0u32;
        let mut last: Option<&str> = None;
        for (number, row) in rows.iter().enumerate() {
            if last != Some(row.name.as_str()) {
                names.extend_from_slice(&row.bytes[row::NAME..row::NAME + 4]);
                names.extend_from_slice(&(number as u32).to_le_bytes());
                starts.extend_from_slice(&(search.len() as u32).to_le_bytes());
                search.extend_from_slice(row.search.as_bytes());
                name_count += 1;
                last = Some(&row.name);
            }
        }
        for (number, row) in rows.iter_mut().enumerate() {
            for (name, version) in row.provides.drain(..) {
                by_name.entry(name).or_default().push((number as u32, version));
            }
        }
        let mut provided: Vec<u8> = Vec::new();
        let mut providers: Vec<u8> = Vec::new();
        let provided_count = by_name.len() as u32;
        for (name, list) in by_name {
            provided.extend_from_slice(&self.again(&name).to_le_bytes());
            provided.extend_from_slice(&((providers.len() / 8) as u32).to_le_bytes());
            for (number, version) in list {
                providers.extend_from_slice(&number.to_le_bytes());
                let version = version.map_or(NONE, |v| self.again(&v));
                providers.extend_from_slice(&version.to_le_bytes());
            }
        }
        let mut out = Vec::with_capacity(
            64 + rows.len() * row::LENGTH
                + names.len() * 2
                + provided.len()
                + providers.len()
                + self.strings.len()
                + search.len(),
        );
        out.extend_from_slice(MAGIC);
        out.extend_from_slice(&FORMAT.to_le_bytes());
        out.extend_from_slice(&[0; 4]);
        let counts = [
            rows.len() as u32,
            name_count,
            provided_count,
            (providers.len() / 8) as u32,
            self.strings.len() as u32,
            search.len() as u32,
        ];
        for count in counts {
            out.extend_from_slice(&count.to_le_bytes());
        }
        out.push(match self.syntax {
            Syntax::Debian => 0,
            Syntax::Own => 1,
        });
        out.extend_from_slice(&[0; 7]);
        for row in &rows {
            out.extend_from_slice(&row.bytes);
        }
        for part in [&names, &provided, &providers, &starts, &self.strings, &search] {
            out.extend_from_slice(part);
        }
        let crc = crc32fast::hash(&out[16..]);
        out[12..16].copy_from_slice(&crc.to_le_bytes());
        out
    }
}
