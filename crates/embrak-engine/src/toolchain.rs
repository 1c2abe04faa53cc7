//! Programs of the host as inputs: what `[toolchain] host` names, with everything they need to run.
//!
//! A tool is captured as a tree of its own: the program at the path where it was found, the libraries it is linked
//! to, for a compiler the programs it starts, its headers and libraries. The tree's digest is what the lock pins and
//! the evidence names; the files go into the store, and a step sees them from there, read-only. Whatever else is
//! installed on the host stays invisible.
//!
//! Which files belong to a C compiler is asked of the compiler itself (`-print-prog-name`, `-print-file-name`, the
//! header search path); of the shared directories it names, only the C library's own headers and libraries are
//! taken, so that a header of some other library cannot be found by accident.

use crate::error::{Doing, EngineError, Result};
use crate::lock::LockedTool;
use embrak_store::Store;
use embrak_tree::{Digest, Entry, Kind, Tree, TreePath, merge};
use object::read::elf::{ElfFile32, ElfFile64, FileHeader, ProgramHeader};
use object::{Endianness, Object};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::process::Command;

/// Where programs are looked for; the caller's PATH does not matter.
const PROGRAM_DIRECTORIES: [&str; 3] = ["/usr/local/bin", "/usr/bin", "/bin"];

/// Programs every step may use: the shell and the utilities of POSIX that build scripts rely on.
const BASE: &[&str] = &[
    "sh", "awk", "basename", "cat", "chmod", "chown", "cksum", "cmp", "comm", "cp", "cut", "date", "dd", "diff",
    "dirname", "echo", "env", "expand", "expr", "false", "find", "fold", "grep", "head", "hostname", "id", "install",
    "join", "ln", "ls", "mkdir", "mkfifo", "mktemp", "mv", "nl", "nproc", "od", "paste", "printf", "pwd", "readlink",
    "realpath", "rm", "rmdir", "sed", "seq", "sleep", "sort", "split", "stat", "tail", "tee", "test", "touch", "tr",
    "true", "tsort", "uname", "uniq", "wc", "whoami", "xargs",
];

/// The part of the base a host cannot do without.
const BASE_REQUIRED: &[&str] = &["sh", "cat", "cp", "mkdir", "mv", "rm", "install"];

/// Names in header directories that belong to the C library and the kernel's interface.
const C_HEADERS: &[&str] = &[
    "aio.h",
    "alloca.h",
    "arpa",
    "asm",
    "asm-generic",
    "assert.h",
    "bits",
    "byteswap.h",
    "complex.h",
    "cpio.h",
    "ctype.h",
    "dirent.h",
    "dlfcn.h",
    "elf.h",
    "endian.h",
    "err.h",
    "errno.h",
    "error.h",
    "execinfo.h",
    "fcntl.h",
    "features-time64.h",
    "features.h",
    "fenv.h",
    "float.h",
    "fmtmsg.h",
    "fnmatch.h",
    "fstab.h",
    "ftw.h",
    "fts.h",
    "getopt.h",
    "glob.h",
    "gnu",
    "gnu-versions.h",
    "grp.h",
    "iconv.h",
    "ifaddrs.h",
    "inttypes.h",
    "langinfo.h",
    "libgen.h",
    "libintl.h",
    "limits.h",
    "link.h",
    "linux",
    "locale.h",
    "malloc.h",
    "math.h",
    "mcheck.h",
    "memory.h",
    "mntent.h",
    "monetary.h",
    "mqueue.h",
    "net",
    "netdb.h",
    "netinet",
    "netpacket",
    "nl_types.h",
    "paths.h",
    "poll.h",
    "pthread.h",
    "pty.h",
    "pwd.h",
    "regex.h",
    "resolv.h",
    "sched.h",
    "search.h",
    "semaphore.h",
    "setjmp.h",
    "sgtty.h",
    "shadow.h",
    "signal.h",
    "spawn.h",
    "stdc-predef.h",
    "stdint.h",
    "stdio.h",
    "stdio_ext.h",
    "stdlib.h",
    "string.h",
    "strings.h",
    "stropts.h",
    "sys",
    "syscall.h",
    "sysexits.h",
    "syslog.h",
    "tar.h",
    "termio.h",
    "termios.h",
    "tgmath.h",
    "threads.h",
    "time.h",
    "uchar.h",
    "ucontext.h",
    "ulimit.h",
    "unistd.h",
    "utime.h",
    "utmp.h",
    "utmpx.h",
    "values.h",
    "wait.h",
    "wchar.h",
    "wctype.h",
    "wordexp.h",
];

