#![no_main]
//! Package files of both formats.
use embrak_repo::{Limits, read_package, unpack_deb};
use embrak_tree::MemoryBlobs;

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let limits = Limits { data: 1 << 22, control: 1 << 20 };
    let _ = unpack_deb("fuzz", data, &MemoryBlobs::default(), limits);
    let _ = read_package("fuzz", data, &MemoryBlobs::default());
});
