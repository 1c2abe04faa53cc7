//! Accounts: passwords, second roots, users of a build.

use crate::{Finding, Subject, tell};
use embrak_tree::Tree;
use yescrypt::{PasswordHashRef, PasswordVerifier, Yescrypt};

/// Passwords that devices and examples are delivered with.
const KNOWN: [&str; 24] = [
    "",
    "root",
    "toor",
    "admin",
    "administrator",
    "password",
    "passw0rd",
    "Password1",
    "changeme",
    "default",
    "guest",
    "user",
    "test",
    "demo",
    "debug",
    "system",
    "service",
    "support",
    "1234",
    "12345",
    "123456",
    "12345678",
    "letmein",
    "secret",
];
const BUILDERS: [&str; 5] = ["build", "builder", "builds", "ci", "runner"];

pub(crate) fn look(subject: &Subject<'_>, place: &str, _tree: &Tree, found: &mut Vec<Finding>) {
    let passwd = subject.text(place, "/etc/passwd").unwrap_or_default();
    let shadow = subject.text(place, "/etc/shadow").unwrap_or_default();
    for line in passwd.lines() {
        let fields: Vec<&str> = line.split(':').collect();
        let [name, password, uid, _, _, _, shell] = fields.as_slice() else { continue };
        let no_login = shell.ends_with("nologin") || shell.ends_with("/false") || shell.ends_with("/sync");
        if *uid == "0" && *name != "root" {
            tell(found, "second-root", place, name, "it has the user number 0");
        }
        if BUILDERS.contains(name) && !no_login {
            tell(found, "build-user", place, name, format!("its shell is {shell}"));
        }
        let hash = if *password == "x" {
            shadow
                .lines()
                .filter_map(|l| l.split_once(':'))
                .find(|(n, _)| n == name)
                .map(|(_, rest)| rest.split(':').next().unwrap_or_default())
        } else {
            Some(*password)
        };
        match hash {
            Some("") => tell(found, "empty-password", place, name, "no password is asked"),
            Some(hash) if hash.starts_with('$') => judge(place, name, hash, found),
            _ => {}
        }
    }
}

/// Costs of yescrypt that systems use, 1 to 64 MiB: what a hash asks for is not spent on its word alone.
const YESCRYPT_COSTS: [&str; 6] = ["j75", "j85", "j8T", "j9T", "jAT", "jBT"];
/// The highest cost of bcrypt that is tried: a quarter of a second for each word.
const BCRYPT_COST: u32 = 12;

/// Whether a hash is of this word; never of a method or a cost that is not tried.
fn is_of(word: &str, hash: &str) -> bool {
    let mut parts = hash.split('$').skip(1);
    let (method, cost) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
    match method {
        "6" => sha_crypt::sha512_check(word, hash).is_ok(),
        "5" => sha_crypt::sha256_check(word, hash).is_ok(),
        "y" if YESCRYPT_COSTS.contains(&cost) => PasswordHashRef::new(hash)
            .is_ok_and(|hash| Yescrypt::default().verify_password(word.as_bytes(), hash).is_ok()),
        "2a" | "2b" | "2y" if cost.parse().is_ok_and(|cost: u32| cost <= BCRYPT_COST) => {
            bcrypt::verify(word, hash).unwrap_or(false)
        }
        _ => false,
    }
}

fn judge(place: &str, name: &str, hash: &str, found: &mut Vec<Finding>) {
    let own = [name.to_string(), format!("{name}123"), format!("{name}1")];
    let tried = KNOWN.iter().copied().chain(own.iter().map(String::as_str));
    for word in tried {
        if is_of(word, hash) {
            let what = if word == name {
                "it is the account's name".into()
            } else {
                format!("it is among the {} that are tried first", KNOWN.len())
            };
            tell(found, "default-password", place, name, what);
            return;
        }
    }
    let method = hash.split('$').nth(1).unwrap_or_default();
    tell(found, "account-password", place, name, format!("a hash of method ${method}$"));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hashes_of_every_usual_method_are_tried_within_bounds() {
        // By the C library's crypt(3), of `admin`.
        let hashes = [
            "$y$j75$abcdefghijklmnop$H9g2KAq7S4vA4bj17VflMW0e65jFIGMLlP6.DZ4fXG9",
            "$y$j9T$abcdefghijklmnop$5MpaJ6mYQgeqLje.dQWuzmjhB.Uwp8kNmSyfdzfZPa5",
            "$2b$05$abcdefghijklmnopqrstuu/ETYr/khvH.poOJBsjjZk.DM9FaNihe",
        ];
        for hash in hashes {
            assert!(is_of("admin", hash), "{hash}");
            assert!(!is_of("root", hash), "{hash}");
        }
        // Costs that would keep us for hours, and what is damaged.
        for hash in
            [hashes[0].replace("j75", "jLT"), hashes[2].replace("$05$", "$31$"), "$y$j75$".into(), "$2b$".into()]
        {
            assert!(!is_of("admin", &hash), "{hash}");
        }
    }
}
