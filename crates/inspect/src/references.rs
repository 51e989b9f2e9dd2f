//! What on the copied volumes names a partition by its number, place, disk signature or identifier, and what the plan
//! does to it.

use crate::volumes::Surveyed;
use badger_fs::{Kind, Tree};
use badger_layout::Plan;
use badger_layout::plan::Ids;
use serde::Serialize;

/// What becomes of a reference.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Effect {
    /// It means the same as before.
    Kept,
    /// The plan sets it right.
    SetRight,
    /// It does not fit any more; setting it right belongs to making the system start.
    StartUp,
}

impl Effect {
    /// The word for a screen.
    pub fn word(self) -> &'static str {
        match self {
            Self::Kept => "kept valid",
            Self::SetRight => "set right",
            Self::StartUp => "set right after the copy, where it can be",
        }
    }
}

/// One reference.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Reference {
    /// Number of the partition on the source that carries it; 0 for the table.
    pub number: u32,
    /// Where it stands.
    pub place: String,
    /// What it names, as it stands there.
    pub names: String,
    /// What becomes of it.
    pub effect: Effect,
}

impl Reference {
    /// Where it stands and what it names: `UUID=... in /etc/fstab of 3`.
    pub fn told(&self) -> String {
        let place = if self.number == 0 { self.place.clone() } else { format!("{} of partition {}", self.place, self.number) };
        format!("{} in {place}", self.names)
    }
}

/// Those that the target does not fulfil, so that what reads them does not start.
pub fn broken(references: &[Reference]) -> impl Iterator<Item = &Reference> {
    references.iter().filter(|reference| reference.effect == Effect::StartUp)
}

/// A volume of the source whose files may name partitions.
pub struct Carrier<'a> {
    /// Number of its partition.
    pub number: u32,
    /// First byte on the drive.
    pub start: u64,
    /// Its format.
    pub kind: Kind,
    /// Its identifier; may be empty.
    pub id: &'a str,
    /// Its files, where they can be read.
    pub fs: Option<&'a dyn Tree>,
}

impl<'a> From<&'a Surveyed> for Carrier<'a> {
    fn from(volume: &'a Surveyed) -> Self {
        let fs = volume.walked.as_ref().map(|(fs, _)| &**fs as &dyn Tree);
        Self { number: volume.number, start: volume.start, kind: volume.volume.kind, id: &volume.volume.id, fs }
    }
}

/// Configurations that name volumes, from the top of a system or of its volume with loaders.
pub const CONFIGURATIONS: [&str; 14] = [
    "/etc/fstab",
    "/etc/crypttab",
    "/etc/default/grub",
    "/etc/kernel/cmdline",
    "/boot/grub/grub.cfg",
    "/boot/grub2/grub.cfg",
    "/grub/grub.cfg",
    "/grub2/grub.cfg",
    "/boot/grub2/grubenv",
    "/grub2/grubenv",
    "/EFI/debian/grub.cfg",
    "/EFI/ubuntu/grub.cfg",
    "/EFI/fedora/grub.cfg",
    "/EFI/BOOT/grub.cfg",
];

/// Folders with an entry in each file.
const ENTRIES: [&str; 2] = ["/loader/entries", "/boot/loader/entries"];
/// So many entries are read of a folder.
const MOST_ENTRIES: usize = 64;

/// Names under which subvolumes with systems are usual.
const TOPS: [&str; 4] = ["/@", "/root", "/@rootfs", "/@root"];

/// The folder of a volume that a system on it has as its root; empty where that is the volume's own top, as everywhere but on
/// volumes that are parted further.
pub fn top(tree: &dyn Tree, kind: Kind) -> String {
    if kind != Kind::Btrfs {
        return String::new();
    }
    let is_root = |path: &str| badger_fs::tree::find(tree, &format!("{path}/etc/fstab")).is_ok();
    if is_root("") {
        return String::new();
    }
    let usual = TOPS.into_iter().map(String::from);
    tree.mounted().into_iter().chain(usual).find(|path| is_root(path)).unwrap_or_default()
}