/// Beginnings of library file names that belong to the C library.
const C_LIBRARIES: &[&str] = &[
    "libc.",
    "libc_nonshared.",
    "libm.",
    "libm-",
    "libmvec",
    "libpthread",
    "libdl.",
    "librt.",
    "libutil.",
    "libresolv.",
    "libanl.",
    "libssp_nonshared.",
    "ld-linux",
    "ld-musl",
];

/// Programs of a compiler's own directory that C does without: other languages, link-time optimisation.
const NOT_FOR_C: &[&str] =
    &["cc1plus", "cc1obj", "cc1objplus", "cc1gm2", "f951", "d21", "go1", "gnat1", "lto1", "plugin", "include-fixed"];

/// A tool of the host.
#[derive(Debug, Clone)]
pub(crate) struct HostTool {
    /// As recipes ask for it.
    pub(crate) name: String,
    /// Where it was found.
    pub(crate) path: PathBuf,
    /// Everything it needs.
    pub(crate) tree: Tree,
    /// Digest of the tree.
    pub(crate) digest: Digest,
}

/// Name under which the base utilities are recorded.
pub(crate) const BASE_NAME: &str = "base utilities";

/// The tools a workspace declares, and the base utilities: the machine's, or those that are locked, when the machine's
/// are others and the store still has them. Also which are not the machine's. With `vendored`, the machine's are not
/// even looked at when the locked ones are there.
pub(crate) fn capture(
    store: &Store,
    names: &[String],
    locked: &BTreeMap<&str, &LockedTool>,
    vendored: bool,
) -> Result<(BTreeMap<String, HostTool>, Vec<String>)> {
    let (mut tools, mut not_here) = (BTreeMap::new(), Vec::new());
    for name in std::iter::once(BASE_NAME).chain(names.iter().map(String::as_str)) {
        if let Some(tool) = locked.get(name).filter(|_| vendored).and_then(|locked| kept(store, locked)) {
            tools.insert(name.to_string(), tool);
            continue;
        }
        let here = captured(store, name);
        let tool = match locked.get(name) {
            Some(locked) if here.as_ref().map_or(true, |t| t.digest != locked.digest) => match kept(store, locked) {
                Some(tool) => {
                    not_here.push(name.to_string());
                    tool
                }
                None => here?,
            },
            _ => here?,
        };
        tools.insert(name.to_string(), tool);
    }
    Ok((tools, not_here))
}

/// A locked tool out of the store, if all of it is there.
fn kept(store: &Store, locked: &LockedTool) -> Option<HostTool> {
    let tree = crate::sources::get_tree(store, &locked.digest).ok()?;
    let whole = tree.blobs().all(|(digest, _)| store.has(&digest));
    let path = PathBuf::from(&locked.path);
    whole.then(|| HostTool { name: locked.name.clone(), path, tree, digest: locked.digest })
}

/// A tool of this machine. When none of its files has changed since it was last captured, it is not read again.
fn captured(store: &Store, name: &str) -> Result<HostTool> {
    if let Some(tool) = known(store, name)? {
        return Ok(tool);
    }
    let mut capture = Capture::new(store);
    let path = if name == BASE_NAME { capture.base()? } else { capture.tool(name)? };
    capture.finish(name, path)
}

/// What is remembered of a capture: its result, and the state of every file and directory that was looked at.
#[derive(Serialize, Deserialize)]
struct Remembered {
    path: PathBuf,
    tree: Digest,
    stamps: Vec<(PathBuf, String)>,
}

