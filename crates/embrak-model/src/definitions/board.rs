//! `boards/NAME.toml`: a piece of hardware or an emulated machine.

use super::{Architecture, DiskDef};
use crate::{ByteSize, Located, Name};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A piece of hardware or an emulated machine.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct BoardDef {
    /// Its name.
    pub board: Located<Name>,
    /// One line about it.
    pub summary: String,
    /// How far it can be relied on.
    #[serde(default)]
    pub status: BoardStatus,
    /// Its processor.
    pub architecture: Architecture,
    /// How it starts.
    pub boot: BootMethod,
    /// For `boot = "efi-app"` and `boot = "entries"`: the program in the image that the firmware starts.
    pub efi_app: Option<Located<String>>,
    /// For `boot = "uki"`: the stub in the image that kernel and initial file system are added to; where systemd puts
    /// it when not said.
    pub stub: Option<Located<String>>,
    /// Serial console, `ttyS0,115200`.
    pub console: Option<String>,
    /// What the hardware needs in every image.
    #[serde(default)]
    pub packages: Vec<Located<String>>,
    /// What the hardware needs on the kernel's command line.
    #[serde(default)]
    pub kernel_args: Vec<String>,
    /// Bytes at fixed places on the disk.
    #[serde(default)]
    pub raw: Vec<RawDef>,
    /// The disk when the image does not say.
    pub disk: Option<DiskDef>,
    /// How to start it on this machine.
    pub emulator: Option<EmulatorDef>,
}

/// How far a board can be relied on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, Default, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum BoardStatus {
    /// Tested with every release.
    Supported,
    /// Kept alive by its users.
    #[default]
    Community,
    /// Not known to work.
    Experimental,
    /// No longer looked after.
    Retired,
}

/// How a board starts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum BootMethod {
    /// UEFI firmware starts a program of ours.
    EfiApp,
    /// UEFI firmware starts a unified kernel image.
    Uki,
    /// A loader reads entries of the Boot Loader Specification.
    Entries,
    /// Nothing of the image is started by the board itself.
    None,
}

/// Bytes at a fixed place on the disk.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RawDef {
    /// Where, from the start of the disk.
    pub offset: Located<ByteSize>,
    /// The file in the image's tree.
    pub from: Located<String>,
}

/// How `embrak boot` starts a board.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct EmulatorDef {
    /// The emulator's name for the machine.
    pub machine: String,
    /// Memory, 256 MiB when not said.
    pub memory: Option<ByteSize>,
}