/// The configurations that a volume may have, `top` being the root of the system on it: those with names of their own, and entries.
pub fn configurations(tree: &dyn Tree, top: &str) -> Vec<String> {
    let mut out: Vec<String> = CONFIGURATIONS.into_iter().map(String::from).collect();
    // GRUB's own beside its program, whatever its vendor calls the folder.
    if let Ok(node) = badger_fs::tree::find(tree, "/EFI") {
        let vendors = tree.list(&node).entries.into_iter().take(MOST_ENTRIES).map(|entry| format!("/EFI/{}/grub.cfg", entry.name.shown));
        out.extend(vendors.filter(|path| !CONFIGURATIONS.iter().any(|known| known.eq_ignore_ascii_case(path))).collect::<Vec<_>>());
    }
    for folder in ENTRIES {
        let Some(node) = ["", top].iter().find_map(|top| badger_fs::tree::find(tree, &format!("{top}{folder}")).ok()) else { continue };
        let mut names: Vec<String> =
            tree.list(&node).entries.into_iter().map(|entry| entry.name.shown).filter(|name| name.ends_with(".conf")).collect();
        names.sort();
        out.extend(names.into_iter().take(MOST_ENTRIES).map(|name| format!("{folder}/{name}")));
    }
    out
}

/// Files that are read for references have at most this many bytes.
const MOST: usize = 1 << 20;

/// What the plan leaves of the ways to name a partition.
struct Change<'a> {
    plan: &'a Plan,
    /// Identifiers in the table that are gone.
    ids: bool,
    /// Numbers that changed or are gone.
    numbers: Vec<u32>,
    /// The kind of table changed.
    kind: bool,
    /// Volumes get other identifiers.
    fresh: bool,
    /// Identifiers of volumes of the source that no volume of the target will have.
    lost: Vec<&'a str>,
    /// Identifiers of partitions of the source, and the signature of its disk.
    partitions: Vec<String>,
}

/// Finds the references on the volumes of a source.
pub fn find(table: &badger_layout::Table, carriers: &[Carrier], plan: &Plan) -> Vec<Reference> {
    let gone = |number: &u32| plan.planned(*number).is_none_or(|planned| planned.number != *number);
    let keeps = |volume: &Carrier| {
        !volume.id.is_empty() && plan.planned(volume.number).is_some() && plan.recast(volume.number).is_none_or(|recast| recast.id.is_empty())
    };
    let change = Change {
        plan,
        ids: plan.ids == Ids::Fresh || plan.kind != table.kind,
        numbers: table.data_partitions().iter().map(|partition| partition.number).filter(gone).collect(),
        kind: plan.kind != table.kind,
        fresh: plan.recasts.iter().any(|recast| !recast.id.is_empty()),
        lost: carriers.iter().filter(|volume| !volume.id.is_empty() && !keeps(volume)).map(|volume| volume.id).collect(),
        partitions: table
            .data_partitions()
            .into_iter()
            .map(|partition| partition.id.to_lowercase())
            .chain([table.disk_id.trim_start_matches("0x").to_lowercase()])
            .filter(|id| !id.is_empty())
            .collect(),
    };
    let mut out = Vec::new();
    for volume in carriers {
        let Some(planned) = plan.planned(volume.number) else { continue };
        let mut add = |place: &str, names: String, effect| out.push(Reference { number: volume.number, place: place.into(), names, effect });
        if has_boot_sector(volume.kind) {
            let (from, to) = (volume.start / u64::from(plan.source.sector), planned.start);
            let effect = if from == to && plan.source.sector == plan.target.sector { Effect::Kept } else { Effect::SetRight };
            add("boot sector", format!("its first sector, {from}{}", if from == to { String::new() } else { format!(", now {to}") }), effect);
        }
        let Some(fs) = volume.fs else { continue };
        let top = top(fs, volume.kind);
        for path in configurations(fs, &top) {
            let mark = if path.starts_with("/etc/default/") || path.ends_with(".conf") { "root=" } else { "" };
            let text = Some(text(fs, &path)).filter(|text| !text.is_empty()).unwrap_or_else(|| text(fs, &format!("{top}{path}")));
            for (names, effect) in text.lines().filter(|line| line.contains(mark)).flat_map(|line| change.line(line)) {
                add(&path, names, effect);
            }
        }
        // These keep the disk's signature or identifier and a partition's place in forms of their own.
        for path in ["/Boot/BCD", "/EFI/Microsoft/Boot/BCD", "/Windows/System32/config/SYSTEM"] {
            if badger_fs::tree::find(fs, path).is_ok() {
                // Neither a number nor a length is in there; the newer kind of table is named by identifiers alone.
                let is_by_place = table.kind == badger_layout::Kind::Mbr;
                let has_letter = |number: Option<u32>| carriers.iter().any(|other| Some(other.number) == number && has_boot_sector(other.kind));
                let mut lettered = plan.partitions.iter().filter(|planned| has_letter(planned.from));
                let moved = change.ids || is_by_place && lettered.any(|planned| moved(table, plan, planned));
                let names = if path.ends_with("SYSTEM") { "drive letters by disk and partition" } else { "the system's partition by disk and place" };
                add(path, names.into(), if moved { Effect::StartUp } else { Effect::Kept });
            }
        }
    }
    // The same line stands in a file many times over.
    out.dedup();
    let mut seen = std::collections::HashSet::new();
    out.retain(|one| seen.insert((one.number, one.place.clone(), one.names.clone())));
    out
}

