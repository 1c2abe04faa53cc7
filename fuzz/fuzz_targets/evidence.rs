#![no_main]
libfuzzer_sys::fuzz_target!(|data: &[u8]| embrak_untrusted::target("evidence").expect("a target")(data));
