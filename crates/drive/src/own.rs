//! Decides where the program may write files of its own: ledger, journals, log, temporary files, standard output, maps, copies. None of
//! them may lie on a drive that is read or overwritten, nor where a layer hides which drive it lies on.

use crate::apart::{Apart, is_apart};
use crate::ground::Ground;
use crate::paths::real;
use crate::refusal::Refusal;
use crate::source::Source;
use crate::sysfs::Sysfs;
use std::fs::File;
use std::path::{Path, PathBuf};

/// A file that the program writes besides what it is asked to write.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OwnFile {
    /// Where; it need not be there yet.
    pub path: PathBuf,
    /// What for.
    pub kind: OwnKind,
}

/// What a file of the program's own is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OwnKind {
    /// The ledger and its journals.
    Ledger,
    /// The log.
    Log,
    /// Temporary files.
    Temporary,
    /// Standard output and standard error.
    Output,
    /// The salvage map and the files beside it.
    Map,
}

impl OwnKind {
    /// The codes of a refusal, where it lies on the source and where on the target.
    fn codes(self) -> [&'static str; 2] {
        match self {
            Self::Ledger => ["ledger-on-source", "ledger-on-target"],
            Self::Log => ["log-on-source", "log-on-target"],
            Self::Temporary => ["temporary-on-source", "temporary-on-target"],
            Self::Output => ["output-on-source", "output-on-target"],
            Self::Map => ["map-misplaced"; 2],
        }
    }

    fn way(self, path: &Path) -> (String, &'static str) {
        let path = path.display();
        match self {
            Self::Ledger => (format!("the ledger's {path}"), "take another ledger with --ledger"),
            Self::Log => (format!("the log {path}"), "name another place with XDG_STATE_HOME"),
            Self::Temporary => (format!("the directory for temporary files, {path},"), "name another place with TMPDIR"),
            Self::Output => ("the standard output".into(), "send it to another place"),
            Self::Map => (path.to_string(), "name another place for the map"),
        }
    }
}

/// A drive that a file of ours must not lie on.
pub struct RunDrive<'a> {
    /// What it stands on.
    pub ground: &'a Ground,
    /// Its name, where it is a file that is made.
    pub path: Option<&'a Path>,
    /// The drive itself, where it is read; `None` for one that is overwritten.
    pub source: Option<&'a Source>,
}

impl<'a> RunDrive<'a> {
    /// A drive that is read.
    pub fn source(source: &'a Source) -> Self {
        Self { ground: source.ground(), path: None, source: Some(source) }
    }

    /// A drive that is overwritten.
    pub fn target(ground: &'a Ground, path: &'a Path) -> Self {
        Self { ground, path: Some(path), source: None }
    }
}

/// What a file stands on, or will stand on once it is there.
pub fn ground_of(path: &Path, sysfs: &Sysfs) -> Ground {
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    // A link to nothing is as good as the place that it names.
    match absolute.ancestors().find(|path| path.exists()) {
        // Of a directory it is the files in it that count: another file there is another file.
        Some(there) if there == absolute && !there.is_dir() => Ground::of(there, sysfs),
        Some(dir) => Ground::of_new_file(dir, sysfs),
        None => Ground::default(),
    }
}

/// The nearest directory of a path that is there.
fn nearest(path: &Path) -> PathBuf {
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    absolute.ancestors().find(|path| path.is_dir()).unwrap_or(Path::new("/")).to_path_buf()
}

/// Where standard output and standard error go, where that is a file or a drive.
pub fn outputs() -> Vec<OwnFile> {
    use std::os::unix::fs::FileTypeExt;
    let paths = ["/proc/self/fd/1", "/proc/self/fd/2"].map(PathBuf::from);
    let is_storage = |path: &PathBuf| std::fs::metadata(path).is_ok_and(|meta| meta.is_file() || meta.file_type().is_block_device());
    paths.into_iter().filter(is_storage).map(|path| OwnFile { path, kind: OwnKind::Output }).collect()
}

/// Refuses where one of the files lies on a drive, or may lie on one that is read.
///
/// # Errors
/// Which one, where, and what to do.
pub fn keep_off<'f>(files: impl IntoIterator<Item = &'f OwnFile>, sides: &[RunDrive], sysfs: &Sysfs, trusted: bool) -> Result<(), Refusal> {
    for OwnFile { path, kind } in files {
        let ground = ground_of(path, sysfs);
        let (what, way) = kind.way(path);
        for side in sides {
            let (code, word) = if side.source.is_some() { (kind.codes()[0], "source") } else { (kind.codes()[1], "target") };
            // What is not there yet has a name only, and two files that are made may have the same one.
            if ground.touches(side.ground) || side.path.is_some_and(|other| real(other) == real(path)) {
                return Err(Refusal::new(code, format!("{what} lies on the {word}: {way}")));
            }
            if let Some(source) = side.source.filter(|_| !ground.hidden.is_empty() && !trusted) {
                let dir = std::fs::read_link(path).ok().filter(|_| *kind == OwnKind::Output).map_or_else(|| nearest(path), |path| nearest(&path));
                refuse_hidden(&dir, &ground, source).map_err(|refusal| Refusal::new(refusal.code, format!("{what}: {}", refusal.text)))?;
            }
        }
    }
    Ok(())
}

/// Refuses a directory of which nobody knows what lies below it, unless the system shows that nothing that is written there is written
/// to the source.
///
/// # Errors
/// `target-on-source` or `not-told-apart`, with what to do.
pub fn refuse_hidden(dir: &Path, ground: &Ground, source: &Source) -> Result<(), Refusal> {
    if ground.hidden.is_empty() {
        return Ok(());
    }
    let told = File::open(dir).and_then(|dir| is_apart(&dir, &**source));
    match told {
        Ok(Apart::Yes) => Ok(()),
        Ok(Apart::No) => {
            let text = format!("{} lies on the source: what is written there is written to it; choose a place on another drive", dir.display());
            Err(Refusal::new("target-on-source", text))
        }
        Ok(Apart::Unknown) | Err(_) => {
            let text = format!(
                "whether {} lies on the source is not known, as {} hides what is below; choose a local place, or say --trust-destination where you know it",
                dir.display(),
                ground.hidden.join(", ")
            );
            Err(Refusal::new("not-told-apart", text))
        }
    }
}
