//! Writes the seed of the target `index`: `cargo run -p embrak-untrusted --example seeds -- fuzz/seeds`
use embrak_repo::{IndexBuilder, PackageRecord, Syntax};
use embrak_tree::Digest;

fn main() -> std::io::Result<()> {
    let mut builder = IndexBuilder::new(Syntax::Debian, "amd64");
    for (name, requires) in [("lampd", "libgauge (>= 0.3), horn | siren"), ("libgauge", ""), ("siren", "lampd:any")] {
        builder.add(&PackageRecord {
            name: name.into(),
            version: "2:1.0~rc1-1".into(),
            architecture: "amd64".into(),
            summary: format!("{name} of a station"),
            path: format!("pool/{name}.deb"),
            size: 1000,
            digest: Some(Digest::of(name)),
            requires: requires.into(),
            provides: "light (= 1)".into(),
            ..PackageRecord::default()
        });
    }
    let dir = std::env::args().nth(1).unwrap_or_else(|| "fuzz/seeds".into());
    std::fs::write(format!("{dir}/index/three"), builder.finish())
}
