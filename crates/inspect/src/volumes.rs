//! Going over the volumes of a drive: what is in use on it, and whether it is sound.

use crate::line::{Line, Stretch, Verdict};
use crate::looked::Looked;
use badger_drive::size::{human, thousands};
use badger_drive::{Extents, Source};
use badger_fs::recognise::{Recognised, State};
use badger_fs::{Kind, Survey, Volume, Weight};
use badger_layout::Table;
use badger_layout::fit::{Limits, Part};
use badger_layout::plan::InUse;

/// A volume that was gone over.
pub struct Surveyed {
    /// Number of its partition.
    pub number: u32,
    /// First byte on the drive.
    pub start: u64,
    /// Bytes of its partition.
    pub len: u64,
    /// What was recognised.
    pub volume: Recognised,
    /// The opened volume and what going over it brought; `None` where its format is only recognised.
    pub walked: Option<(Box<dyn Volume>, Survey)>,
}

/// Goes over every volume of a drive that can be walked.
pub fn survey(source: &Source, looked: &Looked) -> Vec<Surveyed> {
    let each = looked.volumes.iter().filter_map(|(number, volume)| {
        let partition = looked.table.partitions.iter().find(|partition| partition.number == *number)?;
        let (start, len) = looked.table.place(partition);
        let walked = badger_fs::open(source, start, len).ok().map(|fs| {
            let survey = fs.survey();
            (fs, survey)
        });
        Some(Surveyed { number: *number, start, len, volume: volume.clone(), walked })
    });
    each.collect()
}

impl Surveyed {
    /// What going over it brought.
    pub fn survey(&self) -> Option<&Survey> {
        self.walked.as_ref().map(|(_, survey)| survey)
    }

    /// Why nothing of the volume can be left out; `None` where it is known what is in use.
    pub fn must_be_whole(&self) -> Option<String> {
        let Some(survey) = self.survey() else { return Some("what is in use in it is not known".into()) };
        if let Some(doubt) = self.volume.doubt() {
            return Some(doubt);
        }
        if self.volume.size_bytes > self.len {
            return Some("it is longer than its partition".into());
        }
        // That it was open when it was last seen is said by itself. Grave ones first: they say most.
        let unsound = survey.findings.iter().filter(|finding| finding.weight > Weight::Note && finding.code != "volume-dirty");
        let unsound = unsound.max_by_key(|finding| finding.weight);
        unsound.map(|finding| format!("what is in use in it cannot be trusted: {}", finding.text))
    }
}

/// What a copy of only what is in use must read, and of which volumes it leaves something out. Everything outside of
/// those volumes is needed.
pub fn needed(surveyed: &[Surveyed], size: u64) -> (Extents<()>, Vec<InUse>) {
    let mut needed = Extents::new();
    needed.set(0..size, ());
    let mut sparing = Vec::new();
    for volume in surveyed {
        let end = volume.start.saturating_add(volume.len);
        let overlapped = surveyed.iter().any(|other| other.number != volume.number && other.start < end && other.start + other.len > volume.start);
        let Some(survey) = volume.survey().filter(|_| volume.must_be_whole().is_none() && !overlapped) else { continue };
        let inside = volume.volume.size_bytes.min(volume.len);
        let mut free_from = 0;
        for (range, _) in survey.usage.within(0..inside) {
            needed.clear(volume.start + free_from..volume.start + range.start);
            free_from = range.end;
        }
        needed.clear(volume.start + free_from..volume.start + inside);
        sparing.push(InUse { number: volume.number, start: volume.start, len: volume.len, used: survey.used() });
    }
    (needed, sparing)
}

/// How a volume is called: its label, or the number of its partition.
pub fn called(number: u32, volume: &Recognised) -> String {
    match (volume.label.as_str(), number) {
        ("", 0) => "the volume".into(),
        ("", number) => format!("partition {number}"),
        (label, _) => label.into(),
    }
}

/// How a volume is called, and its format.
pub fn name(number: u32, volume: &Recognised) -> String {
    format!("{}, {}", called(number, volume), volume.kind.word())
}

fn weight(weight: Weight) -> &'static str {
    match weight {
        Weight::Note => "note",
        Weight::Fault => "fault",
        Weight::Grave => "grave",
    }
}

/// One line of proof for each volume of a drive.
pub fn check(source: &Source, looked: &Looked) -> Vec<Line> {
    let sector = u64::from(source.geometry().logical_sector);
    survey(source, looked).iter().map(|volume| line(volume, sector)).collect()
}

