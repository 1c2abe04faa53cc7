//! Paths inside a tree.

use std::fmt;

/// An absolute path inside a tree: bytes, `/`-separated, without `.`, `..`, empty parts or NUL.
///
/// Paths order by their bytes, so a directory always comes before what is in it.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TreePath(Vec<u8>);

/// Why some bytes are not a path inside a tree.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PathError {
    /// It does not begin with `/`.
    #[error("`{0}` is not an absolute path")]
    Relative(String),
    /// It has a part `.` or `..`, which could lead out of the tree.
    #[error("`{0}` has a part `.` or `..`")]
    Dots(String),
    /// It holds a NUL byte.
    #[error("`{0}` holds a NUL byte")]
    Nul(String),
    /// A part is longer than 255 bytes or the whole is longer than 4095.
    #[error("`{0}` is too long: a part may have 255 bytes, a path 4095")]
    TooLong(String),
}

impl TreePath {
    /// The root, `/`.
    pub fn root() -> Self {
        TreePath(b"/".to_vec())
    }

    /// Reads an absolute path; repeated and trailing slashes are dropped.
    ///
    /// # Errors
    /// See [`PathError`].
    pub fn new(bytes: impl AsRef<[u8]>) -> Result<Self, PathError> {
        let bytes = bytes.as_ref();
        if bytes.first() != Some(&b'/') {
            return Err(PathError::Relative(crate::escape_bytes(bytes)));
        }
        Self::from_relative(bytes)
    }

    /// Reads a path that may lack the leading slash or begin with `./`, as archives write them.
    ///
    /// # Errors
    /// See [`PathError`].
    pub fn from_relative(bytes: impl AsRef<[u8]>) -> Result<Self, PathError> {
        let bytes = bytes.as_ref();
        let shown = || crate::escape_bytes(bytes);
        if bytes.contains(&0) {
            return Err(PathError::Nul(shown()));
        }
        let mut path = Vec::with_capacity(bytes.len() + 1);
        for (index, part) in bytes.split(|&b| b == b'/').enumerate() {
            if part.is_empty() || (index == 0 && part == b".") {
                continue;
            }
            if part == b"." || part == b".." {
                return Err(PathError::Dots(shown()));
            }
            if part.len() > 255 {
                return Err(PathError::TooLong(shown()));
            }
            path.push(b'/');
            path.extend_from_slice(part);
        }
        if path.len() > 4095 {
            return Err(PathError::TooLong(shown()));
        }
        if path.is_empty() {
            path.push(b'/');
        }
        Ok(TreePath(path))
    }

    /// The path's bytes, beginning with `/`.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// Whether this is `/`.
    pub fn is_root(&self) -> bool {
        self.0 == b"/"
    }

    /// The bytes without the leading slash; empty for the root.
    pub fn relative(&self) -> &[u8] {
        &self.0[1..]
    }

    /// The directory this lies in; none for the root.
    pub fn parent(&self) -> Option<TreePath> {
        if self.is_root() {
            return None;
        }
        match self.0.iter().rposition(|&b| b == b'/') {
            Some(0) | None => Some(TreePath::root()),
            Some(at) => Some(TreePath(self.0[..at].to_vec())),
        }
    }

    /// The last part; empty for the root.
    pub fn name(&self) -> &[u8] {
        let at = self.0.iter().rposition(|&b| b == b'/').map_or(0, |at| at + 1);
        &self.0[at..]
    }

    /// This path with one or more parts put behind it.
    ///
    /// # Errors
    /// See [`PathError`].
    pub fn join(&self, rest: impl AsRef<[u8]>) -> Result<TreePath, PathError> {
        let mut bytes = self.0.clone();
        bytes.push(b'/');
        bytes.extend_from_slice(rest.as_ref());
        TreePath::new(bytes)
    }

    /// Whether this is `ancestor` or lies below it.
    pub fn starts_with(&self, ancestor: &TreePath) -> bool {
        ancestor.is_root()
            || self.0 == ancestor.0
            || (self.0.starts_with(&ancestor.0) && self.0.get(ancestor.0.len()) == Some(&b'/'))
    }

    /// How many parts it has; 0 for the root.
    pub fn depth(&self) -> usize {
        if self.is_root() { 0 } else { self.0.iter().filter(|&&b| b == b'/').count() }
    }
}

impl fmt::Display for TreePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&crate::escape_bytes(&self.0))
    }
}

impl fmt::Debug for TreePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

impl std::str::FromStr for TreePath {
    type Err = PathError;
    fn from_str(text: &str) -> Result<Self, PathError> {
        TreePath::new(text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slashes_are_normalised_and_dots_refused() {
        assert_eq!(TreePath::new("/a//b/").unwrap().as_bytes(), b"/a/b");
        assert_eq!(TreePath::from_relative("./a").unwrap().as_bytes(), b"/a");
        assert_eq!(TreePath::from_relative("./").unwrap(), TreePath::root());
        assert!(matches!(TreePath::new("a"), Err(PathError::Relative(_))));
        assert!(matches!(TreePath::new("/a/../b"), Err(PathError::Dots(_))));
        assert!(matches!(TreePath::new("/a/./b"), Err(PathError::Dots(_))));
        assert!(matches!(TreePath::new(b"/a\0"), Err(PathError::Nul(_))));
        assert!(matches!(TreePath::new(format!("/{}", "x".repeat(256))), Err(PathError::TooLong(_))));
    }

    #[test]
    fn parents_and_names() {
        let path = TreePath::new("/usr/bin/lampd").unwrap();
        assert_eq!(path.name(), b"lampd");
        assert_eq!(path.parent().unwrap().as_bytes(), b"/usr/bin");
        assert_eq!(TreePath::new("/usr").unwrap().parent().unwrap(), TreePath::root());
        assert_eq!(TreePath::root().parent(), None);
        assert!(path.starts_with(&TreePath::new("/usr").unwrap()));
        assert!(!path.starts_with(&TreePath::new("/us").unwrap()));
        assert_eq!((path.depth(), TreePath::root().depth()), (3, 0));
    }
}
