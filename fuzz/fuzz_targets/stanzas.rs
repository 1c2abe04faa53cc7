#![no_main]
libfuzzer_sys::fuzz_target!(|data: &[u8]| embrak_untrusted::target("stanzas").expect("a target")(data));
