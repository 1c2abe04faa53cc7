//! Numbers in byte slices. Reading beyond the end gives zero, so that no header's word can make a reader panic.

pub(crate) fn put16(bytes: &mut [u8], at: usize, value: u16) {
    bytes[at..at + 2].copy_from_slice(&value.to_le_bytes());
}

pub(crate) fn put32(bytes: &mut [u8], at: usize, value: u32) {
    bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
}

pub(crate) fn put64(bytes: &mut [u8], at: usize, value: u64) {
    bytes[at..at + 8].copy_from_slice(&value.to_le_bytes());
}

fn get<const N: usize>(bytes: &[u8], at: usize) -> [u8; N] {
    at.checked_add(N).and_then(|end| bytes.get(at..end)).and_then(|b| b.try_into().ok()).unwrap_or([0; N])
}

pub(crate) fn get16(bytes: &[u8], at: usize) -> u16 {
    u16::from_le_bytes(get(bytes, at))
}

pub(crate) fn get32(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(get(bytes, at))
}

/// Big-endian, as qcow2 and the ext4 journal write numbers.
pub(crate) fn get32_be(bytes: &[u8], at: usize) -> u32 {
    u32::from_be_bytes(get(bytes, at))
}

pub(crate) fn get64_be(bytes: &[u8], at: usize) -> u64 {
    u64::from_be_bytes(get(bytes, at))
}

pub(crate) fn put32_be(bytes: &mut [u8], at: usize, value: u32) {
    bytes[at..at + 4].copy_from_slice(&value.to_be_bytes());
}

pub(crate) fn put64_be(bytes: &mut [u8], at: usize, value: u64) {
    bytes[at..at + 8].copy_from_slice(&value.to_be_bytes());
}
