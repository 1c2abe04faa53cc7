//! Indexes of kernel modules, as kmod's tools read them: `modules.dep`, `modules.alias` and their kin, text and binary.

use crate::{Result, Root, RootError};
use embrak_compress::Compression;
use embrak_tree::Kind;
use object::{Object, ObjectSection, ObjectSymbol};
use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;

/// A module.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Module {
    /// Below the directory of the kernel.
    path: String,
    aliases: Vec<String>,
    depends: Vec<String>,
    soft: Vec<String>,
    exports: BTreeSet<String>,
}

/// The modules of one kernel by name.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ModuleIndex {
    /// The kernel's version.
    pub kernel: String,
    modules: BTreeMap<String, Module>,
    /// Names in the order of `modules.order`.
    order: Vec<String>,
    builtin: BTreeSet<String>,
}

impl ModuleIndex {
    /// Whether a module is built into the kernel.
    pub fn is_builtin(&self, name: &str) -> bool {
        self.builtin.contains(&plain(name))
    }

    /// Paths of a module and all it needs below `/usr/lib/modules/KERNEL`, in the order they are loaded in; nothing when
    /// it is not there.
    pub fn with_needed(&self, name: &str) -> Option<Vec<String>> {
        let name = plain(name);
        let mut out = Vec::new();
        self.modules.get(&name)?;
        self.visit(&name, &mut out, &mut BTreeSet::new());
        Some(out.iter().filter_map(|n| self.modules.get(n)).map(|m| m.path.clone()).collect())
    }

    fn visit(&self, name: &str, out: &mut Vec<String>, seen: &mut BTreeSet<String>) {
        if !seen.insert(name.to_string()) {
            return;
        }
        for needed in self.modules.get(name).iter().flat_map(|m| &m.depends) {
            self.visit(&plain(needed), out, seen);
        }
        // What a module asks to have loaded before it, if it is there.
        for soft in self.modules.get(name).iter().flat_map(|m| &m.soft) {
            let before = soft.split("post:").next().unwrap_or_default();
            for needed in before.split("pre:").skip(1).flat_map(str::split_whitespace) {
                self.visit(&plain(needed), out, seen);
            }
        }
        out.push(name.to_string());
    }

    /// Names close to one that is not there.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.modules.keys().map(String::as_str)
    }

    /// Paths of everything a module needs, itself not, the nearest first.
    fn needs(&self, name: &str) -> Vec<String> {
        let mut out = Vec::new();
        let mut all = Vec::new();
        // Only what is needed in earnest: soft wishes have a file of their own.
        let hard = |n: &str| self.modules.get(n).map(|m| m.depends.clone()).unwrap_or_default();
        let mut waiting: std::collections::VecDeque<String> = hard(name).into();
        while let Some(next) = waiting.pop_front() {
            let next = plain(&next);
            all.retain(|n| *n != next);
            all.push(next.clone());
            if all.len() > 1000 {
                break;
            }
            waiting.extend(hard(&next));
        }
        out.extend(all.iter().filter_map(|n| self.modules.get(n)).map(|m| m.path.clone()));
        out
    }
}

/// Dashes are underscores in names of modules.
fn plain(name: &str) -> String {
    name.replace('-', "_")
}

/// The name of a module by its file.
fn name_of(path: &str) -> String {
    let file = path.rsplit('/').next().unwrap_or(path);
    plain(file.split(".ko").next().unwrap_or(file))
}

/// Dashes in an alias, but not in a set of characters.
fn normal(alias: &str) -> String {
    let mut inside = false;
    alias
        .chars()
        .map(|c| {
            match c {
                '[' => inside = true,
                ']' => inside = false,
                _ => {}
            }
            if c == '-' && !inside { '_' } else { c }
        })
        .collect()
}

fn read_module(path: &str, bytes: Vec<u8>) -> Option<Module> {
    let packed = Compression::detect(&bytes);
    let bytes = if packed == Compression::None {
        bytes
    } else {
        let mut out = Vec::new();
        packed.decompress(bytes.as_slice()).ok()?.take(256 << 20).read_to_end(&mut out).ok()?;
        out
    };
    let file = object::File::parse(bytes.as_slice()).ok()?;
    let mut module = Module { path: path.to_string(), ..Module::default() };
    let information = file.section_by_name(".modinfo")?.data().ok()?;
    for line in information.split(|b| *b == 0) {
        let text = String::from_utf8_lossy(line);
        match text.split_once('=') {
            Some(("alias", alias)) => module.aliases.push(alias.to_string()),
            Some(("depends", list)) => module.depends.extend(list.split(',').filter(|n| !n.is_empty()).map(plain)),
            Some(("softdep", list)) => module.soft.push(list.to_string()),
            _ => {}
        }
    }
    for symbol in file.symbols() {
        if let Some(name) = symbol.name().ok().and_then(|n| n.strip_prefix("__ksymtab_")) {
            module.exports.insert(name.to_string());
        }
    }
    Some(module)
}

