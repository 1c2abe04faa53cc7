//! `images/NAME.toml`: what is composed.

use super::{Architecture, RecipeSettings};
use crate::size::through_string;
use crate::{Located, Mode, Name, SizeSpec};
use embrak_resolve::Prefer;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

/// What is composed.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ImageDef {
    /// Its name.
    pub image: Located<Name>,
    /// Its version.
    #[serde(default = "default_version")]
    pub version: String,
    /// One line about it.
    #[serde(default)]
    pub summary: String,
    /// The image this one extends.
    pub extends: Option<Name>,
    /// Whether it is only there to be extended.
    #[serde(default, rename = "abstract")]
    pub is_abstract: bool,
    /// Requirements: what is to be in it.
    #[serde(default)]
    pub packages: Vec<Located<String>>,
    /// Requirements: never install, whatever asks.
    #[serde(default)]
    pub without: Vec<Located<String>>,
    /// Directories and tar archives of the layer laid over the root, in this order.
    #[serde(default)]
    pub overlays: Vec<Located<String>>,
    /// Whether to add what packages recommend, as far as it goes together.
    #[serde(default)]
    pub recommends: bool,
    /// Which version of a package, when several will do and none is locked.
    #[serde(default)]
    #[schemars(with = "PreferForm")]
    pub prefer: Prefer,
    /// Requirements a package has to keep to if it is chosen, whoever asks for it.
    #[serde(default)]
    pub pin: Vec<Located<String>>,
    /// Packages that `lock --update` leaves as they are.
    #[serde(default)]
    pub hold: Vec<Located<Name>>,
    /// Settings of single recipes, without touching them.
    #[serde(default)]
    pub recipe: BTreeMap<Name, RecipeSettings>,
    /// Recipe options, by recipe, then option.
    #[serde(default)]
    pub options: BTreeMap<Name, BTreeMap<Name, Located<bool>>>,
    /// What is to come out.
    #[serde(default)]
    pub outputs: Vec<Located<Output>>,
    /// Host name, time zone, locale.
    #[serde(default)]
    pub system: SystemDef,
    /// Files with their text.
    #[serde(default)]
    pub file: Vec<FileDef>,
    /// Users by name; those that packages bring can be changed here, root among them.
    #[serde(default)]
    pub users: BTreeMap<Name, UserDef>,
    /// Groups besides those of users, by name.
    #[serde(default)]
    pub groups: BTreeMap<Name, GroupDef>,
    /// What becomes of the maintainer scripts of ready-made packages.
    #[serde(default)]
    pub scripts: Scripts,
    /// Units of the service manager.
    #[serde(default)]
    pub services: ServicesDef,
    /// What the image needs on the kernel's command line.
    #[serde(default)]
    pub kernel_args: Vec<Located<String>>,
    /// The initial file system that finds the root.
    pub initrd: Option<InitrdDef>,
    /// Steps run inside the composed root, in this order, each kept as long as nothing before it changes.
    #[serde(default)]
    pub finish: Vec<FinishDef>,
    /// The disk; the board's when not said.
    pub disk: Option<DiskDef>,
    /// For the `container` outputs.
    pub container: Option<ContainerDef>,
    /// What has to be so in the result.
    #[serde(default)]
    pub check: Vec<CheckDef>,
    /// What `audit` may find, with the reason.
    #[serde(default)]
    pub allow: Vec<AllowDef>,
}

/// Something `audit` finds that is meant to be so.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct AllowDef {
    /// The rule, such as `set-id`.
    pub rule: Located<String>,
    /// A glob over what it is found at: a path, a user, a partition.
    pub at: String,
    /// Why it is all right.
    pub reason: String,
    /// The last day it is, `YYYY-MM-DD`; always when not said.
    pub until: Option<String>,
}

#[derive(JsonSchema)]
#[schemars(rename_all = "kebab-case")]
#[expect(dead_code, reason = "only its schema is used")]
enum PreferForm {
    /// The newest that will do.
    Newest,
    /// The oldest that will do.
    Minimal,
}

fn default_version() -> String {
    "0".to_string()
}

