//! Programs of which several can have one name: the links, and the records that the distribution's own tool keeps.

use crate::{Result, Root};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// One that could be chosen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Choice {
    /// The highest is chosen.
    pub priority: i64,
    /// What comes along: name and path.
    pub slaves: BTreeMap<String, String>,
}

/// All of one name.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Alternative {
    /// The link that leads to the chosen one.
    pub link: String,
    /// Links that come along, by name.
    pub slaves: BTreeMap<String, String>,
    /// Those that could be chosen, by path.
    pub choices: BTreeMap<String, Choice>,
}

/// Everything that is chosen among, by name.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Alternatives(pub BTreeMap<String, Alternative>);

impl Alternatives {
    pub(crate) fn add(&mut self, name: &str, link: &str, path: &str, choice: Choice, slaves: Vec<(String, String)>) {
        let all = self.0.entry(name.to_string()).or_default();
        all.link = link.to_string();
        all.slaves.extend(slaves);
        all.choices.insert(path.to_string(), choice);
    }

    /// Makes the links, and the records below `/var/lib/dpkg/alternatives`.
    ///
    /// # Errors
    /// Contents cannot be kept.
    pub(crate) fn write(&self, root: &mut Root<'_>) -> Result<()> {
        for (name, all) in &self.0 {
            let best = all.choices.iter().max_by_key(|(path, choice)| (choice.priority, std::cmp::Reverse(*path)));
            let Some((path, choice)) = best else { continue };
            root.link(&format!("/etc/alternatives/{name}"), path)?;
            root.link(&all.link, &format!("/etc/alternatives/{name}"))?;
            for (slave, target) in &choice.slaves {
                let Some(link) = all.slaves.get(slave) else { continue };
                root.link(&format!("/etc/alternatives/{slave}"), target)?;
                root.link(link, &format!("/etc/alternatives/{slave}"))?;
            }
            let mut record = format!("auto\n{}\n", all.link);
            for (slave, link) in &all.slaves {
                record += &format!("{slave}\n{link}\n");
            }
            record.push('\n');
            for (path, choice) in &all.choices {
                record += &format!("{path}\n{}\n", choice.priority);
                for slave in all.slaves.keys() {
                    record += choice.slaves.get(slave).map_or("", String::as_str);
                    record.push('\n');
                }
            }
            record.push('\n');
            root.put(&format!("/var/lib/dpkg/alternatives/{name}"), record)?;
        }
        Ok(())
    }
}
