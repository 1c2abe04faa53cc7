//! Accounts: passwords, second roots, users of a build.

use crate::{Finding, Subject, tell};
use embrak_tree::Tree;

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
const BUILDERS: [&str; 7] = ["build", "builder", "buildbot", "jenkins", "ci", "runner", "vagrant"];

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

fn judge(place: &str, name: &str, hash: &str, found: &mut Vec<Finding>) {
    let own = [name.to_string(), format!("{name}123"), format!("{name}1")];
    let tried = KNOWN.iter().copied().chain(own.iter().map(String::as_str));
    for word in tried {
        let fits = if hash.starts_with("$6$") {
            sha_crypt::sha512_check(word, hash).is_ok()
        } else if hash.starts_with("$5$") {
            sha_crypt::sha256_check(word, hash).is_ok()
        } else {
            false
        };
        if fits {
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
