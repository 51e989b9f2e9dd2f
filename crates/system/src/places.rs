//! The volumes of a drive as a system names them: by identifier, by label, by partition.

use crate::archive::Archive;
use crate::link::Link;
use badger_drive::Source;
use badger_fs::tree::{self, Node, NodeKind};
use badger_fs::volume::{Kind, Recognised};
use badger_fs::{Content, Origin, Tree, Volume};
use badger_inspect::{Looked, references};
use badger_layout::Table;
use badger_layout::partition::Partition;
use badger_layout::types::Role;
use std::cell::RefCell;
use std::collections::BTreeMap;

/// So much of a file is read into memory at the most.
const MOST_FILE: u64 = 512 << 20;
/// And of a text.
const MOST_TEXT: u64 = 8 << 20;

/// A partition, what is in it, and its files where they can be read.
pub struct Place {
    /// The partition.
    pub partition: Partition,
    /// First byte on the drive.
    pub start: u64,
    /// What is in it.
    pub found: Option<Recognised>,
    /// Its files; why they cannot be read.
    pub files: Result<Box<dyn Tree>, String>,
    /// The folder that the system on it has as its root; empty where that is the top of the volume.
    pub(crate) top: RefCell<String>,
    /// How a Linux system names the partition by its own identifier.
    pub partuuid: String,
}

/// All of a drive.
pub struct Places {
    /// By their order on the drive.
    pub all: Vec<Place>,
    /// The partition table.
    pub table: Table,
    /// A partition that is not looked into, and may hold volumes.
    hidden: Option<String>,
    /// Where entries led that were followed already: both ways of a drive go through the same.
    pub(crate) followed: RefCell<BTreeMap<String, Vec<Link>>>,
    /// The initial RAM file systems that are started with.
    pub(crate) initials: RefCell<Vec<Initial>>,
}

/// An initial RAM file system that a system starts with, all of which could be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Initial {
    /// Number of the partition that it lies on.
    pub on: u32,
    /// The path there of the last of its parts, as the loader hands them over.
    pub path: String,
    /// Bytes of that one.
    pub bytes: usize,
    /// What is in all of them.
    pub archive: Archive,
    /// Number of the partition of the system.
    pub system: u32,
    /// Version of the kernel.
    pub version: String,
}

/// A file that is wanted: there with its content, or why not.
pub(crate) enum Sought<'a> {
    Here(Content<'a>),
    Missing,
    Unreadable(String),
}

impl Place {
    /// How people name it: its number, and its label or what it is.
    pub fn name(&self) -> String {
        let label = self.found.as_ref().map(|found| found.label.as_str()).filter(|label| !label.is_empty()).unwrap_or(&self.partition.name);
        match (label.is_empty(), &self.found) {
            (false, _) => format!("partition {} ({label})", self.partition.number),
            (true, Some(found)) => format!("partition {} ({})", self.partition.number, found.kind.word()),
            (true, None) => format!("partition {}", self.partition.number),
        }
    }

    /// The identifier of its volume, in the letters that systems use.
    pub fn id(&self) -> &str {
        self.found.as_ref().map_or("", |found| found.id.as_str())
    }

    /// A file or folder by its path.
    pub(crate) fn node(&self, path: &str) -> Result<Option<Node>, String> {
        let volume = self.files.as_ref().map_err(Clone::clone)?;
        let found = |path: &str| match tree::find(&**volume, path) {
            Ok(node) => Ok(Some(node)),
            Err(finding) if finding.code == "not-found" || finding.code == "not-a-directory" => Ok(None),
            Err(finding) => Err(finding.text),
        };
        // Loaders name files from the top of the volume on, systems from their root.
        let top = self.top.borrow();
        match found(path)? {
            None if !top.is_empty() => found(&format!("{top}{}{path}", if path.starts_with('/') { "" } else { "/" })),
            node => Ok(node),
        }
    }

    /// The volume, where it can be changed beyond what stands in its files.
    pub(crate) fn volume(&self) -> Option<&dyn Volume> {
        match self.files.as_ref().ok()?.origin() {
            Origin::Volume(volume) => Some(volume),
            Origin::Files(_) | Origin::Folder(_) => None,
        }
    }

