//! What starts a system: kernel, initial file system, command line, unified kernel images, entries of a loader.

use crate::error::{EngineError, Result};
use crate::outputs::DiskInput;
use crate::plan::{PlannedImage, disk_of};
use embrak_compress::Compression;
use embrak_disk::{Extents, pe};
use embrak_model::definitions::{Architecture, BoardDef, BootMethod, InitrdCompression, InitrdDef, Output};
use embrak_resolve::Version;
use embrak_root::{ModuleIndex, Root, needed};
use embrak_store::Store;
use embrak_tree::{BlobSink, BlobSource, Digest, Entry, Kind, Tree, TreePath, cpio};
use std::io::{Read, Write};

/// A kernel in a root.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Kernel {
    pub(crate) version: String,
    pub(crate) path: TreePath,
    pub(crate) digest: Digest,
    pub(crate) size: u64,
}

/// The newest kernel of a root, as distributions lay it: `/boot/vmlinuz-VERSION` or `/usr/lib/modules/VERSION/vmlinuz`.
pub(crate) fn find_kernel(tree: &Tree) -> Option<Kernel> {
    let mut found: Vec<Kernel> = Vec::new();
    for (path, entry) in tree.iter() {
        let text = path.to_string();
        let version = match text.strip_prefix("/boot/vmlinuz-").or_else(|| text.strip_prefix("/boot/vmlinux-")) {
            Some(version) => version,
            None => match text.strip_prefix("/usr/lib/modules/").and_then(|r| r.strip_suffix("/vmlinuz")) {
                Some(version) if !version.contains('/') => version,
                _ => continue,
            },
        };
        if let Kind::File { digest, size } = tree.resolve_link(entry).kind {
            found.push(Kernel { version: version.to_string(), path: path.clone(), digest, size });
        }
    }
    found.into_iter().max_by(|a, b| {
        let version = |k: &Kernel| k.version.parse::<Version>().ok();
        version(a).cmp(&version(b)).then_with(|| a.version.cmp(&b.version))
    })
}

pub(crate) fn kernel_of(tree: &Tree, image: &str) -> Result<Kernel> {
    find_kernel(tree).ok_or_else(|| EngineError::Definition {
        message: format!("there is no kernel in the image {image}"),
        help: "add the package that has it: /boot/vmlinuz-VERSION or /usr/lib/modules/VERSION/vmlinuz is looked for"
            .into(),
    })
}

/// What an image says on its kernel's command line.
pub(crate) fn command_line(input: &DiskInput<'_>) -> String {
    let mut words: Vec<String> = Vec::new();
    let own: Vec<&str> = input
        .board
        .iter()
        .flat_map(|b| &b.kernel_args)
        .map(String::as_str)
        .chain(input.image.kernel_args.iter().map(|a| a.value.as_str()))
        .collect();
    let has = |start: &str| own.iter().any(|w| w.starts_with(start));
    if !has("root=")
        && let Some(root) = input.root_partition()
    {
        words.push(format!("root={root}"));
        if !has("rootfstype=") {
            words.push("rootfstype=ext4".into());
        }
        if !has("ro") && !own.contains(&"rw") {
            words.push("rw".into());
        }
    }
    if let Some(console) = input.board.and_then(|b| b.console.as_ref())
        && !has("console=")
    {
        words.push(format!("console={console}"));
    }
    words.extend(own.into_iter().map(String::from));
    words.join(" ")
}

/// The compression a definition names.
pub(crate) fn compression_of(def: Option<&InitrdDef>) -> Compression {
    match def.map(|d| d.compression).unwrap_or_default() {
        InitrdCompression::Zstd => Compression::Zstd,
        InitrdCompression::Gzip => Compression::Gzip,
        InitrdCompression::Xz => Compression::Xz,
        InitrdCompression::Lz4 => Compression::Lz4,
        InitrdCompression::None => Compression::None,
    }
}

/// The initial file system as a file in the store; a ready one as it is. Nothing when the image has none.
pub(crate) fn initrd(input: &DiskInput<'_>) -> Result<Option<(Digest, u64)>> {
    let Some(def) = &input.image.initrd else { return Ok(None) };
    if let Some(file) = &def.file {
        let root = Root::new(input.tree.clone(), input.store, input.epoch);
        return match root.entry(&file.value).map(|e| e.kind.clone()) {
            Some(Kind::File { digest, size }) => Ok(Some((digest, size))),
            _ => Err(EngineError::Definition {
                message: format!("the initial file system {} is not in the image", file.value),
                help: format!("add the package or finishing step that makes it; written at {}", file.at),
            }),
        };
    }
    let tree = initrd_tree(input, def)?;
    let packed = compression_of(Some(def));
    let put = keep(input.store, |out| {
        packed.compress(out, |inner| cpio::write_tree(&tree, input.store, inner).map(drop)).map(drop)
    });
    put.map(Some).map_err(|e| EngineError::other(format!("the initial file system cannot be written: {e}"), ""))
}