/// One form the image comes out in, `FORM:ENCODING`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Output {
    /// A disk as it is.
    DiskRaw,
    /// The same, gzip.
    DiskRawGz,
    /// The same, zstd.
    DiskRawZst,
    /// A disk as qcow2, version 3.
    DiskQcow2,
    /// The same with compressed clusters.
    DiskQcow2Compressed,
    /// The root as a tar archive.
    RootTar,
    /// The same, gzip.
    RootTarGz,
    /// The same, zstd.
    RootTarZst,
    /// The root as an ext4 filesystem.
    RootExt4,
    /// The initial file system, or the whole root when the image has none, as a cpio archive.
    InitrdCpio,
    /// The same, gzip.
    InitrdCpioGz,
    /// The same, xz.
    InitrdCpioXz,
    /// The same, zstd.
    InitrdCpioZst,
    /// The same, LZ4.
    InitrdCpioLz4,
    /// The kernel alone.
    Kernel,
    /// A unified kernel image.
    Uki,
    /// An OCI image layout, a directory.
    ContainerOci,
    /// An OCI image layout in a tar archive.
    ContainerOciArchive,
    /// The tree manifest.
    Manifest,
}

impl Output {
    /// All there are, in the order they are listed.
    pub const ALL: [(Output, &'static str); 19] = [
        (Output::DiskRaw, "disk:raw"),
        (Output::DiskRawGz, "disk:raw.gz"),
        (Output::DiskRawZst, "disk:raw.zst"),
        (Output::DiskQcow2, "disk:qcow2"),
        (Output::DiskQcow2Compressed, "disk:qcow2-compressed"),
        (Output::RootTar, "rootfs:tar"),
        (Output::RootTarGz, "rootfs:tar.gz"),
        (Output::RootTarZst, "rootfs:tar.zst"),
        (Output::RootExt4, "rootfs:ext4"),
        (Output::InitrdCpio, "initrd:cpio"),
        (Output::InitrdCpioGz, "initrd:cpio.gz"),
        (Output::InitrdCpioXz, "initrd:cpio.xz"),
        (Output::InitrdCpioZst, "initrd:cpio.zst"),
        (Output::InitrdCpioLz4, "initrd:cpio.lz4"),
        (Output::Kernel, "kernel"),
        (Output::Uki, "uki"),
        (Output::ContainerOci, "container:oci"),
        (Output::ContainerOciArchive, "container:oci-archive"),
        (Output::Manifest, "manifest"),
    ];

    /// What to do with it, in a line.
    pub fn advice(self) -> &'static str {
        match self {
            Output::DiskRaw => "write this to the disk or SD card, or start it in an emulator",
            Output::DiskRawGz | Output::DiskRawZst => "unpack this while writing it to the disk or SD card",
            Output::DiskQcow2 | Output::DiskQcow2Compressed => "start this in a virtual machine",
            Output::RootExt4 => "write this to the partition of the root, or mount it",
            Output::InitrdCpio
            | Output::InitrdCpioGz
            | Output::InitrdCpioXz
            | Output::InitrdCpioZst
            | Output::InitrdCpioLz4 => "give this to the kernel as its initial file system",
            Output::Kernel => "start this with the initial file system, by a loader or from an emulator",
            Output::Uki => "put this on the EFI system partition: kernel, initial file system and command line in one",
            Output::RootTar | Output::RootTarGz | Output::RootTarZst => "unpack this where a root directory is wanted",
            Output::ContainerOci => "point tools that read OCI image layouts at this directory",
            Output::ContainerOciArchive => "load this into a container engine",
            Output::Manifest => "compare this with another build's: every file with its digest",
        }
    }
}

impl FromStr for Output {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        Output::ALL.into_iter().find(|(_, name)| *name == text).map(|(output, _)| output).ok_or_else(|| {
            let names = Output::ALL.map(|(_, name)| name);
            match crate::source::suggestion(text, names) {
                Some(close) => format!("no output `{text}`, did you mean `{close}`?"),
                None => format!("no output `{text}`; there are {}", names.join(", ")),
            }
        })
    }
}

impl fmt::Display for Output {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(Output::ALL.into_iter().find(|(output, _)| output == self).map_or("", |(_, name)| name))
    }
}
through_string!(Output, "^[a-z]+(:[a-z0-9.-]+)?$");