/// Reads the modules of every kernel in a root, and writes their indexes.
///
/// # Errors
/// Modules cannot be read.
pub fn index_modules(root: &mut Root<'_>) -> Result<Vec<ModuleIndex>> {
    let mut out = Vec::new();
    for kernel in root.list("/usr/lib/modules") {
        let base = format!("/usr/lib/modules/{kernel}");
        if !root.is_directory(&base) {
            continue;
        }
        let at = root.resolve(&base, true)?;
        let files: Vec<String> = root
            .below(&at)
            .filter(|(_, e)| matches!(e.kind, Kind::File { .. } | Kind::Hardlink { .. }))
            .map(|(p, _)| String::from_utf8_lossy(&p.as_bytes()[at.as_bytes().len() + 1..]).into_owned())
            .filter(|p| p.contains(".ko"))
            .collect();
        if files.is_empty() && !root.exists(&format!("{base}/modules.builtin")) {
            continue;
        }
        let mut index = ModuleIndex { kernel, ..ModuleIndex::default() };
        for path in files {
            let full = format!("{base}/{path}");
            let bytes = root.read(&full)?.unwrap_or_default();
            let module = read_module(&path, bytes)
                .ok_or_else(|| RootError::Content { path: full, what: "is not a kernel module".into() })?;
            index.modules.insert(name_of(&path), module);
        }
        for line in root.text(&format!("{base}/modules.order"))?.lines() {
            let name = name_of(line);
            if index.modules.contains_key(&name) {
                index.order.push(name);
            }
        }
        let ordered: BTreeSet<String> = index.order.iter().cloned().collect();
        let rest: Vec<String> = index.modules.keys().filter(|n| !ordered.contains(*n)).cloned().collect();
        index.order.extend(rest);
        index.builtin = root.text(&format!("{base}/modules.builtin"))?.lines().map(name_of).collect();
        write(root, &base, &index)?;
        out.push(index);
    }
    Ok(out)
}

fn write(root: &mut Root<'_>, base: &str, index: &ModuleIndex) -> Result<()> {
    let (mut dep, mut alias, mut symbols, mut soft, mut devname) = (
        String::new(),
        String::from("# Aliases extracted from modules themselves.\n"),
        String::from("# Aliases for symbols, used by symbol_request().\n"),
        String::from("# Soft dependencies extracted from modules themselves.\n"),
        String::from("# Device nodes to trigger on-demand module loading.\n"),
    );
    let (mut dep_trie, mut alias_trie, mut symbol_trie) = (Trie::default(), Trie::default(), Trie::default());
    for (priority, name) in (0u32..).zip(&index.order) {
        let module = &index.modules[name];
        let mut line = format!("{}:", module.path);
        for needed in index.needs(name) {
            line += " ";
            line += &needed;
        }
        dep += &line;
        dep.push('\n');
        dep_trie.insert(name, &line, priority);
        let (mut node, mut number) = (None, None);
        for a in &module.aliases {
            alias += &format!("alias {a} {name}\n");
            alias_trie.insert(&normal(a), name, priority);
            if let Some(path) = a.strip_prefix("devname:") {
                node = Some(path);
            }
            for (start, kind) in [("char-major-", 'c'), ("block-major-", 'b')] {
                let numbers = a.strip_prefix(start).and_then(|n| n.split_once('-'));
                if let Some((major, minor)) = numbers.filter(|(_, minor)| minor.parse::<u32>().is_ok()) {
                    number = Some(format!("{kind}{major}:{minor}"));
                }
            }
        }
        if let (Some(node), Some(number)) = (node, number) {
            devname += &format!("{name} {node} {number}\n");
        }
        for wish in &module.soft {
            soft += &format!("softdep {name} {wish}\n");
        }
        for symbol in &module.exports {
            symbols += &format!("alias symbol:{symbol} {name}\n");
            symbol_trie.insert(&format!("symbol:{symbol}"), name, priority);
        }
    }
    let mut builtin_trie = Trie::default();
    for name in &index.builtin {
        builtin_trie.insert(name, "", 0);
    }
    let mut builtin_alias = Trie::default();
    for line in root.read(&format!("{base}/modules.builtin.modinfo"))?.unwrap_or_default().split(|b| *b == 0) {
        let text = String::from_utf8_lossy(line);
        if let Some((name, value)) = text.split_once('.')
            && let Some(alias) = value.strip_prefix("alias=")
        {
            builtin_alias.insert(&normal(alias), &plain(name), 0);
        }
    }
    for (file, bytes) in [
        ("dep", dep.into_bytes()),
        ("dep.bin", dep_trie.bytes()),
        ("alias", alias.into_bytes()),
        ("alias.bin", alias_trie.bytes()),
        ("symbols", symbols.into_bytes()),
        ("symbols.bin", symbol_trie.bytes()),
        ("softdep", soft.into_bytes()),
        ("devname", devname.into_bytes()),
        ("builtin.bin", builtin_trie.bytes()),
        ("builtin.alias.bin", builtin_alias.bytes()),
    ] {
        root.put(&format!("{base}/modules.{file}"), bytes)?;
    }
    Ok(())
}