/// Keeps what is written as an object of the store, through a file beside it.
fn keep(store: &Store, write: impl FnOnce(&mut dyn Write) -> std::io::Result<()>) -> std::io::Result<(Digest, u64)> {
    let mut file = tempfile::tempfile()?;
    let mut out = std::io::BufWriter::with_capacity(1 << 20, &mut file);
    write(&mut out)?;
    out.flush()?;
    drop(out);
    std::io::Seek::rewind(&mut file)?;
    store.put(&mut file)
}

/// The files of the initial file system: what is included, what that needs, modules, and something to start.
pub(crate) fn initrd_tree(input: &DiskInput<'_>, def: &InitrdDef) -> Result<Tree> {
    let mut root = Root::new(input.tree.clone(), input.store, input.epoch);
    let mut out = Tree::new();
    let mut waiting: Vec<TreePath> = Vec::new();
    for include in &def.include {
        let globs = crate::build::globs([include.value.as_str()])?;
        let before = waiting.len();
        waiting.extend(
            input
                .tree
                .iter()
                .filter(|(p, e)| !e.is_directory() && globs.is_match(p.to_string()))
                .map(|(p, _)| p.clone()),
        );
        if waiting.len() == before
            && let Ok(path) = root.resolve(&include.value, true)
            && input.tree.get(&path).is_some()
        {
            waiting.push(path);
        }
        if waiting.len() == before {
            return Err(EngineError::Definition {
                message: format!(
                    "nothing in the image matches `{}`, which is to go into the initial file system",
                    include.value
                ),
                help: format!("add the package that has it, or correct the glob; written at {}", include.at),
            });
        }
    }
    while let Some(path) = waiting.pop() {
        if out.get(&path).is_some() {
            continue;
        }
        let Some(entry) = input.tree.get(&path).map(|e| input.tree.resolve_link(e).clone()) else { continue };
        match &entry.kind {
            Kind::Symlink { .. } => waiting.extend(root.resolve(&path.to_string(), true)),
            Kind::File { digest, size } if *size > 4 => {
                let mut start = [0; 4];
                let elf =
                    input.store.open(digest).and_then(|mut r| r.read_exact(&mut start)).is_ok() && &start == b"\x7fELF";
                let bytes = if elf { input.store.read(digest).unwrap_or_default() } else { Vec::new() };
                for name in needed(&bytes) {
                    waiting.extend(library(&root, &name));
                }
            }
            _ => {}
        }
        out.insert(path, entry);
    }
    // The links that lead into merged directories, and places for what the kernel gives.
    for name in ["bin", "sbin", "lib", "lib64"] {
        let Ok(path) = TreePath::new(format!("/{name}")) else { continue };
        if let Some(entry @ Entry { kind: Kind::Symlink { .. }, .. }) = input.tree.get(&path) {
            out.insert(path, entry.clone());
        }
    }
    let mut order = Vec::new();
    if !def.modules.is_empty() {
        let kernel = kernel_of(input.tree, &input.image.image.value)?;
        let kernels = embrak_root::index_modules(&mut root).map_err(crate::compose::settled)?;
        let Some(index) = kernels.into_iter().find(|k| k.kernel == kernel.version) else {
            return Err(EngineError::Definition {
                message: format!("there are no modules of the kernel {} in the image", kernel.version),
                help: "add the package that has them, or leave `modules` under [initrd] out".into(),
            });
        };
        for module in &def.modules {
            for path in modules(&index, module)? {
                let path = format!("/usr/lib/modules/{}/{path}", index.kernel);
                if !order.contains(&path) {
                    if let Some(entry) = root.entry(&path).cloned()
                        && let Ok(at) = TreePath::new(&path)
                    {
                        out.insert(at, entry);
                    }
                    order.push(path);
                }
            }
        }
    }
    let mut made = Root::new(out, input.store, input.epoch);
    for dir in ["/dev", "/proc", "/sys", "/run", "/tmp", "/root", "/sysroot", "/etc"] {
        made.directory(dir, 0o755, (0, 0)).map_err(crate::compose::settled)?;
    }
    match &def.init {
        Some(init) => made.link("/init", &init.value).map_err(crate::compose::settled)?,
        None => {
            let shell =
                ["/bin/busybox", "/usr/bin/busybox", "/sbin/busybox"].into_iter().find(|p| made.entry(p).is_some());
            let Some(shell) = shell else {
                return Err(EngineError::Definition {
                    message: "the initial file system has nothing to start".into(),
                    help: "include a busybox, which Embrak's own start is written for, or name a program with `init` under [initrd]".into(),
                });
            };
            made.put("/etc/initrd-modules", order.iter().map(|p| format!("{p}\n")).collect::<String>())
                .map_err(crate::compose::settled)?;
            let text = include_str!("initrd-init.sh").replace("@BUSYBOX@", shell);
            made.write("/init", text, 0o755, (0, 0)).map_err(crate::compose::settled)?;
        }
    }
    let mut tree = made.tree;
    tree.add_missing_directories(input.epoch);
    Ok(tree)
}

