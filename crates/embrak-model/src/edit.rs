//! Changing `embrak.toml` from the command line: what was written stays as it is, comments included.

use crate::definitions::LayerSource;
use toml_edit::{Array, DocumentMut, InlineTable, Item, Value};

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
pub fn add_layer(text: &str, layer: &LayerSource) -> Result<String, EditError> {
    let mut document = parse(text)?;
    if document.get("layers").is_none() {
        document["layers"] = Item::Value(Value::Array(Array::new()));
    }
    let layers = list(&mut document)?;
    let value = written(layer);
    let plain = |v: &Value| v.to_string().trim().to_string();
    if layers.iter().any(|l| plain(l) == plain(&value) || (l.as_str().is_some() && l.as_str() == layer.directory())) {
        return Err(EditError::Present(layer.to_string()));
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
    layers.push(value);
    if let Some(last) = layers.iter_mut().last() {
        last.decor_mut().set_prefix(prefix);
    }
    Ok(document.to_string())
}

fn written(layer: &LayerSource) -> Value {
    let table = |fields: &[(&str, Option<&str>)]| {
        let mut table = InlineTable::new();
        for (key, value) in fields {
            if let Some(value) = value {
                table.insert(*key, (*value).into());
            }
        }
        Value::InlineTable(table)
    };
    match layer {
        LayerSource::Directory(path) => path.as_str().into(),
        LayerSource::Git { git, commit, path } => {
            table(&[("git", Some(git)), ("commit", Some(commit)), ("path", path.as_deref())])
        }
        LayerSource::Archive { archive, sha256, path } => {
            table(&[("archive", Some(archive)), ("sha256", Some(sha256)), ("path", path.as_deref())])
        }
    }
}

/// The text without a layer: a directory as it is written, or one from elsewhere by its commit or digest.
///
/// # Errors
/// See [`EditError`].
pub fn remove_layer(text: &str, path: &str) -> Result<String, EditError> {
    let mut document = parse(text)?;
    let layers = list(&mut document)?;
    let known = |l: &Value| {
        let of = |key: &str| l.as_inline_table().and_then(|t| t.get(key)).and_then(Value::as_str).map(String::from);
        l.as_str().map(String::from).or_else(|| of("commit")).or_else(|| of("sha256")).unwrap_or_default()
    };
    let there: Vec<String> = layers.iter().map(known).collect();
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
        let add = |text: &str, path: &str| add_layer(text, &LayerSource::Directory(path.into()));
        let added = add(FILE, "layers/c").unwrap();
        assert!(added.contains("  'a',   # base\n  'b',\n  \"layers/c\",\n]"), "{added}");
        assert!(
            added.starts_with("# The workspace.\nworkspace = 'w'   # its name\n")
                && added.ends_with("[params]\nx = '1'\n")
        );
        assert_eq!(remove_layer(&added, "layers/c").unwrap(), FILE);
        assert_eq!(add("layers = ['a']\n", "b").unwrap(), "layers = ['a', \"b\"]\n");
        assert_eq!(add("layers = []\n", "b").unwrap(), "layers = [\"b\"]\n");
    }

    #[test]
    fn layers_from_elsewhere_come_and_go() {
        let commit = "0123456789abcdef0123456789abcdef01234567".to_string();
        let layer = LayerSource::Git { git: "https://host.invalid/l.git".into(), commit: commit.clone(), path: None };
        let added = add_layer("layers = ['a']\n", &layer).unwrap();
        assert_eq!(
            added,
            format!("layers = ['a', {{ git = \"https://host.invalid/l.git\", commit = \"{commit}\" }}]\n")
        );
        assert!(matches!(add_layer(&added, &layer), Err(EditError::Present(_))));
        assert_eq!(remove_layer(&added, &commit).unwrap(), "layers = ['a']\n");
    }

    #[test]
    fn what_cannot_be_done_is_said() {
        let add_layer = |text: &str, path: &str| add_layer(text, &LayerSource::Directory(path.into()));
        assert_eq!(add_layer(FILE, "a"), Err(EditError::Present("a".into())));
        let absent = remove_layer(FILE, "z").unwrap_err().to_string();
        assert_eq!(absent, "the layer `z` is not in embrak.toml; there are a, b");
        assert_eq!(add_layer("layers = 3", "a"), Err(EditError::NoList));
        assert!(matches!(add_layer("layers = [", "a"), Err(EditError::Syntax(_))));
    }
}
