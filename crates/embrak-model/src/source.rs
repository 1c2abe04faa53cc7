//! Files of definitions, places in them, and problems found there.

use std::fmt;
use std::ops::Range;
use std::path::PathBuf;
use std::sync::Arc;

/// A file of definitions as it was read.
#[derive(Debug, PartialEq, Eq)]
pub struct SourceFile {
    /// Its path from the workspace, or as given; what people are shown.
    pub name: String,
    /// The directory that relative paths written in it start from: the layer's, or the workspace's.
    pub base: PathBuf,
    /// Its text.
    pub text: String,
}

/// A range of bytes in a file of definitions.
#[derive(Clone, PartialEq, Eq)]
pub struct Place {
    /// The file.
    pub file: Arc<SourceFile>,
    /// Byte offsets in its text.
    pub span: Range<usize>,
}

impl Place {
    /// Line number, from 1.
    pub fn line(&self) -> usize {
        1 + self.before().matches('\n').count()
    }

    /// Column in characters, from 1.
    pub fn column(&self) -> usize {
        1 + self.before().rsplit('\n').next().unwrap_or_default().chars().count()
    }

    fn before(&self) -> &str {
        self.file.text.get(..self.span.start).unwrap_or_default()
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.file.name, self.line())
    }
}

impl fmt::Debug for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

/// Something wrong with the definitions.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// What is wrong.
    pub message: String,
    /// Where, when it is at a certain place.
    pub place: Option<Place>,
    /// What to do about it.
    pub help: Option<String>,
}

impl Problem {
    /// A problem that lies at no certain place.
    pub fn new(message: impl Into<String>) -> Self {
        Problem { message: message.into(), place: None, help: None }
    }

    /// The same, at a place.
    #[must_use]
    pub fn at(mut self, place: Option<Place>) -> Self {
        self.place = place;
        self
    }

    /// The same, with advice.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(place) = &self.place {
            write!(f, "{place}: ")?;
        }
        f.write_str(&self.message)?;
        if let Some(help) = &self.help {
            write!(f, " ({help})")?;
        }
        Ok(())
    }
}

/// The candidate closest to a misspelt word, if one is close enough to suggest.
pub fn suggestion<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let limit = (word.chars().count() / 3).max(1);
    candidates
        .into_iter()
        .map(|c| (strsim::damerau_levenshtein(word, c), c))
        .filter(|(distance, _)| *distance <= limit)
        .min_by_key(|(distance, c)| (*distance, c.to_string()))
        .map(|(_, c)| c)
}