fn modules(index: &ModuleIndex, module: &embrak_model::Located<String>) -> Result<Vec<String>> {
    if let Some(paths) = index.with_needed(&module.value) {
        return Ok(paths);
    }
    if index.is_builtin(&module.value) {
        return Ok(Vec::new());
    }
    let close = embrak_model::suggestion(&module.value, index.names());
    Err(EngineError::Definition {
        message: format!("the kernel {} has no module `{}`", index.kernel, module.value),
        help: match close {
            Some(close) => format!("did you mean `{close}`? written at {}", module.at),
            None => format!("written at {}", module.at),
        },
    })
}

/// Where a library is that programs name.
fn library(root: &Root<'_>, name: &str) -> Vec<TreePath> {
    if name.starts_with('/') {
        // The loader, by the path that programs have in them.
        return root.resolve(name, true).into_iter().chain(root.resolve(name, false)).collect();
    }
    let places = ["/usr/lib", "/usr/lib64"].into_iter().map(String::from);
    let multiarch =
        root.list("/usr/lib").into_iter().filter(|n| n.contains("-linux-")).map(|n| format!("/usr/lib/{n}"));
    places
        .chain(multiarch)
        .map(|dir| format!("{dir}/{name}"))
        .filter(|path| root.entry(path).is_some())
        .flat_map(|path| root.resolve(&path, false).into_iter().chain(root.resolve(&path, true)).collect::<Vec<_>>())
        .collect()
}

/// Where the stub of unified kernel images lies in an image.
fn stub_path(board: Option<&BoardDef>, architecture: Architecture) -> String {
    let usual = match architecture {
        Architecture::X86_64 => "x64",
        Architecture::Aarch64 => "aa64",
        Architecture::Armv7 => "arm",
        Architecture::Riscv64 => "riscv64",
    };
    match board.and_then(|b| b.stub.as_ref()) {
        Some(named) => named.value.clone(),
        None => format!("/usr/lib/systemd/boot/efi/linux{usual}.efi.stub"),
    }
}

fn no_stub(board: Option<&BoardDef>, path: &str, image: &str) -> EngineError {
    EngineError::Definition {
        message: format!("the stub of unified kernel images, {path}, is not in the image {image}"),
        help: match board.and_then(|b| b.stub.as_ref()) {
            Some(stub) => format!("add the package that has it; written at {}", stub.at),
            None => "add the package that has it (such as systemd-boot-efi), or name another with `stub` in the board"
                .into(),
        },
    }
}

/// Whether the kernel and the stub that the outputs will want are there.
pub(crate) fn can_start(image: &PlannedImage, root: &Root<'_>) -> Result<()> {
    let board = image.board.as_ref().map(|b| &b.def);
    let on_disk = image.image.def.outputs.iter().any(|o| o.value.to_string().starts_with("disk:"));
    let disk = disk_of(&image.image, image.board.as_ref()).filter(|_| on_disk);
    let boots = disk.is_some_and(|disk| disk.partition.iter().any(|p| p.kind.value == "esp"));
    let method = board.map(|b| b.boot).filter(|_| boots);
    let wants = |output: Output| image.image.def.outputs.iter().any(|o| o.value == output);
    let unified = wants(Output::Uki) || method == Some(BootMethod::Uki);
    if unified || wants(Output::Kernel) || method == Some(BootMethod::Entries) {
        kernel_of(&root.tree, &image.target.image)?;
    }
    let stub = stub_path(board, image.target.architecture);
    if unified && root.entry(&stub).is_none() {
        return Err(no_stub(board, &stub, &image.target.image));
    }
    Ok(())
}

