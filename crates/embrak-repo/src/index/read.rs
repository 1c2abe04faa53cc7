//! Using the binary form.

use super::{FORMAT, HEADER, MAGIC, NONE, row};
use crate::PackageRecord;
use crate::record::Syntax;
use embrak_resolve::{Candidate, Catalog, Version};
use embrak_tree::Digest;
use memchr::memmem;
use std::ops::Range;

/// A loaded index.
pub struct Index {
    bytes: Vec<u8>,
    packages: usize,
    name_count: usize,
    provided_count: usize,
    provider_count: usize,
    names: usize,
    provided: usize,
    providers: usize,
    starts: usize,
    strings: usize,
    search: usize,
    syntax: Syntax,
    /// Where it is from, in words.
    origin: String,
    rank: u32,
    architecture: String,
    /// Whether what is in it mends security faults.
    pub security: bool,
}

/// A package that holds the words looked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Found {
    /// Its number: the newest version of its name.
    pub number: usize,
    /// Whether all the words are in its name.
    pub in_name: bool,
}

impl Index {
    /// Takes the bytes of the file. `origin` tells people where the index is from; candidates get `rank`.
    ///
    /// # Errors
    /// It is not such a file, of another format, or damaged.
    pub fn load(bytes: Vec<u8>, origin: &str, rank: u32, architecture: &str) -> Result<Index, String> {
        let number = |at: usize| {
            bytes.get(at..at + 4).and_then(|b| b.try_into().ok()).map(u32::from_le_bytes).map(|n| n as usize)
        };
        if bytes.len() < HEADER || bytes[..8] != *MAGIC || number(8) != Some(FORMAT as usize) {
            return Err("not an index of this format".into());
        }
        if number(12) != Some(crc32fast::hash(&bytes[16..]) as usize) {
            return Err("its checksum is wrong".into());
        }
        let count = |n: usize| number(16 + 4 * n).unwrap_or_default();
        let [packages, name_count, provided_count, provider_count, string_bytes, search_bytes] =
            [0, 1, 2, 3, 4, 5].map(count);
        let syntax = match bytes[40] {
            0 => Syntax::Debian,
            1 => Syntax::Own,
            _ => return Err("its syntax is not known".into()),
        };
        let mut at = HEADER;
        let mut take = |count: usize, size: usize| {
            let start = at;
            at = at.saturating_add(count.saturating_mul(size));
            start
        };
        take(packages, row::LENGTH);
        let names = take(name_count, 8);
        let provided = take(provided_count, 8);
        let providers = take(provider_count, 8);
        let starts = take(name_count, 4);
        let strings = take(string_bytes, 1);
        let search = take(search_bytes, 1);
        if at != bytes.len() {
            return Err("its tables do not fill it".into());
        }
        Ok(Index {
            packages,
            name_count,
            provided_count,
            provider_count,
            names,
            provided,
            providers,
            starts,
            strings,
            search,
            syntax,
            origin: origin.to_string(),
            rank,
            architecture: architecture.to_string(),
            security: false,
            bytes,
        })
    }

    fn number(&self, at: usize) -> u32 {
        self.bytes.get(at..at + 4).and_then(|b| b.try_into().ok()).map_or(NONE, u32::from_le_bytes)
    }

    fn long(&self, at: usize) -> u64 {
        self.bytes.get(at..at + 8).and_then(|b| b.try_into().ok()).map_or(0, u64::from_le_bytes)
    }

    /// The string at an offset of the strings; empty when there is none.
    fn string(&self, offset: u32) -> &str {
        if offset == NONE {
            return "";
        }
        let at = self.strings + offset as usize;
        let length = self.number(at) as usize;
        let end = at.saturating_add(4).saturating_add(length);
        let bytes = self.bytes.get(at.saturating_add(4)..end.min(self.search)).unwrap_or_default();
        std::str::from_utf8(bytes).unwrap_or_default()
    }

    fn field(&self, package: usize, field: usize) -> u32 {
        self.number(HEADER + package * row::LENGTH + field)
    }

    fn text(&self, package: usize, field: usize) -> &str {
        self.string(self.field(package, field))
    }

    /// Where in a sorted table of names one stands.
    fn position(&self, table: usize, count: usize, name: &str) -> Option<usize> {
        let (mut low, mut high) = (0, count);
        while low < high {
            let middle = (low + high) / 2;
            match self.string(self.number(table + middle * 8)).cmp(name) {
                std::cmp::Ordering::Less => low = middle + 1,
                std::cmp::Ordering::Greater => high = middle,
                std::cmp::Ordering::Equal => return Some(middle),
            }
        }
        None
    }

    /// What a table says from one entry to the next.
    fn range(&self, table: usize, count: usize, position: usize, limit: usize) -> Range<usize> {
        let first = self.number(table + position * 8 + 4) as usize;
        let end = if position + 1 < count { self.number(table + (position + 1) * 8 + 4) as usize } else { limit };
        first.min(limit)..end.min(limit).max(first.min(limit))
    }

    /// How requirements of its records are written.
    pub fn syntax(&self) -> Syntax {
        self.syntax
    }