/// The binary index: a tree over characters, children written before their parents, numbers big-endian.
#[derive(Default)]
struct Trie {
    prefix: Vec<u8>,
    children: BTreeMap<u8, Trie>,
    values: Vec<(u32, String)>,
}

const MAGIC: u32 = 0xb007_f457;
const VERSION: u32 = 0x0002_0001;
const HAS_PREFIX: u32 = 0x8000_0000;
const HAS_VALUES: u32 = 0x4000_0000;
const HAS_CHILDREN: u32 = 0x2000_0000;

impl Trie {
    fn insert(&mut self, key: &str, value: &str, priority: u32) {
        // The format has characters of seven bits only.
        if !key.is_ascii() {
            return;
        }
        let mut node = self;
        let mut rest = key.as_bytes();
        loop {
            let same = node.prefix.iter().zip(rest).take_while(|(a, b)| a == b).count();
            if same < node.prefix.len() {
                let lower = Trie {
                    prefix: node.prefix[same + 1..].to_vec(),
                    children: std::mem::take(&mut node.children),
                    values: std::mem::take(&mut node.values),
                };
                let at = node.prefix[same];
                node.prefix.truncate(same);
                node.children.insert(at, lower);
            }
            rest = &rest[same..];
            let Some((first, below)) = rest.split_first() else { break };
            let new = !node.children.contains_key(first);
            node = node.children.entry(*first).or_default();
            if new {
                node.prefix = below.to_vec();
                break;
            }
            rest = below;
        }
        let at = node.values.partition_point(|(p, _)| *p <= priority);
        node.values.insert(at, (priority, value.to_string()));
    }

    fn node(&self, out: &mut Vec<u8>) -> u32 {
        let mut offsets = Vec::new();
        if let (Some((first, _)), Some((last, _))) = (self.children.first_key_value(), self.children.last_key_value()) {
            for c in *first..=*last {
                offsets.push(self.children.get(&c).map_or(0, |child| child.node(out)));
            }
            offsets.insert(0, u32::from(*first) << 8 | u32::from(*last));
        }
        let mut offset = out.len() as u32;
        if !self.prefix.is_empty() {
            out.extend(&self.prefix);
            out.push(0);
            offset |= HAS_PREFIX;
        }
        if let Some((range, offsets)) = offsets.split_first() {
            out.extend([(range >> 8) as u8, *range as u8]);
            out.extend(offsets.iter().flat_map(|o| o.to_be_bytes()));
            offset |= HAS_CHILDREN;
        }
        if !self.values.is_empty() {
            out.extend((self.values.len() as u32).to_be_bytes());
            for (priority, value) in &self.values {
                out.extend(priority.to_be_bytes());
                out.extend(value.as_bytes());
                out.push(0);
            }
            offset |= HAS_VALUES;
        }
        offset
    }

    fn bytes(&self) -> Vec<u8> {
        let mut out = Vec::new();
        out.extend(MAGIC.to_be_bytes());
        out.extend(VERSION.to_be_bytes());
        out.extend([0; 4]);
        let root = self.node(&mut out);
        out[8..12].copy_from_slice(&root.to_be_bytes());
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_trie_splits_where_keys_part() {
        let mut trie = Trie::default();
        for (n, key) in ["ext4", "ext2", "ex", "virtio_blk"].into_iter().enumerate() {
            trie.insert(key, key, n as u32);
        }
        trie.insert("ext4", "again", 9);
        assert_eq!(trie.children[&b'e'].prefix, b"x");
        assert_eq!(trie.children[&b'e'].values, [(2, "ex".to_string())]);
        let t = &trie.children[&b'e'].children[&b't'];
        assert_eq!(t.children.keys().copied().collect::<Vec<_>>(), [b'2', b'4']);
        assert_eq!(t.children[&b'4'].values.len(), 2);
        assert_eq!(&trie.bytes()[..4], [0xb0, 0x07, 0xf4, 0x57]);
    }
}
