//! Users and groups: passwd(5), shadow(5), group(5), gshadow(5), and what sysusers.d(5) declares.
//!
//! A number nobody has chosen follows from the name: it starts at a place that the name's digest gives, and the next
//! free one is taken. So it is the same in every image that has the account, whatever else is in it.

use crate::{Result, Root};
use embrak_tree::Digest;

/// Numbers of accounts of the system that nobody has chosen.
const SYSTEM: std::ops::Range<u32> = 200..980;

/// A user.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct User {
    /// Login name.
    pub name: String,
    /// Number.
    pub uid: u32,
    /// Number of the group.
    pub gid: u32,
    /// About the user.
    pub comment: String,
    /// Home directory.
    pub home: String,
    /// Login program.
    pub shell: String,
    /// As shadow(5) has it: a hash, `*` or `!`.
    pub password: String,
}

/// A group.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Group {
    /// Name.
    pub name: String,
    /// Number.
    pub gid: u32,
    /// Users in it.
    pub members: Vec<String>,
}

/// The accounts of a root, in the order of their files.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Accounts {
    /// Users.
    pub users: Vec<User>,
    /// Groups.
    pub groups: Vec<Group>,
    changed: bool,
}

impl Accounts {
    /// Reads what is there; root is there always.
    ///
    /// # Errors
    /// A file cannot be read.
    pub fn read(root: &Root<'_>) -> Result<Accounts> {
        let mut out = Accounts::default();
        let shadow = root.text("/etc/shadow")?;
        for line in root.text("/etc/passwd")?.lines() {
            let f: Vec<&str> = line.split(':').collect();
            let (Some(name), Some(uid), Some(gid)) =
                (f.first(), f.get(2).and_then(|n| n.parse().ok()), f.get(3).and_then(|n| n.parse().ok()))
            else {
                continue;
            };
            let field = |n: usize| f.get(n).copied().unwrap_or_default().to_string();
            let hashed = shadow.lines().filter_map(|l| l.split_once(':')).find(|(n, _)| n == name);
            let password = match hashed {
                Some((_, rest)) => rest.split(':').next().unwrap_or("!").to_string(),
                // What says to look elsewhere, and nothing is there, lets nobody in.
                None => field(1).replace('x', "*"),
            };
            out.users.push(User {
                name: (*name).to_string(),
                uid,
                gid,
                comment: field(4),
                home: field(5),
                shell: field(6),
                password,
            });
        }
        for line in root.text("/etc/group")?.lines() {
            let f: Vec<&str> = line.split(':').collect();
            let (Some(name), Some(gid)) = (f.first(), f.get(2).and_then(|n| n.parse().ok())) else { continue };
            let members = f.get(3).map(|m| m.split(',').filter(|m| !m.is_empty()).map(String::from).collect());
            out.groups.push(Group { name: (*name).to_string(), gid, members: members.unwrap_or_default() });
        }
        if out.user("root").is_none() {
            out.users.insert(
                0,
                User {
                    name: "root".into(),
                    uid: 0,
                    gid: 0,
                    comment: "root".into(),
                    home: "/root".into(),
                    shell: "/bin/sh".into(),
                    password: "!".into(),
                },
            );
        }
        if out.group("root").is_none() {
            out.groups.insert(0, Group { name: "root".into(), gid: 0, members: vec![] });
        }
        Ok(out)
    }

    /// Writes the four files, if there is anything to say that they do not say.
    ///
    /// # Errors
    /// A file cannot be kept.
    pub fn write(&self, root: &mut Root<'_>) -> Result<()> {
        if !self.changed && root.exists("/etc/shadow") {
            return Ok(());
        }
        let (mut passwd, mut shadow, mut group, mut gshadow) =
            (String::new(), String::new(), String::new(), String::new());
        for u in &self.users {
            passwd += &format!("{}:x:{}:{}:{}:{}:{}\n", u.name, u.uid, u.gid, u.comment, u.home, u.shell);
            // The date of the last change is left out: an account made for everybody has none.
            shadow += &format!("{}:{}:::::::\n", u.name, u.password);
        }
        for g in &self.groups {
            let members = g.members.join(",");
            group += &format!("{}:x:{}:{members}\n", g.name, g.gid);
            gshadow += &format!("{}:*::{members}\n", g.name);
        }
        let readers = (0, self.group("shadow").map_or(0, |g| g.gid));
        let mode = if readers.1 == 0 { 0o600 } else { 0o640 };
        root.put("/etc/passwd", passwd)?;
        root.put("/etc/group", group)?;
        root.write("/etc/shadow", shadow, mode, readers)?;
        root.write("/etc/gshadow", gshadow, mode, readers)
    }