fn capture_key(name: &str) -> Digest {
    Digest::of(format!("host tool 1\n{name}"))
}

fn known(store: &Store, name: &str) -> Result<Option<HostTool>> {
    let Some(text) = store.action(&capture_key(name))? else { return Ok(None) };
    let Ok(remembered) = serde_json::from_str::<Remembered>(&text) else { return Ok(None) };
    if remembered.stamps.iter().any(|(path, stamp)| Store::stamp(path).as_ref() != Some(stamp)) {
        return Ok(None);
    }
    let tree = crate::sources::get_tree(store, &remembered.tree)?;
    Ok(Some(HostTool { name: name.to_string(), path: remembered.path, tree, digest: remembered.tree }))
}

/// The tools laid over one another, to be a step's root.
pub(crate) fn root_of<'a>(tools: impl IntoIterator<Item = &'a HostTool>) -> Result<Tree> {
    let sources: Vec<(&str, &Tree)> = tools.into_iter().map(|t| (t.name.as_str(), &t.tree)).collect();
    match merge(sources) {
        Ok(merged) => Ok(merged.tree),
        Err(conflicts) => {
            let what =
                conflicts.first().map_or(String::new(), |c| format!("{} of {} and {}", c.path, c.first, c.second));
            Err(EngineError::other(format!("host tools changed while they were read: {what}"), "try again"))
        }
    }
}

fn is_c_compiler(name: &str) -> bool {
    let end = name.rsplit('/').next().unwrap_or(name);
    ["cc", "gcc", "clang"]
        .iter()
        .any(|c| end == *c || end.starts_with(&format!("{c}-")) || end.ends_with(&format!("-{c}")))
}

fn find_program(name: &str) -> Option<PathBuf> {
    PROGRAM_DIRECTORIES.iter().map(|dir| Path::new(dir).join(name)).find(|path| path.is_file())
}

struct Capture<'a> {
    store: &'a Store,
    tree: Tree,
    queue: VecDeque<PathBuf>,
    seen: BTreeSet<PathBuf>,
    looked_at: BTreeSet<PathBuf>,
}

impl<'a> Capture<'a> {
    fn new(store: &'a Store) -> Self {
        Capture { store, tree: Tree::new(), queue: VecDeque::new(), seen: BTreeSet::new(), looked_at: BTreeSet::new() }
    }

    fn base(&mut self) -> Result<PathBuf> {
        for name in BASE {
            match find_program(name) {
                Some(path) => self.program(&path)?,
                None if BASE_REQUIRED.contains(name) => {
                    let message = format!("the host has no `{name}`, which build steps cannot do without");
                    return Err(EngineError::other(message, "install the basic utilities of your distribution"));
                }
                None => {}
            }
        }
        Ok(find_program("sh").unwrap_or_default())
    }

    fn tool(&mut self, name: &str) -> Result<PathBuf> {
        let Some(path) = find_program(name) else {
            let looked = PROGRAM_DIRECTORIES.join(", ");
            let message =
                format!("the host has no program `{name}`, which `[toolchain] host` names (looked in {looked})");
            return Err(EngineError::other(message, "install it, or take it out of `[toolchain] host` in embrak.toml"));
        };
        self.program(&path)?;
        if is_c_compiler(name) {
            self.c_compiler(&path)?;
        }
        Ok(path)
    }

    fn finish(mut self, name: &str, path: PathBuf) -> Result<HostTool> {
        // Top-level directories that are links on the host are links in the step's root too.
        for top in ["/bin", "/sbin", "/lib", "/lib64"] {
            if let Ok(target) = std::fs::read_link(top) {
                let path = tree_path(Path::new(top))?;
                self.tree.insert(path, Entry::symlink(target.as_os_str().as_bytes()));
            }
        }
        self.tree.add_missing_directories(0);
        let digest = crate::sources::put_tree(self.store, &self.tree)?;
        let stamps: Option<Vec<_>> =
            self.looked_at.iter().map(|p| Store::settled_stamp(p).map(|stamp| (p.clone(), stamp))).collect();
        if let Some(stamps) = stamps {
            let remembered = Remembered { path: path.clone(), tree: digest, stamps };
            let objects = self.tree.blobs().map(|(d, _)| d).chain([digest]).collect();
            self.store.record_action(
                &capture_key(name),
                &serde_json::to_string(&remembered).unwrap_or_default(),
                &objects,
            )?;
        }
        Ok(HostTool { name: name.to_string(), path, tree: self.tree, digest })
    }

