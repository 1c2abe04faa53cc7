//! UEFI programs and unified kernel images (PE/COFF; UAPI group, Unified Kernel Image specification).
//!
//! A unified kernel image is a stub, a small UEFI program, with the kernel, its initial file system, its command line
//! and a description of the system as further sections. Sections are added behind those of the stub.

use crate::bytes::{get16, get32, put16, put32};
use crate::{Extents, ReadAt, round_up};
use serde::Serialize;

/// Version of the bytes the writer makes.
pub const WRITER_VERSION: u32 = 1;

/// Why a program cannot be read or extended.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PeError {
    /// It is no UEFI program.
    #[error("not a UEFI program (PE/COFF): {0}")]
    NotPe(&'static str),
    /// There is no room for more sections.
    #[error("its headers have no room for {0} more sections")]
    NoRoom(usize),
    /// It has a section of that name already.
    #[error("it has a section {0} already, so it is no bare stub")]
    Taken(String),
    /// It would be larger than the format allows.
    #[error("the program would be larger than 4 GiB")]
    TooLarge,
}

/// One section.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Section {
    /// Its name.
    pub name: String,
    /// Bytes of it in memory.
    pub size: u64,
    /// Where in the file it lies.
    pub offset: u64,
    /// Bytes of it in the file.
    pub stored: u64,
}

/// A program as it was read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Program {
    /// `x86_64` and so on; the number when it is another.
    pub architecture: String,
    /// 10 is a UEFI application.
    pub subsystem: u16,
    /// Its sections.
    pub sections: Vec<Section>,
    /// Whether it carries a signature for UEFI Secure Boot.
    pub signed: bool,
    /// When it was linked, in seconds since 1970, as it says itself; reproducible ones say something else.
    pub stamp: u32,
}

impl Program {
    /// A section by its name.
    pub fn section(&self, name: &str) -> Option<&Section> {
        self.sections.iter().find(|s| s.name == name)
    }
}

/// Where the headers are.
struct Headers {
    /// COFF header.
    coff: usize,
    optional: usize,
    table: usize,
    count: usize,
    wide: bool,
}

/// Headers are never longer than this.
const LONGEST_HEADERS: u64 = 1 << 16;

fn headers(b: &[u8]) -> Result<Headers, PeError> {
    let wrong = PeError::NotPe;
    if !b.starts_with(b"MZ") {
        return Err(wrong("no MZ at its start"));
    }
    let at = get32(b, 0x3c) as usize;
    if at >= b.len() || b.get(at..at + 4) != Some(b"PE\0\0") {
        return Err(wrong("no PE header"));
    }
    let (coff, optional) = (at + 4, at + 24);
    let wide = match get16(b, optional) {
        0x10b => false,
        0x20b => true,
        _ => return Err(wrong("no optional header")),
    };
    // Up to the directories, of which the fifth tells of a signature.
    let least = if wide { 112 } else { 96 };
    let (count, table) = (usize::from(get16(b, coff + 2)), optional + usize::from(get16(b, coff + 16)));
    if count == 0 || count > 96 || table + count * 40 > b.len() || table < optional + least {
        return Err(wrong("its table of sections is cut off"));
    }
    Ok(Headers { coff, optional, table, count, wide })
}

/// Reads a program's headers.
///
/// # Errors
/// It is none.
pub fn read(file: &dyn ReadAt) -> Result<Program, PeError> {
    let b = file.read_vec(0, file.size().min(LONGEST_HEADERS)).map_err(|_| PeError::NotPe("it cannot be read"))?;
    let h = headers(&b)?;
    let architecture = match get16(&b, h.coff) {
        0x8664 => "x86_64".to_string(),
        0xaa64 => "aarch64".to_string(),
        0x5064 => "riscv64".to_string(),
        0x01c2 | 0x01c4 => "armv7".to_string(),
        0x014c => "i386".to_string(),
        other => format!("{other:#06x}"),
    };
    let sections = b[h.table..h.table + h.count * 40]
        .chunks(40)
        .map(|s| {
            let end = s[..8].iter().position(|c| *c == 0).unwrap_or(8);
            let (size, stored) = (u64::from(get32(s, 8)), u64::from(get32(s, 16)));
            Section {
                name: String::from_utf8_lossy(&s[..end]).into_owned(),
                size: if size == 0 { stored } else { size },
                offset: u64::from(get32(s, 20)),
                stored,
            }
        })
        .collect();
    let directories = h.optional + if h.wide { 112 } else { 96 };
    let signed = get32(&b, directories - 4) > 4 && directories + 40 <= h.table && get32(&b, directories + 36) != 0;
    Ok(Program { architecture, subsystem: get16(&b, h.optional + 68), sections, signed, stamp: get32(&b, h.coff + 4) })
}