    /// A user by name.
    pub fn user(&self, name: &str) -> Option<&User> {
        self.users.iter().find(|u| u.name == name)
    }

    /// A group by name.
    pub fn group(&self, name: &str) -> Option<&Group> {
        self.groups.iter().find(|g| g.name == name)
    }

    /// `user`, `user:group`, `:group`, each by name or number.
    pub fn owner(&self, text: &str) -> Option<(Option<u32>, Option<u32>)> {
        let (user, group) = match text.split_once([':', '.']) {
            Some((user, group)) => (user, Some(group)),
            None => (text, None),
        };
        let uid = match user {
            "" => None,
            user => Some(user.parse().ok().or_else(|| self.user(user).map(|u| u.uid))?),
        };
        let gid = match group {
            None => None,
            Some("") => self.user(user).map(|u| u.gid),
            Some(group) => Some(group.parse().ok().or_else(|| self.group(group).map(|g| g.gid))?),
        };
        Some((uid, gid))
    }

    fn free(&self, name: &str) -> u32 {
        let digest = Digest::of(format!("embrak account 1\n{name}"));
        let raw = digest.raw();
        let span = SYSTEM.end - SYSTEM.start;
        let start = u32::from_le_bytes([raw[0], raw[1], raw[2], raw[3]]) % span;
        let taken = |id: u32| self.users.iter().any(|u| u.uid == id) || self.groups.iter().any(|g| g.gid == id);
        (0..span).map(|n| SYSTEM.start + (start + n) % span).find(|id| !taken(*id)).unwrap_or(SYSTEM.end)
    }

    /// Makes a group, unless there is one of that name; its number.
    pub fn add_group(&mut self, name: &str, gid: Option<u32>) -> u32 {
        if let Some(group) = self.group(name) {
            return group.gid;
        }
        self.changed = true;
        let gid = gid.unwrap_or_else(|| self.free(name));
        self.groups.push(Group { name: name.to_string(), gid, members: vec![] });
        gid
    }

    /// Makes a user, or changes the one of that name. A group that is not named is one of the same name and number.
    pub fn add_user(&mut self, user: User) {
        self.changed = true;
        match self.users.iter_mut().find(|u| u.name == user.name) {
            Some(old) => *old = user,
            None => self.users.push(user),
        }
    }

    /// Makes a user of the system, unless there is one of that name.
    pub fn add_system_user(&mut self, name: &str, uid: Option<u32>, gid: Option<u32>, home: &str, shell: &str) {
        if self.user(name).is_some() {
            return;
        }
        let uid = uid.unwrap_or_else(|| match self.group(name) {
            Some(group) if gid.is_none() && !self.users.iter().any(|u| u.uid == group.gid) => group.gid,
            _ => self.free(name),
        });
        let gid = gid.unwrap_or_else(|| self.add_group(name, Some(uid)));
        self.add_user(User {
            name: name.to_string(),
            uid,
            gid,
            comment: String::new(),
            home: home.to_string(),
            shell: shell.to_string(),
            password: "!*".into(),
        });
    }

    /// Puts a user into a group, which is made when it is not there.
    pub fn add_member(&mut self, user: &str, group: &str) {
        self.add_group(group, None);
        if let Some(group) = self.groups.iter_mut().find(|g| g.name == group)
            && !group.members.iter().any(|m| m == user)
        {
            self.changed = true;
            group.members.push(user.to_string());
        }
    }

