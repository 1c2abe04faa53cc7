//! JSON Schema (draft 2020-12) of each kind of definition, made from the same types that read them.

use crate::definitions::{AmendmentForm, BoardDef, ImageDef, LayerDef, RecipeDef, WorkspaceDef};
use schemars::generate::SchemaSettings;
use serde_json::Value;

/// The kinds of files there are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SchemaKind {
    /// `embrak.toml`
    Workspace,
    /// `layer.toml`
    Layer,
    /// `recipes/NAME/recipe.toml`
    Recipe,
    /// `boards/NAME.toml`
    Board,
    /// `images/NAME.toml`
    Image,
    /// `amend/NAME.toml`
    Amendment,
}

/// The schema of a kind. Requirements, paths and sizes are strings here; `embrak check` knows more of them.
pub fn schema(kind: SchemaKind) -> Value {
    let generator = SchemaSettings::draft2020_12().into_generator();
    let schema = match kind {
        SchemaKind::Workspace => generator.into_root_schema_for::<WorkspaceDef>(),
        SchemaKind::Layer => generator.into_root_schema_for::<LayerDef>(),
        SchemaKind::Recipe => generator.into_root_schema_for::<RecipeDef>(),
        SchemaKind::Board => generator.into_root_schema_for::<BoardDef>(),
        SchemaKind::Image => generator.into_root_schema_for::<ImageDef>(),
        SchemaKind::Amendment => generator.into_root_schema_for::<AmendmentForm>(),
    };
    let mut value = schema.to_value();
    if kind == SchemaKind::Image
        && let Some(required) = value.get_mut("required").and_then(Value::as_array_mut)
    {
        // What is required of the merged image may come from the one it extends.
        required.retain(|name| name == "image");
    }
    value
}
