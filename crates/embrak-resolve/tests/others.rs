//! The order of versions, against a program that has compared them for decades.

use embrak_resolve::Version;
use std::cmp::Ordering;
use std::io::Write;
use std::process::{Command, Stdio};

/// Small deterministic numbers (xorshift), so that a failure can be had again.
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, limit: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % limit as u64) as usize
    }
}

const PIECES: [&str; 22] = [
    "0", "1", "2", "9", "10", "007", "123", "a", "b", "z", "A", "rc", "beta", ".", ".", ".", "+", "~", "~~", "dfsg",
    "git2026", "ubuntu",
];

fn version(numbers: &mut Numbers) -> String {
    let mut text = String::new();
    if numbers.below(6) == 0 {
        text += &format!("{}:", numbers.below(3));
    }
    // The upstream part begins with a digit, or the other program complains.
    text += &numbers.below(12).to_string();
    for _ in 0..numbers.below(6) {
        text += PIECES[numbers.below(PIECES.len())];
    }
    if numbers.below(2) == 0 {
        text += &format!("-{}", numbers.below(4));
        for _ in 0..numbers.below(3) {
            text += PIECES[numbers.below(PIECES.len())];
        }
    }
    text
}

#[test]
fn thousands_of_pairs_compare_as_elsewhere() {
    if Command::new("dpkg").arg("--version").stdout(Stdio::null()).status().is_err() {
        assert!(std::env::var_os("EMBRAK_REQUIRE_JUDGES").is_none(), "the judge dpkg is missing");
        eprintln!("skipped: there is no dpkg");
        return;
    }
    let mut numbers = Numbers(0x5eed_1234_5678_9abc);
    let mut pairs = Vec::new();
    while pairs.len() < 3000 {
        let a = version(&mut numbers);
        // Every other pair differs little, where mistakes hide.
        let b = if pairs.len() % 2 == 0 {
            version(&mut numbers)
        } else {
            format!("{a}{}", PIECES[numbers.below(PIECES.len())])
        };
        pairs.push((a, b));
    }
    // One shell for all: it prints a line for each pair.
    let script = "while read -r a b; do if dpkg --compare-versions \"$a\" lt \"$b\"; then echo lt; \
                  elif dpkg --compare-versions \"$a\" eq \"$b\"; then echo eq; else echo gt; fi; done";
    let mut shell = Command::new("sh")
        .args(["-c", script])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let mut input = shell.stdin.take().unwrap();
    let lines: String = pairs.iter().map(|(a, b)| format!("{a} {b}\n")).collect();
    let writing = std::thread::spawn(move || input.write_all(lines.as_bytes()).unwrap());
    let output = shell.wait_with_output().unwrap();
    writing.join().unwrap();
    let answers = String::from_utf8(output.stdout).unwrap();
    assert_eq!(answers.lines().count(), pairs.len());
    for ((a, b), answer) in pairs.iter().zip(answers.lines()) {
        let (x, y): (Version, Version) = (a.parse().unwrap(), b.parse().unwrap());
        let expected = match answer {
            "lt" => Ordering::Less,
            "eq" => Ordering::Equal,
            _ => Ordering::Greater,
        };
        assert_eq!(x.cmp(&y), expected, "{a} against {b}");
    }
}