    /// A program with the libraries it is linked to, and its interpreter when it is a script.
    fn program(&mut self, path: &Path) -> Result<()> {
        self.queue.push_back(path.to_path_buf());
        while let Some(path) = self.queue.pop_front() {
            if !self.seen.insert(path.clone()) {
                continue;
            }
            let real = self.add(&path)?;
            let bytes = std::fs::read(&real).doing("read", &real)?;
            if let Some(line) = bytes.strip_prefix(b"#!") {
                let line = String::from_utf8_lossy(line.split(|&b| b == b'\n').next().unwrap_or_default()).into_owned();
                let mut words = line.split_whitespace();
                let interpreter = words.next().map(PathBuf::from);
                // `#!/usr/bin/env NAME` needs NAME too.
                let named = words.next().filter(|_| line.contains("/env ")).and_then(find_program);
                self.queue.extend(interpreter.into_iter().chain(named));
                continue;
            }
            let directory = real.parent().unwrap_or(Path::new("/")).to_path_buf();
            let Some(needs) = elf_needs(&bytes) else { continue };
            self.queue.extend(needs.interpreter.map(PathBuf::from));
            for library in needs.libraries {
                let found = needs
                    .search
                    .iter()
                    .map(|dir| dir.replace("$ORIGIN", &directory.to_string_lossy()))
                    .chain(library_directories())
                    .map(|dir| Path::new(&dir).join(&library))
                    .find(|candidate| candidate.is_file());
                match found {
                    Some(found) => self.queue.push_back(found),
                    None => {
                        let message = format!(
                            "{} is linked to {library}, which is in none of the usual directories",
                            real.display()
                        );
                        return Err(EngineError::other(message, "is the tool installed completely?"));
                    }
                }
            }
        }
        Ok(())
    }

    /// Adds a file under the name it was found by and under its real name; the real name is returned.
    fn add(&mut self, path: &Path) -> Result<PathBuf> {
        let real = path.canonicalize().doing("find", path)?;
        // /bin and the like may be links to /usr/bin: the directory part is always the real one.
        let named = match (path.parent().and_then(|p| p.canonicalize().ok()), path.file_name()) {
            (Some(parent), Some(name)) => parent.join(name),
            _ => path.to_path_buf(),
        };
        self.looked_at.extend([path.to_path_buf(), real.clone()]);
        let (digest, size) = self.store.host_file(&real, true)?;
        self.tree.insert(tree_path(&real)?, Entry::new(Kind::File { digest, size }, 0o755));
        if named != real {
            self.tree.insert(tree_path(&named)?, Entry::symlink(real.as_os_str().as_bytes()));
        }
        Ok(real)
    }

    /// Adds a file or a whole directory as it is.
    fn add_all(&mut self, path: &Path, skip: &dyn Fn(&str) -> bool) -> Result<()> {
        if path.is_dir() {
            self.looked_at.insert(path.to_path_buf());
            let mut names: Vec<_> =
                std::fs::read_dir(path).doing("list", path)?.flatten().map(|e| e.file_name()).collect();
            names.sort();
            for name in names {
                if !skip(&name.to_string_lossy()) {
                    self.add_all(&path.join(name), skip)?;
                }
            }
        } else if path.is_file() {
            self.add(path)?;
        }
        Ok(())
    }