    /// Where it is from, in words.
    pub fn origin(&self) -> &str {
        &self.origin
    }

    /// The architecture it is for, as the repository's format calls it.
    pub fn architecture(&self) -> &str {
        &self.architecture
    }

    /// One record.
    pub fn record(&self, package: usize) -> PackageRecord {
        let text = |field| self.text(package, field).to_string();
        let base = HEADER + package * row::LENGTH;
        let flags = self.field(package, row::FLAGS);
        let digest = self.bytes.get(base + row::DIGEST..base + row::DIGEST + 32).and_then(|b| b.try_into().ok());
        PackageRecord {
            name: text(row::NAME),
            version: text(row::VERSION),
            architecture: text(row::ARCHITECTURE),
            summary: text(row::SUMMARY),
            source: text(row::SOURCE),
            license: text(row::LICENSE),
            path: text(row::PATH),
            size: self.long(base + row::SIZE),
            installed: self.long(base + row::INSTALLED),
            digest: digest.map(Digest::from_raw).filter(|_| flags & 2 != 0),
            essential: flags & 1 != 0,
            requires: text(row::REQUIRES),
            recommends: text(row::RECOMMENDS),
            conflicts: text(row::CONFLICTS),
            replaces: text(row::REPLACES),
            provides: text(row::PROVIDES),
            line: self.field(package, row::LINE),
        }
    }

    /// The newest version of every essential package.
    pub fn essential(&self) -> Vec<usize> {
        (0..self.name_count)
            .map(|n| self.number(self.names + n * 8 + 4) as usize)
            .filter(|&package| package < self.packages && self.field(package, row::FLAGS) & 1 != 0)
            .collect()
    }

    /// The record of this very name and version.
    pub fn exact(&self, name: &str, version: &str) -> Option<PackageRecord> {
        self.named(name).find(|&n| self.text(n, row::VERSION) == version).map(|n| self.record(n))
    }

    /// The packages that hold all the words in name, summary or provided names, by name. Words are in lower case.
    pub fn find(&self, words: &[String]) -> Vec<Found> {
        let Some(first) = words.iter().max_by_key(|w| w.len()).filter(|w| !w.is_empty()) else { return Vec::new() };
        let text = &self.bytes[self.search..];
        let finder = memmem::Finder::new(first.as_bytes());
        let finders: Vec<memmem::Finder> = words.iter().map(|w| memmem::Finder::new(w.as_bytes())).collect();
        let mut out = Vec::new();
        let mut at = 0;
        while let Some(hit) = text.get(at..).and_then(|rest| finder.find(rest)).map(|hit| hit + at) {
            // The last name whose text begins at or before the hit.
            let (mut low, mut high) = (0, self.name_count);
            while low < high {
                let middle = (low + high) / 2;
                if self.number(self.starts + middle * 4) as usize <= hit { low = middle + 1 } else { high = middle }
            }
            let Some(name) = low.checked_sub(1) else { break };
            let start = self.number(self.starts + name * 4) as usize;
            let end = if low < self.name_count { self.number(self.starts + low * 4) as usize } else { text.len() };
            let Some(entry) = text.get(start..end.max(hit + 1).min(text.len())) else { break };
            if finders.iter().all(|f| f.find(entry).is_some()) {
                let own = entry.split(|&b| b == 0).next().unwrap_or_default();
                let number = self.number(self.names + name * 8 + 4) as usize;
                if number < self.packages {
                    out.push(Found { number, in_name: finders.iter().all(|f| f.find(own).is_some()) });
                }
            }
            at = end.max(hit + 1);
        }
        out
    }
}

impl Catalog for Index {
    fn len(&self) -> usize {
        self.packages
    }

    fn named(&self, name: &str) -> Range<usize> {
        match self.position(self.names, self.name_count, name) {
            Some(position) => self.range(self.names, self.name_count, position, self.packages),
            None => 0..0,
        }
    }

    fn providing(&self, name: &str) -> Vec<(usize, Option<Version>)> {
        let Some(position) = self.position(self.provided, self.provided_count, name) else { return Vec::new() };
        self.range(self.provided, self.provided_count, position, self.provider_count)
            .map(|n| self.providers + n * 8)
            .map(|at| (self.number(at) as usize, self.string(self.number(at + 4)).parse().ok()))
            .filter(|(package, _)| *package < self.packages)
            .collect()
    }

    fn candidate(&self, number: usize) -> Candidate {
        let record = self.record(number);
        record.candidate(self.syntax, &self.architecture, &self.origin, self.rank).unwrap_or_else(|| Candidate {
            // Only from tables that do not hold together: something nobody asks for.
            name: String::new(),
            version: Version::lowest(),
            requires: vec![],
            recommends: vec![],
            provides: vec![],
            conflicts: vec![],
            origin: self.origin.clone(),
            rank: u32::MAX,
        })
    }

    fn names(&self) -> Box<dyn Iterator<Item = &str> + '_> {
        Box::new((0..self.name_count).map(|n| self.string(self.number(self.names + n * 8))))
    }
}
