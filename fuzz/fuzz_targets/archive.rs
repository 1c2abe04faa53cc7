#![no_main]
//! Tar archives: what is read can be written and read again as the same tree.
use embrak_tree::tar::{read_tree, write_tree};
use embrak_tree::MemoryBlobs;

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let blobs = MemoryBlobs::default();
    if let Ok(tree) = read_tree(data, &blobs) {
        if let Ok(again) = write_tree(&tree, &blobs, Vec::new()) {
            assert_eq!(read_tree(again.as_slice(), &blobs).unwrap(), tree);
        }
    }
});