    fn c_compiler(&mut self, compiler: &Path) -> Result<()> {
        let ask = |arguments: &[&str]| ask_compiler(compiler, arguments);
        for program in ["cc1", "as", "ld", "collect2", "lto-wrapper"] {
            let answer = ask(&[&format!("-print-prog-name={program}")])?;
            let answer = answer.trim();
            let found = if answer.contains('/') { Some(PathBuf::from(answer)) } else { find_program(answer) };
            if let Some(found) = found.filter(|p| p.is_file()) {
                self.program(&found)?;
            }
        }
        // The compiler's own directory: start files, its run-time library, its headers, its linker plug-in.
        let own = PathBuf::from(ask(&["-print-file-name=crtbegin.o"])?.trim());
        if let Some(own) = own.parent().filter(|p| p.is_absolute()) {
            let skip = |name: &str| {
                NOT_FOR_C.contains(&name)
                    || name.starts_with("libasan")
                    || name.starts_with("libtsan")
                    || name.starts_with("liblsan")
                    || name.starts_with("libubsan")
                    || name.starts_with("libhwasan")
                    || name.starts_with("libstdc++")
                    || name.starts_with("libsupc++")
                    || name.starts_with("libgfortran")
                    || name.starts_with("libobjc")
                    || name.starts_with("libitm")
                    || name.starts_with("libcaf")
            };
            self.add_all(own, &skip)?;
            for shared in ["liblto_plugin.so", "libgcc_s.so.1"] {
                let path = PathBuf::from(ask(&[&format!("-print-file-name={shared}")])?.trim());
                if path.is_absolute() && path.is_file() {
                    self.program(&path)?;
                }
            }
        }
        for header_dir in header_directories(compiler)? {
            for name in C_HEADERS {
                self.add_all(&header_dir.join(name), &|_| false)?;
            }
        }
        let start = PathBuf::from(ask(&["-print-file-name=crt1.o"])?.trim()).canonicalize();
        if let Some(libraries) = start.ok().as_deref().and_then(Path::parent) {
            let mut names: Vec<_> =
                std::fs::read_dir(libraries).doing("list", libraries)?.flatten().map(|e| e.file_name()).collect();
            names.sort();
            for name in names {
                let text = name.to_string_lossy();
                let start_file = text.ends_with(".o") && text.contains("crt");
                if start_file || C_LIBRARIES.iter().any(|prefix| text.starts_with(prefix)) {
                    self.add_all(&libraries.join(&name), &|_| true)?;
                }
            }
        }
        Ok(())
    }
}

fn ask_compiler(compiler: &Path, arguments: &[&str]) -> Result<String> {
    let output = Command::new(compiler)
        .args(arguments)
        .env_clear()
        .env("PATH", PROGRAM_DIRECTORIES.join(":"))
        .env("LC_ALL", "C")
        .output();
    let output = output.doing("run", compiler)?;
    Ok(String::from_utf8_lossy(&output.stdout).into_owned())
}

/// The directories a compiler looks for headers in, its own left out.
fn header_directories(compiler: &Path) -> Result<Vec<PathBuf>> {
    let output = Command::new(compiler)
        .args(["-E", "-v", "-x", "c", "/dev/null", "-o", "/dev/null"])
        .env_clear()
        .env("PATH", PROGRAM_DIRECTORIES.join(":"))
        .env("LC_ALL", "C")
        .output()
        .doing("run", compiler)?;
    let text = String::from_utf8_lossy(&output.stderr).into_owned();
    let listed =
        text.lines().skip_while(|l| !l.starts_with("#include <...>")).skip(1).take_while(|l| l.starts_with(' '));
    Ok(listed
        .map(|l| PathBuf::from(l.trim()))
        .filter(|p| !p.starts_with("/usr/lib") && !p.starts_with("/usr/local"))
        .collect())
}

fn tree_path(path: &Path) -> Result<TreePath> {
    TreePath::new(path.as_os_str().as_bytes())
        .map_err(|e| EngineError::other(e.to_string(), "is the tool installed in an unusual place?"))
}

fn library_directories() -> impl Iterator<Item = String> {
    let triple = format!("{}-linux-gnu", std::env::consts::ARCH);
    [
        format!("/lib/{triple}"),
        format!("/usr/lib/{triple}"),
        "/lib64".to_string(),
        "/usr/lib64".to_string(),
        "/lib".to_string(),
        "/usr/lib".to_string(),
        "/usr/local/lib".to_string(),
    ]
    .into_iter()
}

