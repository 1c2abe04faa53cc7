//! What programs and libraries say of themselves.

use object::elf::{DT_NEEDED, DT_SONAME, EM_386, EM_AARCH64, EM_ARM, EM_RISCV, EM_X86_64, Machine};
use object::read::elf::{Dyn, ElfFile32, ElfFile64, FileHeader};
use object::{Endianness, FileKind};

/// A program or library.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Dynamic {
    pub(crate) soname: Option<String>,
    pub(crate) needed: Vec<String>,
    pub(crate) machine: Machine,
    pub(crate) wide: bool,
}

impl Dynamic {
    /// The mark of libraries of this kind in the cache of the loader; nothing when it is not known.
    pub(crate) fn cache_flags(&self) -> Option<u32> {
        Some(match (self.machine, self.wide) {
            (EM_X86_64, true) => 0x0303,
            (EM_X86_64, false) => 0x0803,
            (EM_386, false) => 0x0003,
            (EM_AARCH64, true) => 0x0a03,
            (EM_ARM, false) => 0x0903,
            (EM_RISCV, true) => 0x1003,
            _ => return None,
        })
    }
}

fn entries<Elf: FileHeader<Endian = Endianness>>(
    header: &Elf,
    data: &[u8],
    wide: bool,
) -> object::read::Result<Option<Dynamic>> {
    let endian = header.endian()?;
    let sections = header.sections(endian, data)?;
    let mut out = Dynamic { soname: None, needed: vec![], machine: header.e_machine(endian), wide };
    let Some((list, link)) = sections.dynamic(endian, data)? else { return Ok(None) };
    let strings = sections.strings(endian, data, link)?;
    for entry in list {
        let Some(value) = entry.val32(endian) else { continue };
        let text = || strings.get(value).map(|b| String::from_utf8_lossy(b).into_owned()).ok();
        match entry.tag32(endian) {
            Some(tag) if i64::from(tag) == DT_SONAME.0 => out.soname = text(),
            Some(tag) if i64::from(tag) == DT_NEEDED.0 => out.needed.extend(text()),
            _ => {}
        }
    }
    Ok(Some(out))
}

/// Reads a dynamically linked program or library; nothing when it is none.
pub(crate) fn dynamic(bytes: &[u8]) -> Option<Dynamic> {
    match FileKind::parse(bytes).ok()? {
        FileKind::Elf64 => {
            entries(ElfFile64::<Endianness>::parse(bytes).ok()?.elf_header(), bytes, true).ok().flatten()
        }
        FileKind::Elf32 => {
            entries(ElfFile32::<Endianness>::parse(bytes).ok()?.elf_header(), bytes, false).ok().flatten()
        }
        _ => None,
    }
}

/// Libraries a program or library says it needs, and the loader it names.
pub fn needed(bytes: &[u8]) -> Vec<String> {
    let mut out = dynamic(bytes).map(|d| d.needed).unwrap_or_default();
    out.extend(interpreter(bytes));
    out
}

fn interpreter(bytes: &[u8]) -> Option<String> {
    use object::read::elf::ProgramHeader;
    fn of<Elf: FileHeader<Endian = Endianness>>(header: &Elf, bytes: &[u8]) -> Option<String> {
        let endian = header.endian().ok()?;
        let found =
            header.program_headers(endian, bytes).ok()?.iter().find_map(|p| p.interpreter(endian, bytes).ok()?);
        found.map(|b| String::from_utf8_lossy(b).into_owned())
    }
    match FileKind::parse(bytes).ok()? {
        FileKind::Elf64 => of(ElfFile64::<Endianness>::parse(bytes).ok()?.elf_header(), bytes),
        FileKind::Elf32 => of(ElfFile32::<Endianness>::parse(bytes).ok()?.elf_header(), bytes),
        _ => None,
    }
}