/// What a survey says, as a line with its findings.
pub fn line(surveyed: &Surveyed, sector: u64) -> Line {
    let name = name(surveyed.number, &surveyed.volume);
    let Some(survey) = surveyed.survey() else {
        return match surveyed.volume.state {
            State::Damaged => Line::new("file-system", Verdict::Fails, format!("{name}: {}", surveyed.volume.problems.join("; "))),
            State::Dirty => {
                let text = format!("{name}: recognised, and not put away when it was last in use; its structures are not checked here");
                Line::new("file-system", Verdict::NotChecked, text)
            }
            _ => Line::new("file-system", Verdict::NotChecked, format!("{name}: recognised; its structures are not checked here")),
        };
    };
    if let Some(doubt) = surveyed.volume.doubt() {
        return Line::new("file-system", Verdict::NotChecked, format!("{name}: {doubt}"));
    }
    let faults = survey.findings.iter().filter(|finding| finding.weight > Weight::Note).count();
    let count = |count: u64, one: &str, more: &str| format!("{} {}", thousands(count), if count == 1 { one } else { more });
    let held =
        format!("{} in {}, {} in use", count(survey.files, "file", "files"), count(survey.directories, "folder", "folders"), human(survey.used()));
    let (result, text) = match faults {
        0 => (Verdict::Holds, format!("{name}: sound, {held}")),
        1 => (Verdict::Fails, format!("{name}: 1 fault, {held}")),
        more => (Verdict::Fails, format!("{name}: {more} faults, {held}")),
    };
    let mut line = Line::new("file-system", result, text);
    let places = survey.findings.iter().filter_map(|finding| finding.at);
    line.places = places.map(|at| Stretch { start: (surveyed.start + at) / sector, sectors: 1 }).collect();
    line.evidence = survey
        .findings
        .iter()
        .map(|finding| {
            let place = finding.at.map(|at| format!(", at sector {}", thousands((surveyed.start + at) / sector))).unwrap_or_default();
            format!("{} {}: {}{place}", weight(finding.weight), finding.code, finding.text)
        })
        .collect();
    line
}

/// What a fit must know of every partition of a drive, for a target with sectors of `sector` bytes.
pub fn parts(table: &Table, surveyed: &[Surveyed], sector: u32) -> Vec<Part> {
    let part = |partition: &badger_layout::Partition| {
        let volume = surveyed.iter().find(|volume| volume.number == partition.number);
        let plain = if partition.name.is_empty() { format!("partition {}", partition.number) } else { partition.name.clone() };
        let mut part = Part {
            number: partition.number,
            name: volume.map(|volume| called(volume.number, &volume.volume)).filter(|name| !name.is_empty()).unwrap_or(plain),
            limits: Err("nothing in it is recognised".into()),
            used: None,
            system: partition.bootable,
            placed: false,
            mbr_code: 0,
        };
        let Some(volume) = volume else { return part };
        part.limits = limits(volume, sector);
        part.used = volume.survey().map(Survey::used).or(volume.volume.used_bytes);
        part.system |= volume.walked.as_ref().is_some_and(|(fs, _)| holds_system(&**fs));
        (part.placed, part.mbr_code) = match volume.volume.kind {
            Kind::Ntfs | Kind::ExFat => (true, 0x07),
            Kind::Fat32 => (true, 0x0c),
            Kind::Fat16 => (true, 0x0e),
            Kind::Fat12 => (true, 0x01),
            Kind::Swap => (false, 0x82),
            Kind::HfsPlus | Kind::Apfs => (false, 0xaf),
            // A system cannot read blocks that are smaller than the drive's sectors.
            Kind::Ext2 | Kind::Ext3 | Kind::Ext4 => (u64::from(sector) > block_size(volume), 0x83),
            Kind::Xfs | Kind::Btrfs => (false, 0x83),
            _ => (false, 0),
        };
        part
    };
    table.data_partitions().into_iter().map(part).collect()
}

/// Bytes of a block of an ext volume.
fn block_size(volume: &Surveyed) -> u64 {
    let shift = volume.walked.as_ref().and_then(|(fs, _)| fs.volume().read(1024 + 24, 1).ok()).map_or(2, |bytes| bytes[0].min(6));
    1024 << shift
}

fn limits(volume: &Surveyed, sector: u32) -> Result<Limits, String> {
    match volume.volume.state {
        State::Dirty => return Err("it was in use when it was last seen; let its own system check it first".into()),
        State::Hibernated => return Err("its system only slept; shut it down fully in its machine first".into()),
        State::Damaged => return Err(volume.volume.problems.join("; ")),
        State::Clean => {}
    }
    if let Some(why) = volume.must_be_whole() {
        return Err(why);
    }
    let (fs, survey) = volume.walked.as_ref().ok_or("its files are not read yet")?;
    let bounds = fs.bounds(survey, sector).map_err(|finding| finding.text)?;
    Ok(Limits { least: bounds.least, most: bounds.most })
}

/// Whether a system starts from a volume or lies on it, by what is in its uppermost directories.
fn holds_system(fs: &dyn Volume) -> bool {
    let has = |path: &str| badger_fs::tree::find(fs, path).is_ok();
    has("/Windows/System32") || has("/bootmgr") || has("/etc/fstab") || has("/grub/grub.cfg") || has("/EFI")
}