/// The bytes of a section, up to a limit.
///
/// # Errors
/// They are not all there.
pub fn section_bytes(file: &dyn ReadAt, section: &Section, limit: u64) -> std::io::Result<Vec<u8>> {
    file.read_vec(section.offset, section.size.min(section.stored).min(limit))
}

/// Adds sections to a stub. Their names have eight bytes at most; contents are named, not read.
///
/// # Errors
/// The stub is none, or has no room.
pub fn with_sections(stub: &[u8], sections: Vec<(&str, Extents)>) -> Result<Extents, PeError> {
    let h = headers(stub)?;
    let mut b = stub.to_vec();
    // A signature would be of other bytes; the stub's symbols are of no use to firmware.
    let directories = h.optional + if h.wide { 112 } else { 96 };
    if get32(&b, directories - 4) > 4 {
        put32(&mut b, directories + 32, 0);
        put32(&mut b, directories + 36, 0);
    }
    let (section_unit, file_unit) = (u64::from(get32(&b, h.optional + 32)), u64::from(get32(&b, h.optional + 36)));
    if !section_unit.is_power_of_two() || !(512..=65536).contains(&file_unit) || !file_unit.is_power_of_two() {
        return Err(PeError::NotPe("its alignments make no sense"));
    }
    let existing: Vec<Section> = read(&stub.to_vec())?.sections;
    let length = stub.len() as u64;
    let headers_end = (h.table + h.count * 40) as u64;
    let inside = |s: &Section| s.stored == 0 || (s.offset >= headers_end && s.offset + s.stored <= length);
    if !existing.iter().all(inside) || u64::from(get32(&b, h.optional + 60)) > length {
        return Err(PeError::NotPe("it is cut off"));
    }
    // A table of symbols that is not there cannot move along.
    if u64::from(get32(&b, h.coff + 8)) > length {
        put32(&mut b, h.coff + 8, 0);
    }
    for (name, _) in &sections {
        if existing.iter().any(|s| s.name == *name) {
            return Err(PeError::Taken((*name).to_string()));
        }
    }
    let first_stored = existing.iter().filter(|s| s.stored > 0).map(|s| s.offset).min().unwrap_or(b.len() as u64);
    let first_address = (0..h.count).map(|n| u64::from(get32(&b, h.table + n * 40 + 12))).min().unwrap_or(0);
    let needed = (h.table + (h.count + sections.len()) * 40) as u64;
    if needed > first_stored {
        // Everything behind the headers moves back; what is loaded stays where it is in memory.
        let by = round_up(needed - first_stored, file_unit);
        if first_stored + by > first_address {
            return Err(PeError::NoRoom(sections.len()));
        }
        let at = first_stored as usize;
        b.splice(at..at, vec![0; by as usize]);
        for n in 0..h.count {
            let slot = h.table + n * 40 + 20;
            let offset = get32(&b, slot);
            if offset != 0 && u64::from(offset) <= length {
                put32(&mut b, slot, offset + by as u32);
            }
        }
        let headers_size = get32(&b, h.optional + 60) + by as u32;
        put32(&mut b, h.optional + 60, headers_size);
        let symbols = get32(&b, h.coff + 8);
        if symbols != 0 {
            put32(&mut b, h.coff + 8, symbols + by as u32);
        }
    }
    let mut address = (0..h.count)
        .map(|n| u64::from(get32(&b, h.table + n * 40 + 12)) + u64::from(get32(&b, h.table + n * 40 + 8)))
        .max()
        .unwrap_or(0);
    let mut out_at = round_up(b.len() as u64, file_unit);
    let mut data = get32(&b, h.optional + 8);
    let mut bodies = Vec::new();
    let count = sections.len();
    for (n, (name, content)) in sections.into_iter().enumerate() {
        address = round_up(address, section_unit);
        let (size, stored) = (content.total(), round_up(content.total(), file_unit));
        if out_at + stored > u64::from(u32::MAX) || address + stored > u64::from(u32::MAX) {
            return Err(PeError::TooLarge);
        }
        let mut s = [0; 40];
        s[..name.len().min(8)].copy_from_slice(&name.as_bytes()[..name.len().min(8)]);
        put32(&mut s, 8, size as u32);
        put32(&mut s, 12, address as u32);
        put32(&mut s, 16, stored as u32);
        put32(&mut s, 20, out_at as u32);
        put32(&mut s, 36, 0x4000_0040); // initialised data, readable
        let slot = h.table + (h.count + n) * 40;
        b[slot..slot + 40].copy_from_slice(&s);
        bodies.push((out_at, content));
        address += size;
        out_at += stored;
        data = data.saturating_add(stored as u32);
    }
    put16(&mut b, h.coff + 2, (h.count + count) as u16);
    put32(&mut b, h.optional + 8, data);
    put32(&mut b, h.optional + 56, round_up(address, section_unit) as u32);
    // The checksum is for drivers of another system; firmware does not look at it.
    put32(&mut b, h.optional + 64, 0);
    let mut out = Extents::new();
    out.bytes(b);
    for (offset, content) in bodies {
        out.pad_to(offset);
        out.append(content);
    }
    out.pad_to(out_at);
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use embrak_tree::MemoryBlobs;
    use proptest::prelude::*;

    /// A program with one section, headers as tight as asked.
    fn stub(headers_size: usize, sections: usize) -> Vec<u8> {
        let mut b = vec![0; headers_size + 512 * sections];
        b[..2].copy_from_slice(b"MZ");
        put32(&mut b, 0x3c, 0x40);
        b[0x40..0x44].copy_from_slice(b"PE\0\0");
        put16(&mut b, 0x44, 0x8664);
        put16(&mut b, 0x46, sections as u16);
        put16(&mut b, 0x54, 240);
        let optional = 0x58;
        put16(&mut b, optional, 0x20b);
        put32(&mut b, optional + 32, 4096);
        put32(&mut b, optional + 36, 512);
        put32(&mut b, optional + 56, 0x1000 * (sections as u32 + 1));
        put32(&mut b, optional + 60, headers_size as u32);
        put16(&mut b, optional + 68, 10);
        put32(&mut b, optional + 108, 16);
        for n in 0..sections {
            let s = optional + 240 + n * 40;
            b[s..s + 5].copy_from_slice(b".text");
            put32(&mut b, s + 8, 300);
            put32(&mut b, s + 12, 0x1000 * (n as u32 + 1));
            put32(&mut b, s + 16, 512);
            put32(&mut b, s + 20, (headers_size + 512 * n) as u32);
            b[headers_size + 512 * n] = 0xc3;
        }
        b
    }

    fn text(text: &str) -> Extents {
        let mut out = Extents::new();
        out.bytes(text.as_bytes().to_vec());
        out
    }

    #[test]
    fn sections_come_back_also_when_the_headers_were_full() {
        for (headers_size, sections) in [(1024, 1), (512, 4)] {
            let stub = stub(headers_size, sections);
            let made = with_sections(&stub, vec![(".osrel", text("ID=coast\n")), (".cmdline", text("quiet"))]).unwrap();
            let bytes = made.to_vec(&MemoryBlobs::default()).unwrap();
            let program = read(&bytes).unwrap();
            assert_eq!((program.architecture.as_str(), program.subsystem, program.signed), ("x86_64", 10, false));
            assert_eq!(program.sections.len(), sections + 2);
            let section = program.section(".cmdline").unwrap();
            assert_eq!(section_bytes(&bytes, section, 100).unwrap(), b"quiet");
            for old in &program.sections[..sections] {
                assert_eq!(section_bytes(&bytes, old, 1).unwrap(), [0xc3]);
            }
            let again = with_sections(&bytes, vec![(".osrel", text("x"))]);
            assert_eq!(again, Err(PeError::Taken(".osrel".into())));
        }
    }

    proptest! {
        #[test]
        fn damage_is_survived(hits in proptest::collection::vec((0usize..600, any::<u8>()), 1..12)) {
            let mut bytes = stub(1024, 2);
            for (at, value) in hits {
                bytes[at] = value;
            }
            if let Ok(program) = read(&bytes) {
                for section in &program.sections {
                    let _ = section_bytes(&bytes, section, 1 << 20);
                }
            }
            let _ = with_sections(&bytes, vec![(".linux", text("x"))]);
        }
    }
}