/// Settings of the system as a whole.
#[derive(Debug, Clone, PartialEq, Deserialize, Default, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct SystemDef {
    /// Written to `/etc/hostname`.
    pub hostname: Option<Located<String>>,
    /// `/etc/localtime` points to it below `/usr/share/zoneinfo`.
    pub timezone: Option<Located<String>>,
    /// `LANG` in `/etc/locale.conf`.
    pub locale: Option<Located<String>>,
    /// Kernel settings, written to `/etc/sysctl.d/50-image.conf`.
    #[serde(default)]
    pub sysctl: BTreeMap<String, String>,
    /// Kernel modules loaded at the start, written to `/etc/modules-load.d/image.conf`.
    #[serde(default)]
    pub modules: Vec<Located<String>>,
}

/// What becomes of the maintainer scripts of ready-made packages.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, Default, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Scripts {
    /// Nothing of the packages runs: what scripts would do is read from them and done by Embrak.
    #[default]
    Declared,
    /// They run, isolated, and what they leave is captured.
    Run,
}

/// A group.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct GroupDef {
    /// Its number; follows from its name when not said.
    pub gid: Option<u32>,
}

/// Units of the service manager, by their whole names.
#[derive(Debug, Clone, PartialEq, Deserialize, Default, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ServicesDef {
    /// Started, as their `[Install]` sections say.
    #[serde(default)]
    pub enable: Vec<Located<String>>,
    /// Not started by themselves, whatever their packages say.
    #[serde(default)]
    pub disable: Vec<Located<String>>,
    /// Never started, whoever asks.
    #[serde(default)]
    pub mask: Vec<Located<String>>,
}

/// The initial file system.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct InitrdDef {
    /// A ready one in the root; the other keys but `compression` make no sense with it.
    pub file: Option<Located<String>>,
    /// Globs of files of the root that go into it; libraries that programs among them need come along.
    #[serde(default)]
    pub include: Vec<Located<String>>,
    /// Kernel modules that go into it and are loaded in this order; those they need come along.
    #[serde(default)]
    pub modules: Vec<Located<String>>,
    /// The program in the root that is started as `/init`; one of Embrak's when not said, which needs a `busybox`
    /// among the files.
    pub init: Option<Located<String>>,
    /// How it is packed in unified kernel images and on disks.
    #[serde(default)]
    pub compression: InitrdCompression,
}

/// How an initial file system is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, Default, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum InitrdCompression {
    /// zstd.
    #[default]
    Zstd,
    /// gzip: every kernel reads it.
    Gzip,
    /// xz: the smallest.
    Xz,
    /// LZ4: the fastest to unpack.
    Lz4,
    /// Not at all.
    None,
}

/// A step run inside the composed root.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct FinishDef {
    /// What is run, by the root's own `/bin/sh -eu`.
    pub run: Located<String>,
    /// How long it may take, 10 minutes when not said.
    pub time_limit: Option<Seconds>,
}

/// A file with its text.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct FileDef {
    /// Where.
    pub path: Located<String>,
    /// Its text.
    pub text: Option<String>,
    /// A file of the layer that has its contents.
    pub from: Option<Located<String>>,
    /// Whether `${NAME}` in the contents of `from` is replaced by parameters; `$$` then stands for a dollar sign.
    #[serde(default)]
    pub template: bool,
    /// Its mode, 0644 when not said.
    pub mode: Option<Mode>,
    /// `user:group` by name or number, `root:root` when not said.
    pub owner: Option<Located<String>>,
}

/// A user.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct UserDef {
    /// User number; the group of the same name gets the same one. Follows from the name when not said.
    pub uid: Option<u32>,
    /// Further groups.
    #[serde(default)]
    pub groups: Vec<Located<Name>>,
    /// Login program, `/bin/sh` when not said.
    pub shell: Option<String>,
    /// Home directory, `/home/NAME` when not said.
    pub home: Option<Located<String>>,
    /// Public keys for SSH, one line each.
    #[serde(default)]
    pub ssh_keys: Vec<String>,
    /// `locked` (the default) or a crypt(3) hash; never clear text.
    pub password: Option<Located<String>>,
}

/// How a disk is divided.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct DiskDef {
    /// The partition table.
    #[serde(default)]
    pub table: TableKind,
    /// Size of the whole disk; as large as needed when not said.
    pub size: Option<Located<crate::ByteSize>>,
    /// The partitions in their order on the disk.
    #[serde(default)]
    pub partition: Vec<PartitionDef>,
}

