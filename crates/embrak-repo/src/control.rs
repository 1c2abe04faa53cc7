//! Stanzas of `Field: value` lines, as in the control files and indexes of deb822(5).

use std::io::{self, BufRead};

/// A line longer than this is refused: the longest in a distribution's index are some 30 KiB.
const LINE_LIMIT: usize = 1 << 20;
/// A stanza of more bytes than this is refused.
const STANZA_LIMIT: usize = 8 << 20;

/// One stanza: fields in the order they were written.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub struct Stanza {
    text: String,
    /// Name's end, value's start and end in `text`; names start where the one before has ended.
    fields: Vec<(usize, usize, usize, usize)>,
    /// The line it begins in, from 1.
    pub line: u32,
}

impl Stanza {
    /// The value of a field, whatever the case of its name; continuation lines joined with line ends.
    pub fn get(&self, name: &str) -> Option<&str> {
        self.iter().find(|(field, _)| field.eq_ignore_ascii_case(name)).map(|(_, value)| value)
    }

    /// All fields.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &str)> {
        self.fields.iter().map(|&(a, b, c, d)| (&self.text[a..b], &self.text[c..d]))
    }

    fn push(&mut self, name: &str, value: &str) {
        let a = self.text.len();
        self.text.push_str(name);
        let b = self.text.len();
        self.text.push_str(value);
        self.fields.push((a, b, b, self.text.len()));
    }

    fn extend_last(&mut self, more: &str) {
        self.text.push('\n');
        self.text.push_str(more);
        if let Some(last) = self.fields.last_mut() {
            last.3 = self.text.len();
        }
    }

    fn clear(&mut self) {
        self.text.clear();
        self.fields.clear();
    }
}

/// Reads stanza after stanza.
pub struct Stanzas<R> {
    input: R,
    line: u32,
    buffer: Vec<u8>,
}

impl<R: BufRead> Stanzas<R> {
    /// Starts reading.
    pub fn new(input: R) -> Self {
        Stanzas { input, line: 0, buffer: Vec::new() }
    }

    /// The next stanza into `stanza`; false at the end.
    ///
    /// # Errors
    /// Reading fails, a line is not a field, or something is absurdly long.
    pub fn next_into(&mut self, stanza: &mut Stanza) -> io::Result<bool> {
        stanza.clear();
        let damaged =
            |line: u32, what: &str| io::Error::new(io::ErrorKind::InvalidData, format!("line {line}: {what}"));
        loop {
            self.buffer.clear();
            let n = read_line(&mut self.input, &mut self.buffer).map_err(|e| match e.kind() {
                io::ErrorKind::InvalidData => damaged(self.line + 1, &e.to_string()),
                _ => e,
            })?;
            if n == 0 {
                return Ok(!stanza.fields.is_empty());
            }
            self.line += 1;
            let line = self.buffer.trim_ascii_end();
            if line.is_empty() {
                if stanza.fields.is_empty() {
                    continue;
                }
                return Ok(true);
            }
            if line[0] == b'#' {
                continue;
            }
            // Descriptions may hold anything; names and versions are checked where they are used.
            let text = String::from_utf8_lossy(line);
            if stanza.text.len() + text.len() > STANZA_LIMIT {
                return Err(damaged(self.line, "a stanza of more than 8 MiB"));
            }
            if line[0] == b' ' || line[0] == b'\t' {
                if stanza.fields.is_empty() {
                    return Err(damaged(self.line, "a continuation of nothing"));
                }
                stanza.extend_last(text.trim_start());
                continue;
            }
            let Some((name, value)) = text.split_once(':') else {
                return Err(damaged(self.line, "neither `Field: value` nor a continuation"));
            };
            if name.is_empty() || name.contains(|c: char| c.is_whitespace() || c.is_control()) {
                return Err(damaged(self.line, "a field without a name"));
            }
            if stanza.fields.is_empty() {
                stanza.line = self.line;
            }
            stanza.push(name, value.trim());
        }
    }
}

fn read_line(input: &mut impl BufRead, buffer: &mut Vec<u8>) -> io::Result<usize> {
    loop {
        let available = match input.fill_buf() {
            Ok(available) => available,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(error) => return Err(error),
        };
        if available.is_empty() {
            return Ok(buffer.len());
        }
        let (end, done) = memchr::memchr(b'\n', available).map_or((available.len(), false), |at| (at + 1, true));
        if buffer.len() + end > LINE_LIMIT {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "a line of more than 1 MiB"));
        }
        buffer.extend_from_slice(&available[..end]);
        input.consume(end);
        if done {
            return Ok(buffer.len());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn all(text: &[u8]) -> io::Result<Vec<Stanza>> {
        let mut stanzas = Stanzas::new(text);
        let (mut out, mut stanza) = (Vec::new(), Stanza::default());
        while stanzas.next_into(&mut stanza)? {
            out.push(stanza.clone());
        }
        Ok(out)
    }

    #[test]
    fn stanzas_with_continuations() {
        let text = b"\n\nPackage: lampd\nDescription: turns\n the lamp\n .\nSize: 5 \n\n\n# gone\nPackage: horn\n";
        let read = all(text).unwrap();
        assert_eq!(read.len(), 2);
        assert_eq!((read[0].get("package"), read[0].line), (Some("lampd"), 3));
        assert_eq!(read[0].get("Description"), Some("turns\nthe lamp\n."));
        assert_eq!(read[0].get("size"), Some("5"));
        assert_eq!((read[1].get("Package"), read[1].line), (Some("horn"), 11));
        assert_eq!(read[1].get("Size"), None);
    }

    #[test]
    fn what_is_no_stanza_says_where() {
        for (text, wanted) in [
            (b"Package: a\nnonsense\n".as_slice(), "line 2: neither"),
            (b" more\n", "line 1: a continuation of nothing"),
            (b": value\n", "line 1: a field without a name"),
        ] {
            let error = all(text).unwrap_err().to_string();
            assert!(error.contains(wanted), "{error}");
        }
        let long = [b"A: ".as_slice(), &vec![b'x'; LINE_LIMIT]].concat();
        assert!(all(&long).unwrap_err().to_string().contains("1 MiB"));
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
            let _ = all(&bytes);
        }
    }
}