/// A unified kernel image: the board's stub with kernel, initial file system, command line and description.
pub(crate) fn unified(input: &DiskInput<'_>) -> Result<Extents> {
    let image = &input.image.image.value;
    let architecture = input.architecture();
    let path = &stub_path(input.board, architecture);
    let root = Root::new(input.tree.clone(), input.store, input.epoch);
    let stub = root.read(path).map_err(crate::compose::settled)?.ok_or_else(|| no_stub(input.board, path, image))?;
    let broken = |e: pe::PeError| EngineError::Definition {
        message: format!("{path} cannot be used as a stub: {e}"),
        help: "name another with `stub` in the board".into(),
    };
    let program = pe::read(&stub).map_err(broken)?;
    if program.architecture != architecture.as_str() {
        return Err(EngineError::Definition {
            message: format!("the stub {path} is for {}, and the board is {architecture}", program.architecture),
            help: "name another with `stub` in the board, or choose another board".into(),
        });
    }
    let kernel = kernel_of(input.tree, image)?;
    let bytes = |text: Vec<u8>| {
        let mut out = Extents::new();
        out.bytes(text);
        out
    };
    let release = root.read("/usr/lib/os-release").map_err(crate::compose::settled)?.unwrap_or_default();
    let mut sections = vec![
        (".osrel", bytes(release)),
        (".cmdline", bytes(command_line(input).into_bytes())),
        (".uname", bytes(kernel.version.clone().into_bytes())),
    ];
    if let Some((digest, size)) = initrd(input)? {
        let mut content = Extents::new();
        content.blob(digest, size);
        sections.push((".initrd", content));
    }
    let mut linux = Extents::new();
    linux.blob(kernel.digest, kernel.size);
    sections.push((".linux", linux));
    pe::with_sections(&stub, sections).map_err(broken)
}

/// What the firmware or its loader looks for, put into the tree of a boot partition.
pub(crate) fn boot_files(tree: &mut Tree, input: &DiskInput<'_>) -> Result<()> {
    let Some(board) = input.board else { return Ok(()) };
    let name = format!("/EFI/BOOT/{}", board.architecture.efi_default_name());
    let mut put = |path: &str, entry: Entry| {
        if let Ok(at) = TreePath::new(path) {
            tree.insert(at, Entry { mtime: input.epoch, ..entry });
        }
    };
    match board.boot {
        BootMethod::None => return Ok(()),
        BootMethod::EfiApp | BootMethod::Entries => {
            let Some(app) = &board.efi_app else { return Ok(()) };
            let root = Root::new(input.tree.clone(), input.store, input.epoch);
            let Some(entry @ Entry { kind: Kind::File { .. }, .. }) = root.entry(&app.value) else {
                return Err(EngineError::Definition {
                    message: format!("board {} starts {}, which is not in the image", board.board.value, app.value),
                    help: format!("add the package that has it to the image or the board; written at {}", app.at),
                });
            };
            put(&name, entry.clone());
            if board.boot == BootMethod::Entries {
                entries(&mut put, input)?;
            }
        }
        BootMethod::Uki => {
            let image = unified(input)?;
            let store = input.store;
            let kept = keep(store, |out| image.write_to(store, out));
            let (digest, size) =
                kept.map_err(|e| EngineError::other(format!("the unified kernel image cannot be written: {e}"), ""))?;
            put(&name, Entry::file(digest, size));
        }
    }
    tree.add_missing_directories(input.epoch);
    Ok(())
}

/// A Boot Loader Specification entry (type 1) with its kernel and initial file system.
fn entries(put: &mut dyn FnMut(&str, Entry), input: &DiskInput<'_>) -> Result<()> {
    let kernel = kernel_of(input.tree, &input.image.image.value)?;
    let (id, version) = (&input.image.image.value, &input.image.version);
    let base = format!("/{id}/{version}");
    put(&format!("{base}/linux"), Entry::file(kernel.digest, kernel.size));
    let title = if input.image.summary.is_empty() { id.to_string() } else { input.image.summary.clone() };
    let mut text = format!("title {title}\nversion {version}\nlinux {base}/linux\n");
    if let Some((digest, size)) = initrd(input)? {
        put(&format!("{base}/initrd"), Entry::file(digest, size));
        text += &format!("initrd {base}/initrd\n");
    }
    text += &format!("options {}\n", command_line(input));
    let mut file = |path: &str, text: String| -> Result<()> {
        let (digest, size) = (input.store.put_bytes(text.as_bytes())?, text.len() as u64);
        put(path, Entry::file(digest, size));
        Ok(())
    };
    file(&format!("/loader/entries/{id}-{version}.conf"), text)?;
    file("/loader/loader.conf", format!("default {id}-{version}.conf\ntimeout 0\n"))
}