    /// Carries out what sysusers.d(5) files declare, as far as names and numbers are written plainly.
    ///
    /// # Errors
    /// A file cannot be read.
    pub fn declared(&mut self, root: &Root<'_>) -> Result<()> {
        let mut lines: Vec<Vec<String>> = Vec::new();
        for file in root.fragments(&["/etc/sysusers.d", "/usr/lib/sysusers.d"], ".conf") {
            let text = root.text(&file)?;
            lines.extend(text.lines().filter(|l| !l.trim_start().starts_with('#')).map(quoted_words));
        }
        lines.retain(|l| l.len() >= 2);
        // Groups first, since users name them.
        for pass in ["g", "u", "m"] {
            for line in lines.iter().filter(|l| l[0].trim_end_matches(['!', '-', '+']) == pass) {
                let field = |n: usize| line.get(n).map(String::as_str).filter(|f| *f != "-");
                let name = line[1].as_str();
                match pass {
                    "g" => {
                        self.add_group(name, field(2).and_then(|id| id.parse().ok()));
                    }
                    "m" => {
                        if let Some(group) = field(2) {
                            self.add_member(name, group);
                        }
                    }
                    _ => {
                        let (uid, group) = match field(2).and_then(|id| id.split_once(':')) {
                            Some((uid, group)) => (uid.parse().ok(), Some(group)),
                            None => (field(2).and_then(|id| id.parse().ok()), None),
                        };
                        let gid = group.map(|g| g.parse().unwrap_or_else(|_| self.add_group(g, None)));
                        let home = field(4).unwrap_or("/");
                        let shell = field(5).unwrap_or(if uid == Some(0) { "/bin/sh" } else { "/usr/sbin/nologin" });
                        self.add_system_user(name, uid, gid, home, shell);
                    }
                }
            }
        }
        Ok(())
    }
}

/// Words of a line; quotes hold words together.
fn quoted_words(line: &str) -> Vec<String> {
    let mut out = Vec::new();
    let mut chars = line.chars().peekable();
    while let Some(&c) = chars.peek() {
        if c.is_whitespace() {
            chars.next();
            continue;
        }
        let quote = matches!(c, '"' | '\'').then_some(c);
        if quote.is_some() {
            chars.next();
        }
        let mut word = String::new();
        while let Some(&c) = chars.peek() {
            if Some(c) == quote || quote.is_none() && c.is_whitespace() {
                break;
            }
            word.push(c);
            chars.next();
        }
        if quote.is_some() {
            chars.next();
        }
        out.push(word);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use embrak_tree::{MemoryBlobs, Tree};

    #[test]
    fn accounts_are_declared_numbered_by_name_and_written() {
        let blobs = MemoryBlobs::default();
        let mut root = Root::new(Tree::new(), &blobs, 5);
        root.put("/etc/passwd", "root:x:0:0:root:/root:/bin/bash\ndaemon:*:1:1::/:/bin/false\n").unwrap();
        root.put("/etc/group", "root:x:0:\nshadow:x:42:\n").unwrap();
        root.put(
            "/usr/lib/sysusers.d/a.conf",
            "# x\nu tide - \"Tide gauge\" /var/lib/tide\ng lamp 77\nm tide lamp\nu! fixed 300:lamp\n",
        )
        .unwrap();
        let mut accounts = Accounts::read(&root).unwrap();
        accounts.declared(&root).unwrap();
        accounts.write(&mut root).unwrap();
        let tide = accounts.user("tide").unwrap().clone();
        assert_eq!((tide.uid, tide.home.as_str()), (tide.gid, "/var/lib/tide"));
        assert!(SYSTEM.contains(&tide.uid));
        assert_eq!(accounts.user("fixed").map(|u| (u.uid, u.gid)), Some((300, 77)));
        assert!(root.text("/etc/group").unwrap().contains("lamp:x:77:tide\n"));
        assert!(root.text("/etc/shadow").unwrap().contains("daemon:*:::::::\n"));
        assert_eq!(root.entry("/etc/shadow").map(|e| (e.mode, e.gid)), Some((0o640, 42)));
        // Alone, the account has the same number.
        let mut alone = Accounts::default();
        alone.add_system_user("tide", None, None, "/", "/bin/sh");
        assert_eq!(alone.user("tide").unwrap().uid, tide.uid);
        assert_eq!(Accounts::read(&root).unwrap().users, accounts.users);
        assert_eq!(accounts.owner("tide:lamp"), Some((Some(tide.uid), Some(77))));
        assert_eq!(accounts.owner("nobody-here"), None);
    }
}