/// Kinds of partition tables.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, Default, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TableKind {
    /// GUID partition table (UEFI specification, chapter 5).
    #[default]
    Gpt,
    /// Master boot record: four partitions at most.
    Mbr,
}

/// One partition.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PartitionDef {
    /// Its name in the table, at most 36 characters, and the filesystem's label.
    pub label: Located<String>,
    /// A name of the Discoverable Partitions Specification (`esp`, `root`, `usr`, `var`, `home`, `srv`, `tmp`, `swap`,
    /// `xbootldr`, `linux-generic`) or a GUID.
    #[serde(rename = "type")]
    pub kind: Located<String>,
    /// How large.
    pub size: Located<SizeSpec>,
    /// What is on it.
    pub filesystem: Located<FilesystemKind>,
    /// Where it is mounted: it holds the tree from there on.
    pub mount: Option<Located<String>>,
    /// Options it is mounted with.
    #[serde(default)]
    pub mount_options: Vec<String>,
    /// Whether partition and filesystem grow to the end of the disk at the first start.
    #[serde(default)]
    pub grow: bool,
    /// Marks in the partition table.
    #[serde(default)]
    pub attributes: Vec<PartitionAttribute>,
    /// Blocks only root can use, in percent: 0 to 50, 1 when not said. For ext4.
    pub reserved: Option<u32>,
}

/// Marks in the partition table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PartitionAttribute {
    /// The platform needs it; nobody may delete it (bit 0).
    Required,
    /// Old firmware starts from it: bit 2, or the active mark of a master boot record.
    LegacyBoot,
    /// It is mounted read-only when it is found by its type (bit 60).
    ReadOnly,
    /// It is not mounted by its type alone (bit 63).
    NoAuto,
}

/// Kinds of filesystems.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FilesystemKind {
    /// FAT12, FAT16 or FAT32, whichever the size calls for.
    Fat,
    /// ext4.
    Ext4,
    /// None: zeros.
    None,
}

/// How a container starts.
#[derive(Debug, Clone, PartialEq, Deserialize, Default, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ContainerDef {
    /// The program with its fixed arguments.
    #[serde(default)]
    pub entrypoint: Vec<String>,
    /// Default arguments.
    #[serde(default)]
    pub command: Vec<String>,
    /// The user, by name of `[users]` or number.
    pub user: Option<Located<String>>,
    /// Environment.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
    /// Working directory.
    pub workdir: Option<String>,
    /// Ports it listens on: `8471/tcp`.
    #[serde(default)]
    pub ports: Vec<Located<String>>,
    /// Directories whose contents outlive the container.
    #[serde(default)]
    pub volumes: Vec<Located<String>>,
    /// Labels.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
    /// How layers are compressed.
    #[serde(default)]
    pub compression: LayerCompression,
    /// Architectures; the board's, or this machine's, when not said.
    #[serde(default)]
    pub architectures: Vec<Architecture>,
}

/// How container layers are compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, Default, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LayerCompression {
    /// gzip: every engine reads it.
    #[default]
    Gzip,
    /// zstd: smaller and faster.
    Zstd,
}

/// A number of seconds: `60s` or `2min`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Seconds(pub u64);

impl FromStr for Seconds {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        let parsed = match (text.strip_suffix("min"), text.strip_suffix('s')) {
            (Some(minutes), _) => minutes.trim().parse::<u64>().ok().and_then(|m| m.checked_mul(60)),
            (_, Some(seconds)) => seconds.trim().parse().ok(),
            _ => None,
        };
        parsed
            .filter(|s| (1..=7 * 86400).contains(s))
            .map(Seconds)
            .ok_or_else(|| format!("`{text}` is not a time span such as `60s` or `2min`"))
    }
}

impl fmt::Display for Seconds {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}s", self.0)
    }
}
through_string!(Seconds, "^[0-9]+ *(s|min)$");

/// Something that has to be so in the result. Exactly one of the three.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CheckDef {
    /// A text the console has to show after the start.
    pub console_says: Option<Located<String>>,
    /// How soon, 60 seconds when not said.
    pub within: Option<Seconds>,
    /// A glob of paths that must not be there.
    pub absent: Option<Located<String>>,
    /// A glob of paths of which one has to be there.
    pub present: Option<Located<String>>,
}
