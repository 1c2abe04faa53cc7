//! What an image and the workspace want otherwise about single recipes.

use embrak_model::definitions::RecipeSettings;
use embrak_model::{Image, Name, Recipe, Workspace};
use embrak_tree::Digest;
use std::collections::BTreeMap;

/// The settings of every recipe: the image's over the workspace's.
pub(super) fn settings_of(workspace: &Workspace, image: &Image) -> BTreeMap<Name, RecipeSettings> {
    let mut out = workspace.def.recipe.clone();
    for (recipe, options) in &image.def.options {
        let into = &mut out.entry(recipe.clone()).or_default().options;
        into.extend(options.iter().map(|(name, value)| (name.clone(), value.value)));
    }
    for (recipe, settings) in &image.def.recipe {
        let into = out.entry(recipe.clone()).or_default();
        into.options.extend(settings.options.clone());
        into.env.extend(settings.env.clone());
        into.steps = std::mem::take(&mut into.steps).replaced_by(settings.steps.clone());
    }
    out
}

/// A recipe as its settings make it, and the digest of those that options do not tell.
pub(super) fn with_settings(recipe: &Recipe, settings: Option<&RecipeSettings>) -> (Recipe, Option<Digest>) {
    let mut recipe = recipe.clone();
    let Some(settings) = settings.filter(|s| !s.env.is_empty() || s.steps != Default::default()) else {
        return (recipe, None);
    };
    recipe.def.env.extend(settings.env.clone());
    recipe.def.steps = recipe.def.steps.replaced_by(settings.steps.clone());
    let digest = Digest::of(serde_json::json!([settings.env, settings.steps]).to_string());
    (recipe, Some(digest))
}

/// Whether each option of a recipe is on.
pub(super) fn options_of(recipe: &Recipe, settings: &BTreeMap<Name, RecipeSettings>) -> BTreeMap<Name, bool> {
    let said = settings.get(&recipe.def.name.value).map(|s| &s.options);
    recipe
        .def
        .option
        .iter()
        .map(|(name, o)| (name.clone(), said.and_then(|s| s.get(name)).copied().unwrap_or(o.default)))
        .collect()
}
