//! The kinds of definitions as typed values: what the keys are called and what they may hold.

mod board;
mod image;
mod recipe;
mod workspace;

pub use board::{BoardDef, BoardStatus, BootMethod, EmulatorDef, RawDef};
pub use image::{
    AllowDef, CheckDef, ContainerDef, DiskDef, FileDef, FilesystemKind, FinishDef, GroupDef, ImageDef,
    InitrdCompression, InitrdDef, LayerCompression, Output, PartitionAttribute, PartitionDef, Scripts, Seconds,
    ServicesDef, SystemDef, TableKind, UserDef,
};
pub use recipe::{Method, NeedsDef, OptionDef, RecipeDef, SourceDef, SplitDef, StepsDef};
pub(crate) use workspace::AmendmentForm;
pub use workspace::{
    LayerDef, LayerSource, RecipeSettings, RepositoryDef, RepositoryFormat, ToolchainDef, WorkspaceDef,
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

/// A processor architecture a package or board can be for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Architecture {
    /// 64-bit x86.
    #[serde(rename = "x86_64")]
    X86_64,
    /// 64-bit ARM.
    #[serde(rename = "aarch64")]
    Aarch64,
    /// 32-bit ARM with hardware floating point.
    #[serde(rename = "armv7")]
    Armv7,
    /// 64-bit RISC-V.
    #[serde(rename = "riscv64")]
    Riscv64,
}

impl Architecture {
    /// As users write it.
    pub fn as_str(self) -> &'static str {
        match self {
            Architecture::X86_64 => "x86_64",
            Architecture::Aarch64 => "aarch64",
            Architecture::Armv7 => "armv7",
            Architecture::Riscv64 => "riscv64",
        }
    }

    /// How wide its registers are: 32 or 64 bits.
    pub fn bits(self) -> u32 {
        match self {
            Architecture::Armv7 => 32,
            Architecture::X86_64 | Architecture::Aarch64 | Architecture::Riscv64 => 64,
        }
    }

    /// The architecture this program runs on, if it is one of these.
    pub fn host() -> Option<Self> {
        match std::env::consts::ARCH {
            "x86_64" => Some(Architecture::X86_64),
            "aarch64" => Some(Architecture::Aarch64),
            "arm" => Some(Architecture::Armv7),
            "riscv64" => Some(Architecture::Riscv64),
            _ => None,
        }
    }

    /// The GNU triple of a Linux system of this architecture.
    pub fn triple(self) -> &'static str {
        match self {
            Architecture::X86_64 => "x86_64-linux-gnu",
            Architecture::Aarch64 => "aarch64-linux-gnu",
            Architecture::Armv7 => "arm-linux-gnueabihf",
            Architecture::Riscv64 => "riscv64-linux-gnu",
        }
    }

    /// What the OCI image specification calls it (`GOARCH` values).
    pub fn oci(self) -> &'static str {
        match self {
            Architecture::X86_64 => "amd64",
            Architecture::Aarch64 => "arm64",
            Architecture::Armv7 => "arm",
            Architecture::Riscv64 => "riscv64",
        }
    }

    /// The name of the program UEFI firmware starts from removable media (UEFI specification, section 3.5.1.1).
    pub fn efi_default_name(self) -> &'static str {
        match self {
            Architecture::X86_64 => "BOOTX64.EFI",
            Architecture::Aarch64 => "BOOTAA64.EFI",
            Architecture::Armv7 => "BOOTARM.EFI",
            Architecture::Riscv64 => "BOOTRISCV64.EFI",
        }
    }
}

impl fmt::Display for Architecture {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}
