#![no_main]
//! Versions: an order, whatever they look like.
use embrak_resolve::{Alternatives, Version};

libfuzzer_sys::fuzz_target!(|data: &str| {
    let _ = data.parse::<Alternatives>();
    let parts: Vec<Version> = data.split('\n').take(3).filter_map(|t| t.parse().ok()).collect();
    if let [a, b, c] = parts.as_slice() {
        assert_eq!(a.cmp(b), b.cmp(a).reverse());
        if a <= b && b <= c {
            assert!(a <= c);
        }
    }
});