    /// Says which folder of the volume is the root of its system; whether there is one.
    pub(crate) fn has_root_in(&self, folder: &str) -> bool {
        let path = format!("/{}", folder.trim_matches('/'));
        let Ok(volume) = &self.files else { return true };
        let is_there = tree::find(&**volume, &path).is_ok_and(|node| node.kind == NodeKind::Directory);
        if is_there {
            self.top.replace(path.trim_end_matches('/').to_string());
        }
        is_there
    }

    /// Where a path begins from the top of the volume, or of what is mounted of it by default, as loaders have it; `None` where only the system has
    /// it there, or nobody.
    fn start_for_loader(&self, path: &str) -> Option<String> {
        let volume = self.files.as_ref().ok()?;
        [None, volume.mounted()].into_iter().map(Option::unwrap_or_default).find(|start| tree::find(&**volume, &format!("{start}{path}")).is_ok())
    }

    /// The root of the system, where a path is there and not where a loader looks for it.
    pub(crate) fn hidden_in(&self, path: &str) -> Option<String> {
        let (volume, top) = (self.files.as_ref().ok()?, self.top.borrow());
        let is_hidden = || self.start_for_loader(path).is_none() && tree::find(&**volume, &format!("{top}{path}")).is_ok();
        (!top.is_empty() && is_hidden()).then(|| top.clone())
    }

    /// A path of the system as it is from the top of the volume on.
    pub(crate) fn whole_path(&self, path: &str) -> String {
        let start = self.start_for_loader(path).unwrap_or_else(|| self.top.borrow().clone());
        format!("{start}{path}")
    }

    /// Whether a folder is there, from the top of the volume on; also where that cannot be told.
    pub(crate) fn has_folder(&self, folder: &str) -> bool {
        self.files.as_ref().map_or(true, |volume| tree::find(&**volume, folder).is_ok_and(|node| node.kind == NodeKind::Directory))
    }

    /// Configurations that name volumes, those that are there: path and content.
    pub(crate) fn configurations(&self) -> Vec<(String, String)> {
        let Ok(volume) = &self.files else { return Vec::new() };
        let paths = references::configurations(&**volume, &self.top.borrow());
        paths.into_iter().filter_map(|path| Some((self.text(&path).ok()??, path))).map(|(text, path)| (path, text)).collect()
    }

    /// Whether something is there; false also where that cannot be told.
    pub(crate) fn has(&self, path: &str) -> bool {
        matches!(self.node(path), Ok(Some(_)))
    }

