//! What readers of formats give, and what they need to find the files of an image.

use crate::held::Held;
use crate::layer::{Layer, Result, Wrong};
use badger_drive::raw::RawFile;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;

/// Files of one layer.
const MOST_FILES: usize = 1000;
/// What comes out of one packed piece.
pub(crate) const MOST_UNPACKED: usize = 8 << 20;

/// Which format.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// QCOW2, versions 2 and 3.
    Qcow2,
    /// VHD.
    Vhd,
    /// VHDX.
    Vhdx,
    /// VMDK.
    Vmdk,
    /// VDI.
    Vdi,
    /// The drive's bytes as they are.
    Raw,
}

impl Format {
    /// By the word for it, the ending of a name too: `Some(None)` is our own format, `None` nothing that is known.
    pub fn of_word(word: &str) -> Option<Option<Self>> {
        Some(match word.to_lowercase().as_str() {
            "zbi" => None,
            "qcow2" => Some(Self::Qcow2),
            "vhd" => Some(Self::Vhd),
            "vhdx" => Some(Self::Vhdx),
            "vmdk" => Some(Self::Vmdk),
            "vdi" => Some(Self::Vdi),
            "raw" | "img" | "dd" | "001" => Some(Self::Raw),
            _ => return None,
        })
    }

    /// By the ending of a file's name.
    pub fn of_name(path: &Path) -> Option<Option<Self>> {
        Self::of_word(path.extension()?.to_str()?)
    }

    /// By the ending of a file's name, also by those that other programs give the same formats; what an ending means that nobody gives a
    /// format is not known.
    pub fn of_ending(path: &Path) -> Option<Option<Self>> {
        let ending = path.extension()?.to_str()?.to_lowercase();
        match ending.as_str() {
            "qcow" | "qc2" => Some(Some(Self::Qcow2)),
            "vpc" | "avhd" => Some(Some(Self::Vhd)),
            "avhdx" => Some(Some(Self::Vhdx)),
            other => Self::of_word(other),
        }
    }

    /// The word for it on the command line.
    pub fn option(self) -> &'static str {
        match self {
            Self::Qcow2 => "qcow2",
            Self::Vhd => "vhd",
            Self::Vhdx => "vhdx",
            Self::Vmdk => "vmdk",
            Self::Vdi => "vdi",
            Self::Raw => "raw",
        }
    }

    /// The name for a screen.
    pub fn word(self) -> &'static str {
        match self {
            Self::Qcow2 => "QCOW2",
            Self::Vhd => "VHD",
            Self::Vhdx => "VHDX",
            Self::Vmdk => "VMDK",
            Self::Vdi => "VDI",
            Self::Raw => "raw",
        }
    }
}

/// What a reader of a format found.
pub(crate) struct Opened {
    pub layer: Box<dyn Layer>,
    pub files: Arc<Vec<Held>>,
    /// What lies below, as it is named in the container.
    pub below: Option<Below>,
    /// By what a container above knows this one.
    pub link: Option<String>,
}

/// What a container says lies below it.
pub(crate) struct Below {
    /// Names by which it may be found, the likeliest first.
    pub names: Vec<String>,
    /// Whether it is said to be raw whatever its bytes look like.
    pub is_raw: bool,
    /// What it has to say of itself, where the format tells: any one of these.
    pub links: Vec<String>,
}

/// Where a file lies that a container names. An image must not make anybody read files that have nothing to do with it: only
/// what lies in its own directory, or below, is taken.
pub(crate) fn beside(path: &Path, names: &[String]) -> Result<PathBuf> {
    let dir = path.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let inner = |name: &str| {
        let name = name.replace('\\', "/");
        let name = Path::new(&name);
        let plain = name.components().all(|part| matches!(part, Component::Normal(_) | Component::CurDir));
        plain.then(|| name.to_path_buf()).into_iter().chain(name.file_name().map(PathBuf::from))
    };
    // A link beside the image could lead to any file of this machine.
    let root = dir.canonicalize().map_err(|error| Wrong::new(format!("{}: {error}", dir.display())))?;
    let within = |path: PathBuf| path.canonicalize().ok().filter(|path| path.starts_with(&root) && path.is_file());
    let found = names.iter().flat_map(|name| inner(name).map(|name| dir.join(name)).collect::<Vec<_>>()).find_map(within);
    found.ok_or_else(|| {
        let named = names.first().map_or("a file without a name", |name| name.as_str());
        Wrong::new(format!("it rests on {named}, which is not beside it: put it into {}", dir.display()))
    })
}

/// Opens the files of a container by their names.
pub(crate) fn files(paths: &[PathBuf]) -> Result<Arc<Vec<Held>>> {
    if paths.len() > MOST_FILES {
        return Err(Wrong::new(format!("it says that it lies in {} files", paths.len())));
    }
    let opened = paths.iter().map(|path| {
        let file = RawFile::open(path).map_err(|error| Wrong::new(format!("{}: {error}", path.display())))?;
        Ok(Held::new(file))
    });
    Ok(Arc::new(opened.collect::<Result<_>>()?))
}
