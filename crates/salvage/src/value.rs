//! What matters first on a drive: its tables and boot areas, what its file systems keep for themselves, what was picked, what is in use.

use crate::holed;
use crate::strategy::Worth;
use badger_drive::{Extents, Source};
use badger_inspect::{Looked, volumes};
use std::ops::Range;

/// Free stretches shorter than this are read along with what is around them: a jump costs more.
const WORTH_A_JUMP: u64 = 4 << 20;

/// What is wanted.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Wanted {
    /// Files and folders that come first, as `#NUMBER/PATH`.
    pub first: Vec<String>,
    /// Free space is left out.
    pub used: bool,
}

/// What the places of a drive are worth.
#[derive(Clone, Debug, Default)]
pub struct Values {
    /// Ranges of another worth than what is in use; `None` is left out. Later ones count.
    pub ranges: Vec<(Range<u64>, Option<Worth>)>,
    /// Files that come first, each with all its places.
    pub files: Vec<Vec<Range<u64>>>,
    /// What was wanted and cannot be found, and why.
    pub not_found: Vec<(String, String)>,
    /// Free bytes.
    pub free: u64,
    /// Partitions, each with its number, name and format.
    pub places: Vec<(Range<u64>, String)>,
}

/// The number of a partition and a path in it; a path alone is in the only volume.
pub fn parted(wanted: &str) -> (Option<u32>, &str) {
    let parts = wanted.strip_prefix('#').and_then(|rest| {
        let end = rest.find('/').unwrap_or(rest.len());
        Some((rest[..end].parse().ok()?, &rest[end..]))
    });
    parts.map_or((None, wanted), |(number, path)| (Some(number), path))
}

/// Looks at a drive. Whatever is read for that is of the first worth, and is read here.
pub fn look(drive: &Source, wanted: &Wanted) -> Values {
    let mut out = Values::default();
    let size = drive.geometry().size_bytes;
    let looked = Looked::at_structures(drive);
    for partition in looked.table.data_partitions() {
        let (start, len) = looked.table.place(partition);
        let volume = looked.volume(partition.number);
        let name = volume.map(|volume| volume.label.as_str()).filter(|label| !label.is_empty()).unwrap_or(&partition.name);
        let kind = volume.map_or("", |volume| volume.kind.word());
        out.places.push((start..start.saturating_add(len), format!("{} {name} {kind}", partition.number).trim_end().to_string()));
    }
    let surveyed = volumes::survey(drive, &looked);
    let (needed, _) = volumes::needed(&surveyed, size);
    let mut used: Extents<()> = Extents::new();
    needed.iter().for_each(|(range, ())| used.set(range, ()));
    for gap in used.gaps(0..size) {
        if gap.end - gap.start >= WORTH_A_JUMP {
            out.free += gap.end - gap.start;
            out.ranges.push((gap, if wanted.used { None } else { Some(Worth::Empty) }));
        }
    }
    for one in &wanted.first {
        let (number, path) = parted(one);
        let volume = surveyed.iter().find(|volume| number.is_none_or(|number| number == volume.number)).and_then(|volume| volume.walked.as_ref());
        let found = match volume {
            Some((volume, _)) => holed::ranges(&**volume, path),
            None => Err("there is no volume that can be read".into()),
        };
        match found {
            Ok(files) => out.files.extend(files),
            Err(why) => out.not_found.push((one.clone(), why)),
        }
    }
    out
}