/// Whether a volume says in its first sector where it begins; systems of the NT family give letters to such ones only.
fn has_boot_sector(kind: Kind) -> bool {
    matches!(kind, Kind::Ntfs | Kind::ExFat | Kind::Fat12 | Kind::Fat16 | Kind::Fat32)
}

fn moved(table: &badger_layout::Table, plan: &Plan, planned: &badger_layout::plan::Planned) -> bool {
    let before = table.partitions.iter().find(|partition| Some(partition.number) == planned.from);
    before.is_some_and(|before| table.place(before).0 != planned.place(plan.target.sector).0)
}

fn text(fs: &dyn Tree, path: &str) -> String {
    let read = || {
        let node = badger_fs::tree::find(fs, path).ok()?;
        let mut bytes = vec![0; (node.size as usize).min(MOST)];
        let count = fs.read(&node, 0, &mut bytes).ok()?;
        bytes.truncate(count);
        Some(String::from_utf8_lossy(&bytes).into_owned())
    };
    read().unwrap_or_default()
}

impl Change<'_> {
    /// The words of a line that name partitions.
    fn line(&self, line: &str) -> Vec<(String, Effect)> {
        let line = line.trim_start();
        if line.starts_with('#') {
            return Vec::new();
        }
        let words = line.split(|c: char| c.is_whitespace() || matches!(c, '\'' | '"' | '(' | ')'));
        words.filter_map(|word| self.word(word.trim_matches(|c| matches!(c, '\'' | '"')), line)).collect()
    }

    fn word(&self, word: &str, line: &str) -> Option<(String, Effect)> {
        let bare = word.strip_prefix("root=").or_else(|| word.strip_prefix("resume=")).unwrap_or(word);
        let effect = |broken: bool| if broken { Effect::StartUp } else { Effect::Kept };
        if bare.starts_with("LABEL=") {
            return Some((bare.into(), Effect::Kept));
        }
        if let Some(id) = bare.strip_prefix("UUID=") {
            return Some((bare.into(), effect(self.is_gone(id))));
        }
        if bare.strip_prefix("PARTUUID=").is_some_and(|id| !self.is_own(id)) {
            return Some((bare.into(), Effect::Kept));
        }
        if bare.starts_with("PARTUUID=") || bare.starts_with("PARTLABEL=") {
            return Some((bare.into(), effect(self.ids || !self.numbers.is_empty() && self.plan.kind == badger_layout::Kind::Mbr)));
        }
        if let Some(device) =
            bare.strip_prefix("/dev/").filter(|device| device.starts_with("sd") || device.starts_with("hd") || device.starts_with("nvme"))
        {
            let digits = device.rsplit(|c: char| !c.is_ascii_digit()).next().unwrap_or_default();
            let number = digits.parse::<u32>().unwrap_or(0);
            // The name of the drive depends on the port it is plugged into.
            return Some((bare.into(), effect(self.numbers.contains(&number) || device.starts_with("nvme") || device.starts_with("hd"))));
        }
        // Also where it is the value of an option.
        let disk = word.rsplit('=').next().unwrap_or(word);
        if let Some(number) = disk.strip_prefix("hd").and_then(|rest| rest.split_once(",")).map(|(_, part)| part) {
            let digits: String = number.chars().filter(char::is_ascii_digit).collect();
            let broken = self.kind || digits.parse().is_ok_and(|number| self.numbers.contains(&number));
            return Some((format!("({disk})"), effect(broken)));
        }
        if line.contains("--fs-uuid") && word.len() >= 8 && word.contains('-') && word.chars().all(|c| c.is_ascii_hexdigit() || c == '-') {
            return Some((word.into(), effect(self.is_gone(word))));
        }
        None
    }

    /// Whether a volume of the source has an identifier that none of the target will have. What no volume of the source has is on another disk,
    /// and means the same as before.
    fn is_gone(&self, id: &str) -> bool {
        self.fresh && self.lost.iter().any(|lost| lost.eq_ignore_ascii_case(id))
    }

    /// Whether it names a partition of the source: by its own identifier, or by the signature of the disk and a number.
    fn is_own(&self, id: &str) -> bool {
        let id = id.to_lowercase();
        self.partitions.iter().any(|own| id == *own || id.strip_prefix(own.as_str()).is_some_and(|rest| rest.starts_with('-')))
    }
}