/// What an ELF file needs to be run.
struct ElfNeeds {
    interpreter: Option<String>,
    libraries: Vec<String>,
    search: Vec<String>,
}

/// Reads `PT_INTERP`, `DT_NEEDED`, `DT_RPATH` and `DT_RUNPATH`; none when it is not ELF.
fn elf_needs(bytes: &[u8]) -> Option<ElfNeeds> {
    match object::FileKind::parse(bytes).ok()? {
        object::FileKind::Elf64 => {
            let file = ElfFile64::<Endianness>::parse(bytes).ok()?;
            needs_of(file.elf_header(), file.endianness(), bytes)
        }
        object::FileKind::Elf32 => {
            let file = ElfFile32::<Endianness>::parse(bytes).ok()?;
            needs_of(file.elf_header(), file.endianness(), bytes)
        }
        _ => None,
    }
}

fn needs_of<E: FileHeader<Endian = Endianness>>(header: &E, endian: Endianness, bytes: &[u8]) -> Option<ElfNeeds> {
    use object::elf::{DT_NEEDED, DT_RPATH, DT_RUNPATH};
    use object::read::elf::{Dyn, SectionHeader};
    let mut needs = ElfNeeds { interpreter: None, libraries: Vec::new(), search: Vec::new() };
    for segment in header.program_headers(endian, bytes).ok()? {
        if let Ok(Some(interpreter)) = segment.interpreter(endian, bytes) {
            needs.interpreter = Some(String::from_utf8_lossy(interpreter).into_owned());
        }
    }
    let sections = header.sections(endian, bytes).ok()?;
    for section in sections.iter() {
        let Ok(Some((entries, strings))) = section.dynamic(endian, bytes) else { continue };
        let strings = sections.strings(endian, bytes, strings).ok()?;
        for entry in entries {
            let text = || entry.string(endian, strings).ok().map(|b| String::from_utf8_lossy(b).into_owned());
            match entry.tag(endian) {
                DT_NEEDED => needs.libraries.extend(text()),
                DT_RPATH | DT_RUNPATH => {
                    needs.search.extend(text().iter().flat_map(|t| t.split(':')).map(String::from))
                }
                _ => {}
            }
        }
    }
    Some(needs)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_locked_tool_comes_out_of_the_store_when_the_machine_has_another() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(dir.path()).unwrap();
        let names = ["cat".to_string()];
        let (here, not_here) = capture(&store, &names, &BTreeMap::new(), false).unwrap();
        assert!(not_here.is_empty());
        let locked = |tree: Digest| LockedTool { name: "cat".into(), path: "/opt/cat".into(), digest: tree };
        let with = |tool: &LockedTool, vendored| {
            let (tools, not_here) = capture(&store, &names, &[("cat", tool)].into(), vendored).unwrap();
            (tools["cat"].digest, not_here)
        };
        // The machine's own is taken as it is.
        assert_eq!(with(&locked(here["cat"].digest), false), (here["cat"].digest, vec![]));
        let mut tree = Tree::new();
        let digest = store.put_bytes("an older cat").unwrap();
        tree.insert("/opt/cat".parse().unwrap(), Entry::file(digest, 12));
        let old = crate::sources::put_tree(&store, &tree).unwrap();
        assert_eq!(with(&locked(old), false), (old, vec!["cat".to_string()]));
        assert_eq!(with(&locked(old), true), (old, vec![]), "what was vendored is nothing to wonder about");
        // One the store does not have whole cannot be used: the machine's is, and the lock will say so.
        std::fs::remove_file(store.object_path(&digest)).unwrap();
        assert_eq!(with(&locked(old), false).0, here["cat"].digest);
        let gone = LockedTool { name: "no-such-tool".into(), ..locked(old) };
        let names = ["no-such-tool".to_string()];
        assert!(capture(&store, &names, &[("no-such-tool", &gone)].into(), false).is_err());
    }
}
