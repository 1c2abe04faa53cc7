//! Other programs as judges.

use std::process::Command;

/// Runs a program; its output, or nothing when it is not installed.
pub fn judge(program: &str, args: &[&str]) -> Option<String> {
    match Command::new(program).args(args).env("MTOOLS_SKIP_CHECK", "1").output() {
        Ok(output) => {
            let text = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
            assert!(output.status.success(), "{program} {args:?}: {text}");
            Some(text)
        }
        Err(error) => {
            assert!(std::env::var_os("EMBRAK_REQUIRE_JUDGES").is_none(), "the judge {program} is missing: {error}");
            eprintln!("skipped: {program} is not installed");
            None
        }
    }
}