    /// A file, links followed as the system follows them, some of them at the most.
    pub(crate) fn file(&self, path: &str) -> Sought<'_> {
        match self.real_node(path) {
            Err(why) => Sought::Unreadable(why),
            Ok(None) => Sought::Missing,
            Ok(Some(node)) if node.kind == NodeKind::File => match self.files.as_ref().map(|volume| volume.open(&node, "")) {
                Ok(Ok(content)) => Sought::Here(content),
                Ok(Err(finding)) => Sought::Unreadable(finding.text),
                Err(why) => Sought::Unreadable(why.clone()),
            },
            Ok(Some(_)) => Sought::Unreadable("it is no file".into()),
        }
    }

    /// What a path leads to, links followed.
    pub(crate) fn real_node(&self, path: &str) -> Result<Option<Node>, String> {
        let volume = self.files.as_ref().map_err(Clone::clone)?;
        let mut path = path.to_string();
        for _ in 0..16 {
            match self.node(&path)? {
                Some(node) if node.kind == NodeKind::Link => {
                    let to = volume.link(&node).map_err(|finding| finding.text)?.shown;
                    path = if to.starts_with('/') { to } else { format!("{}/{to}", path.rsplit_once('/').map_or("", |(dir, _)| dir)) };
                }
                found => return Ok(found),
            }
        }
        Err("it is a link to itself, or to too many".into())
    }

    /// The whole of a file; `Ok(None)` where it is not there.
    pub(crate) fn read(&self, path: &str) -> Result<Option<Vec<u8>>, String> {
        match self.file(path) {
            Sought::Missing => Ok(None),
            Sought::Unreadable(why) => Err(why),
            Sought::Here(content) => whole(&content).map(Some),
        }
    }

    /// A file of text; what is no text in it is shown as replacement characters.
    pub(crate) fn text(&self, path: &str) -> Result<Option<String>, String> {
        match self.file(path) {
            Sought::Missing => Ok(None),
            Sought::Unreadable(why) => Err(why),
            Sought::Here(content) if content.size() > MOST_TEXT => Err("it is longer than any such text".into()),
            Sought::Here(content) => whole(&content).map(|bytes| Some(String::from_utf8_lossy(&bytes).into_owned())),
        }
    }

    /// A file that a start needs, whole; else the link that says why not. `what` names it. That it is longer than is read here is no fault of it.
    pub(crate) fn needed(&self, path: &str, link: &'static str, what: &str) -> Result<Vec<u8>, Link> {
        let on = self.name();
        if let Some(top) = self.hidden_in(path) {
            return Err(Link::broken(link, format!("{what} {path} is looked for at the top of {on}, and lies in the subvolume {top}")));
        }
        let cannot = |why: String| Link::broken(link, format!("{what} {path} on {on} cannot be read: {why}"));
        match self.file(path) {
            Sought::Missing => Err(Link::broken(link, format!("{what} {path} is not on {on}"))),
            Sought::Unreadable(why) if self.files.is_err() => {
                Err(Link::unknown(link, format!("whether {what} {path} is on {on} was not looked at: {why}")))
            }
            Sought::Unreadable(why) => Err(cannot(why)),
            Sought::Here(content) if content.size() == 0 => Err(Link::broken(link, format!("{what} {path} on {on} is empty"))),
            Sought::Here(content) if content.size() > MOST_FILE => {
                Err(Link::unknown(link, format!("{what} {path} on {on} is longer than what is read here: whether it is whole is not known")))
            }
            Sought::Here(content) => whole(&content).map_err(cannot),
        }
    }

    /// Names and kinds of what is in a folder; nothing where it is not there.
    pub(crate) fn list(&self, path: &str) -> Vec<(String, Node)> {
        let (Ok(volume), Ok(Some(node))) = (&self.files, self.node(path)) else { return Vec::new() };
        if node.kind != NodeKind::Directory {
            return Vec::new();
        }
        volume.list(&node).entries.into_iter().map(|entry| (entry.name.shown, entry.node)).collect()
    }
}

/// The whole of an opened file.
pub(crate) fn whole(content: &Content) -> Result<Vec<u8>, String> {
    if content.size() > MOST_FILE {
        return Err("it is longer than any such file".into());
    }
    let mut out = vec![0; content.size() as usize];
    let mut done = 0;
    while done < out.len() {
        match content.read(done as u64, &mut out[done..]) {
            Ok(0) => return Err("it is cut off".into()),
            Ok(more) => done += more,
            Err(finding) => return Err(finding.text),
        }
    }
    Ok(out)
}

impl Places {
    /// A drive with nothing on it.
    #[cfg(test)]
    pub(crate) fn none() -> Self {
        use badger_layout::table::{Detail, Kind};
        let (partitions, problems, disk_id) = (Vec::new(), Vec::new(), String::new());
        let table = Table { kind: Kind::None, disk_id, partitions, problems, detail: Detail::None, sector: 512, sectors: 0 };
        Self { all: Vec::new(), table, hidden: None, followed: RefCell::default(), initials: RefCell::default() }
    }

    /// Opens everything on a drive that was looked at.
    pub fn of(drive: &Source, looked: &Looked) -> Self {
        let table = &looked.table;
        let all = table.data_partitions().into_iter().map(|partition| {
            let (start, len) = table.place(partition);
            let partuuid = partuuid(table, partition);
            let files = badger_fs::files(drive, start, len).map_err(|finding| finding.text);
            let found = looked.volume(partition.number).cloned();
            let top = files.as_ref().ok().zip(found.as_ref()).map(|(files, found)| references::top(&**files, found.kind)).unwrap_or_default();
            Place { partition: partition.clone(), start, top: RefCell::new(top), found, files, partuuid }
        });
        let all: Vec<Place> = all.collect();
        let hidden = all.iter().find(|place| is_hidden(drive, place)).map(Place::name);
        Self { all, table: table.clone(), hidden, followed: RefCell::default(), initials: RefCell::default() }
    }

