//! Changing `embrak.toml` from the command line: what was written stays as it is, comments included.

use toml_edit::{Array, DocumentMut, Item, Value};

/// Why the file cannot be changed so.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    /// It is not TOML.
    #[error("embrak.toml cannot be changed because it is not valid TOML: {0}")]
    Syntax(String),
    /// Its `layers` is not a list.
    #[error("`layers` of embrak.toml is not a list")]
    NoList,
    /// The layer is listed already.
    #[error("the layer `{0}` is in embrak.toml already")]
    Present(String),
    /// The layer is not listed.
    #[error("the layer `{wanted}` is not in embrak.toml; there are {}", there.join(", "))]
    Absent {
        /// What was named.
        wanted: String,
        /// The paths that are listed.
        there: Vec<String>,
    },
}

/// The text with a layer put behind all others.
///
/// # Errors
/// See [`EditError`].
pub fn add_layer(text: &str, path: &str) -> Result<String, EditError> {
    let mut document = parse(text)?;
    if document.get("layers").is_none() {
        document["layers"] = Item::Value(Value::Array(Array::new()));
    }
    let layers = list(&mut document)?;
    if layers.iter().any(|l| l.as_str() == Some(path)) {
        return Err(EditError::Present(path.to_string()));
    }
    // A list written one a line goes on so. What stands before an element may hold the comment of the one before it,
    // so only the end of the line and the indentation are taken over.
    let before =
        layers.iter().last().and_then(|last| last.decor().prefix()).and_then(|p| p.as_str()).unwrap_or_default();
    let prefix = match before.rsplit_once('\n') {
        Some((_, indentation)) => format!("\n{indentation}"),
        None if layers.is_empty() => String::new(),
        None => " ".to_string(),
    };
    layers.push(path);
    if let Some(last) = layers.iter_mut().last() {
        last.decor_mut().set_prefix(prefix);
    }
    Ok(document.to_string())
}

/// The text without a layer.
///
/// # Errors
/// See [`EditError`].
pub fn remove_layer(text: &str, path: &str) -> Result<String, EditError> {
    let mut document = parse(text)?;
    let layers = list(&mut document)?;
    let there: Vec<String> = layers.iter().filter_map(|l| l.as_str().map(String::from)).collect();
    let Some(index) = there.iter().position(|l| l == path) else {
        return Err(EditError::Absent { wanted: path.to_string(), there });
    };
    layers.remove(index);
    Ok(document.to_string())
}

fn parse(text: &str) -> Result<DocumentMut, EditError> {
    text.parse().map_err(|e: toml_edit::TomlError| EditError::Syntax(e.message().to_string()))
}

fn list(document: &mut DocumentMut) -> Result<&mut Array, EditError> {
    document.get_mut("layers").and_then(Item::as_array_mut).ok_or(EditError::NoList)
}

#[cfg(test)]
mod tests {
    use super::*;

    const FILE: &str =
        "# The workspace.\nworkspace = 'w'   # its name\nlayers = [\n  'a',   # base\n  'b',\n]\n\n[params]\nx = '1'\n";

    #[test]
    fn comments_and_form_stay() {
        let added = add_layer(FILE, "layers/c").unwrap();
        assert!(added.contains("  'a',   # base\n  'b',\n  \"layers/c\",\n]"), "{added}");
        assert!(
            added.starts_with("# The workspace.\nworkspace = 'w'   # its name\n")
                && added.ends_with("[params]\nx = '1'\n")
        );
        assert_eq!(remove_layer(&added, "layers/c").unwrap(), FILE);
        assert_eq!(add_layer("layers = ['a']\n", "b").unwrap(), "layers = ['a', \"b\"]\n");
        assert_eq!(add_layer("layers = []\n", "b").unwrap(), "layers = [\"b\"]\n");
    }

    #[test]
    fn what_cannot_be_done_is_said() {
        assert_eq!(add_layer(FILE, "a"), Err(EditError::Present("a".into())));
        let absent = remove_layer(FILE, "z").unwrap_err().to_string();
        assert_eq!(absent, "the layer `z` is not in embrak.toml; there are a, b");
        assert_eq!(add_layer("layers = 3", "a"), Err(EditError::NoList));
        assert!(matches!(add_layer("layers = [", "a"), Err(EditError::Syntax(_))));
    }
}
