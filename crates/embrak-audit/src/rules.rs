//! The rules: what they look for, why it matters, what to do about it.

use crate::Severity::{self, High, Info, Low, Medium};

/// A rule.
#[derive(Debug)]
pub struct Rule {
    /// Its name, in allowances and reports.
    pub id: &'static str,
    /// How bad what it finds is.
    pub severity: Severity,
    /// What it finds.
    pub title: &'static str,
    /// Why that matters.
    pub why: &'static str,
    /// What to do in the definition.
    pub fix: &'static str,
}

macro_rules! rules {
    ($($id:literal $severity:ident $title:literal $why:literal $fix:literal)*) => {
        /// All rules in order of their names.
        pub const RULES: &[Rule] =
            &[$(Rule { id: $id, severity: $severity, title: $title, why: $why, fix: $fix }),*];
    };
}

rules! {
    "account-password" Medium "an account with a password"
        "every device made from this image has the same password, and its hash can be tried at leisure"
        "leave `password` out of [users.NAME] (it is locked then) and use `ssh-keys`"
    "boot-unsigned" Info "a boot program without a signature"
        "firmware with Secure Boot does not start it, and without Secure Boot whoever holds the device can exchange it"
        "sign it in a [[finish]] step, or allow it with the reason"
    "build-user" Low "a user that only a build needs"
        "it can be taken over on the device by nobody's decision"
        "remove it in a [[finish]] step: `userdel NAME`"
    "debug-shell" High "a shell without a login"
        "whoever reaches the console is root"
        "leave the unit out of [services] `enable` or put it under `mask`; drop the kernel argument"
    "default-password" High "a password that everybody knows"
        "it is among the first that are tried"
        "leave `password` out of [users.NAME], or give it another hash"
    "empty-password" High "an account without a password"
        "whoever reaches a login prompt is in"
        "set `password = \"locked\"` under [users.NAME]"
    "file-capability" Medium "a program with capabilities that is not among the usual ones"
        "a mistake in it gives more rights than its caller has"
        "drop the package, or allow it with the reason"
    "future-time" Low "a file newer than the image's epoch"
        "its time comes from the moment of a build: another build differs"
        "find what writes it with `embrak reproduce`; set its time in the recipe"
    "host-key" High "a host key of SSH"
        "every device has the same one: whoever has one device can pretend to be any other"
        "remove it in a [[finish]] step; let a unit make it at the first start"
    "leftover" Low "something that is different in every build"
        "the image cannot be made again to the same digest"
        "remove it in a [[finish]] step"
    "listening-service" Info "a service that listens on the network"
        "each one can be reached by whoever can reach the device"
        "put it under [services] `disable` when nobody needs it"
    "log-left-in" Low "a log of the build"
        "it tells about the machine it was built on and differs in every build"
        "remove it in a [[finish]] step"
    "machine-id" High "a machine identifier that is set"
        "every device has the same one: addresses, journals and licences mix up"
        "leave /etc/machine-id empty, it is then made at the first start"
    "orphaned-owner" Medium "a file whose owner is no user of the image"
        "whoever gets that number later owns the file"
        "declare the user under [users], or set another owner in the recipe"
    "package-cache" Low "files that a package manager keeps"
        "they take space and are soon out of date"
        "remove them in a [[finish]] step"
    "partition-full" Medium "a partition with no room left"
        "writing fails soon after the first start"
        "make it larger: `size = \"fit+20%\"`, or `grow = true`"
    "private-key" High "a private key"
        "whoever has the image has the key"
        "bring it onto the device another way, and make a new one: this one is known"
    "second-root" High "a second account with all rights"
        "it is often forgotten, and has all rights"
        "give the user another number under [users.NAME]"
    "secret" High "what looks like a password, a token or a key"
        "whoever has the image has it"
        "bring it onto the device another way, and change it: this one is known"
    "set-id" Medium "a program with set-user-id or set-group-id that is not among the usual ones"
        "a mistake in it gives more rights than its caller has"
        "drop the bit: a [[finish]] step with `chmod u-s,g-s`, or allow it with the reason"
    "shell-history" Medium "a shell's history"
        "commands tell about the builder, and sometimes hold passwords"
        "remove it in a [[finish]] step or from the overlay"
    "world-writable" Medium "what everybody may write"
        "any process may change what others rely on"
        "set its mode in the recipe; directories for all have the sticky bit (1777)"
}

/// A rule by its name.
pub fn rule(id: &str) -> Option<&'static Rule> {
    RULES.iter().find(|r| r.id == id)
}
