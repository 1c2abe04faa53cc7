//! Packages of a run into a repository of ours.

use crate::error::{EngineError, Result};
use crate::record::RunRecord;
use crate::sources;
use embrak_repo::{PackageHead, Published, publish};
use embrak_store::Store;
use embrak_trust::SigningKey;
use std::collections::BTreeMap;
use std::path::Path;

/// Publishes the packages that recipes made in a run, of all its images or of some.
///
/// # Errors
/// The run made none, or the repository cannot be written.
pub fn publish_run(
    store: &Store,
    record: &RunRecord,
    images: &[String],
    dir: &Path,
    name: &str,
    key: &SigningKey,
) -> Result<Published> {
    let mut packages = BTreeMap::new();
    for (image, list) in &record.packages {
        if !images.is_empty() && !images.contains(image) {
            continue;
        }
        for info in list.iter().filter(|p| p.ready_made.is_none()) {
            let head = PackageHead {
                embrak_package: PackageHead::FORMAT,
                name: info.name.clone(),
                version: info.version.clone(),
                architecture: info.architecture.clone(),
                summary: info.summary.clone(),
                license: info.license.clone(),
                requires: info.requires.clone(),
                provides: info.provides.clone(),
                conflicts: info.conflicts.clone(),
                tree: info.tree,
                size: info.size,
                files: info.files,
            };
            let key = (info.name.clone(), info.version.clone(), info.architecture.clone());
            packages.insert(key, (head, sources::get_tree(store, &info.tree)?));
        }
    }
    if packages.is_empty() {
        return Err(EngineError::other("the run made no packages of recipes", "name other images, or another run"));
    }
    let packages: Vec<_> = packages.into_values().collect();
    let now = jiff::Timestamp::from_second(jiff::Timestamp::now().as_second()).unwrap_or_default().to_string();
    Ok(publish(dir, name, &packages, store, key, &now)?)
}
