#![no_main]
//! The binary index with tables that do not hold together under a right checksum.
use embrak_repo::Index;
use embrak_resolve::Catalog;

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let mut bytes = data.to_vec();
    if bytes.len() > 16 {
        bytes[..8].copy_from_slice(b"EMBRAKIX");
        bytes[8..12].copy_from_slice(&1u32.to_le_bytes());
        let crc = crc32(&bytes[16..]);
        bytes[12..16].copy_from_slice(&crc.to_le_bytes());
    }
    if let Ok(index) = Index::load(bytes, "fuzz", 0, "amd64") {
        let _ = (index.named("lampd"), index.providing("lampd"), index.find(&["lamp".into()]), index.essential());
        for number in 0..index.len().min(8) {
            let _ = index.candidate(number);
        }
    }
});

/// CRC-32 (ISO 3309), bit by bit: the crate the program uses is not a dependency here.
fn crc32(bytes: &[u8]) -> u32 {
    !bytes.iter().fold(!0u32, |crc, byte| {
        (0..8).fold(crc ^ u32::from(*byte), |c, _| if c & 1 == 1 { c >> 1 ^ 0xedb8_8320 } else { c >> 1 })
    })
}