    /// What a system would find under a name: `UUID=`, `PARTUUID=`, `LABEL=`, `PARTLABEL=`, or links of these below `/dev/disk`. `None` where the name
    /// does not say which.
    pub fn named(&self, name: &str) -> Option<Vec<&Place>> {
        let name = name.trim().trim_matches('"');
        let (what, value) = match name.strip_prefix("/dev/disk/by-") {
            Some(rest) => rest.split_once('/')?,
            None => name.split_once('=')?,
        };
        let value = &decoded(value.trim_matches('"'));
        let is = |place: &&Place| match what.to_ascii_lowercase().as_str() {
            "uuid" => !value.is_empty() && same_id(place, value),
            "partuuid" => place.partuuid.eq_ignore_ascii_case(value),
            "label" => place.found.as_ref().is_some_and(|found| !value.is_empty() && found.label == *value),
            "partlabel" => !value.is_empty() && place.partition.name == *value,
            _ => false,
        };
        matches!(what.to_ascii_lowercase().as_str(), "uuid" | "partuuid" | "label" | "partlabel").then(|| self.all.iter().filter(is).collect())
    }

    /// A partition that may hold volumes which are not looked into here: locked, of an array or a volume group, or of a format that is not known.
    /// What is not found elsewhere may be there.
    pub fn hidden(&self) -> Option<&str> {
        self.hidden.as_deref()
    }

    /// The volumes with an identifier.
    pub fn with_id(&self, id: &str) -> Vec<&Place> {
        self.all.iter().filter(|place| same_id(place, id)).collect()
    }
}

/// How a Linux system names a partition by its own identifier.
pub(crate) fn partuuid(table: &Table, partition: &Partition) -> String {
    if partition.id.is_empty() && !table.disk_id.is_empty() {
        return format!("{}-{:02x}", table.disk_id.trim_start_matches("0x").to_lowercase(), partition.number);
    }
    partition.id.to_lowercase()
}

/// Whether volumes may lie within a partition that is not looked into: what is empty at its beginning holds none.
fn is_hidden(drive: &Source, place: &Place) -> bool {
    match &place.found {
        Some(found) => matches!(found.kind, Kind::Lvm | Kind::Luks | Kind::Md | Kind::BitLocker),
        None if place.partition.type_code.role() != Role::Data => false,
        None => {
            let mut start = vec![0; (place.partition.sectors.saturating_mul(512)).min(BEGINNING) as usize];
            drive.read_at(place.start, &mut start).is_err() || start.iter().any(|byte| *byte != 0)
        }
    }
}

/// So much of a partition is zero where nothing is in it.
const BEGINNING: u64 = 256 << 10;

/// Names below `/dev/disk` have spaces and the like as `\x20` (udev).
fn decoded(value: &str) -> String {
    let mut parts = value.split("\\x");
    let mut out = parts.next().unwrap_or_default().as_bytes().to_vec();
    for part in parts {
        match part.get(..2).and_then(|code| u8::from_str_radix(code, 16).ok()) {
            Some(byte) => {
                out.push(byte);
                out.extend(&part.as_bytes()[2..]);
            }
            None => out.extend([b"\\x", part.as_bytes()].concat()),
        }
    }
    String::from_utf8_lossy(&out).into_owned()
}

/// Systems write an identifier of a volume of NTFS shorter or longer than it is kept.
fn same_id(place: &Place, id: &str) -> bool {
    let plain = |text: &str| text.replace('-', "").to_lowercase();
    let (kept, asked) = (plain(place.id()), plain(id));
    !kept.is_empty()
        && (kept == asked || place.found.as_ref().is_some_and(|found| found.kind == Kind::Ntfs) && kept.ends_with(&asked) && asked.len() >= 8)
}
