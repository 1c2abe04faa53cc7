//! Writes the binary seeds of the fuzz targets: `cargo run -p embrak-fixtures --example seeds -- fuzz/seeds`
use embrak_fixtures::Deb;
use std::path::PathBuf;

fn main() {
    let dir = PathBuf::from(std::env::args().nth(1).expect("the directory of the seeds"));
    let deb = Deb::new("lampd", "2:1.0~rc1-1")
        .depends("libgauge (>= 0.3), horn | siren")
        .control("postinst", "#!/bin/sh\nldconfig\n")
        .control("conffiles", "/etc/lampd\n")
        .file("/etc/lampd", "on\n", 0o640);
    for compression in ["gz", "xz", "zst", ""] {
        let bytes = deb.bytes(compression);
        std::fs::write(dir.join(format!("package/small-{compression}.deb")), &bytes).expect("write a seed");
    }
}
