#![no_main]
//! Index and Release files: read or refused, never a panic.
use embrak_repo::{Release, Stanza, Stanzas};

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let mut stanzas = Stanzas::new(data);
    let mut stanza = Stanza::default();
    while let Ok(true) = stanzas.next_into(&mut stanza) {
        for (_, value) in stanza.iter() {
            for relation in embrak_repo::parse_relations(value, "amd64") {
                let _ = relation.to_string();
            }
        }
    }
    if let Ok(text) = std::str::from_utf8(data) {
        let _ = Release::parse(text);
    }
});
