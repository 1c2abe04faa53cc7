//! The common login rules of PAM, put together from the profiles that packages bring, and the list of login shells.

use crate::{Result, Root};

#[derive(Default)]
struct Profile {
    priority: i64,
    name: String,
    fields: Vec<(String, Vec<String>)>,
}

impl Profile {
    fn parse(text: &str) -> Option<Profile> {
        let mut out = Profile::default();
        let mut default = false;
        for line in text.lines() {
            if line.starts_with([' ', '\t']) {
                if let Some((_, lines)) = out.fields.last_mut() {
                    lines.push(line.trim().to_string());
                }
                continue;
            }
            let Some((key, value)) = line.split_once(':') else { continue };
            let value = value.trim().to_string();
            match key {
                "Name" => out.name = value,
                "Default" => default = value == "yes",
                "Priority" => out.priority = value.parse().unwrap_or(0),
                _ => {
                    let lines = if value.is_empty() { vec![] } else { vec![value] };
                    out.fields.push((key.to_string(), lines));
                }
            }
        }
        default.then_some(out)
    }

    fn get(&self, key: &str) -> Option<&Vec<String>> {
        self.fields.iter().find(|(k, _)| k == key).map(|(_, lines)| lines)
    }
}

/// Writes `/etc/pam.d/common-*`, unless an overlay has its own; how many files.
///
/// # Errors
/// Profiles cannot be read.
pub(crate) fn write_rules(root: &mut Root<'_>) -> Result<usize> {
    let mut profiles = Vec::new();
    for name in root.list("/usr/share/pam-configs") {
        profiles.extend(Profile::parse(&root.text(&format!("/usr/share/pam-configs/{name}"))?));
    }
    profiles.sort_by(|a, b| b.priority.cmp(&a.priority).then_with(|| a.name.cmp(&b.name)));
    let mut written = 0;
    for file in root.list("/usr/share/pam").into_iter().filter(|n| n.starts_with("common-") && !n.contains('.')) {
        let to = format!("/etc/pam.d/{file}");
        if root.exists(&to) {
            continue;
        }
        let kind = file.trim_start_matches("common-");
        let interactive = kind != "session-noninteractive";
        let kind = if kind == "session-noninteractive" { "session" } else { kind };
        let title = kind[..1].to_uppercase() + &kind[1..];
        let of = |place: &str| -> Vec<&Profile> {
            profiles
                .iter()
                .filter(|p| p.get(&format!("{title}-Type")).is_some_and(|t| t.first().is_some_and(|t| t == place)))
                .filter(|p| {
                    interactive
                        || p.get("Session-Interactive-Only").is_none_or(|v| v.first().is_none_or(|v| v != "yes"))
                })
                .collect()
        };
        let mut out = String::new();
        for line in root.text(&format!("/usr/share/pam/{file}"))?.lines() {
            let block = match line.strip_prefix('$').and_then(|l| l.rsplit_once('_')) {
                Some((_, "primary")) => block(kind, &title, &of("Primary"), true),
                Some((_, "additional")) => block(kind, &title, &of("Additional"), of("Primary").is_empty()),
                _ => format!("{line}\n"),
            };
            // A stack without a first block goes on behind its fallback.
            if block.is_empty() && line.ends_with("_primary") {
                out += &format!("{kind}\t[default=1]\t\t\tpam_permit.so\n");
            }
            out += &block;
        }
        root.put(&to, out)?;
        written += 1;
    }
    Ok(written)
}

fn block(kind: &str, title: &str, profiles: &[&Profile], first_of_all: bool) -> String {
    let mut lines = Vec::new();
    for (number, profile) in profiles.iter().enumerate() {
        let initial = profile.get(&format!("{title}-Initial")).filter(|_| number == 0 && first_of_all);
        lines.extend(initial.or_else(|| profile.get(title)).into_iter().flatten().cloned());
    }
    let count = lines.len();
    lines
        .into_iter()
        .enumerate()
        // "end" jumps over what is left of the block and over the refusal behind it.
        .map(|(n, line)| format!("{kind}\t{}\n", line.replace("=end", &format!("={}", count - n))))
        .collect()
}

/// Writes `/etc/shells` from what packages list, if there is none.
///
/// # Errors
/// Lists cannot be read.
pub(crate) fn write_shells(root: &mut Root<'_>) -> Result<()> {
    let list = root.list("/usr/share/debianutils/shells.d");
    if list.is_empty() {
        return Ok(());
    }
    let mut text = root.text("/etc/shells")?;
    if text.is_empty() {
        text = root.text("/usr/share/debianutils/shells")?;
    }
    let base = text.clone();
    let mut lists = vec![base];
    for name in list {
        lists.push(root.text(&format!("/usr/share/debianutils/shells.d/{name}"))?);
    }
    for list in lists {
        for shell in list.lines().filter(|l| l.starts_with('/')) {
            // With merged directories, a shell has both names.
            let other = match shell.strip_prefix("/usr") {
                Some(short) => short.to_string(),
                None => format!("/usr{shell}"),
            };
            for shell in [shell, &other] {
                if root.entry(shell).is_some() && !text.lines().any(|l| l == shell) {
                    text += shell;
                    text.push('\n');
                }
            }
        }
    }
    root.put("/etc/shells", text)
}
