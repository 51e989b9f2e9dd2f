//! A drive that was looked at: what it says of itself in its first structures.

use badger_drive::sounding::WIDE;
use badger_drive::{Sounding, Source};
use badger_fs::recognise::{self, Recognised, State};
use badger_layout::{Kind, Table, table};

/// What may be said of a drive as a whole. That it is empty is never said: nobody looks everywhere.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Content {
    /// A table, or a volume without one.
    Known,
    /// Why nothing can be said.
    NotReadable(String),
    /// Nothing but zeroes in so many places, spread over the whole drive.
    LooksEmpty(usize),
    /// No table and no volume, but something in so many of so many places, the first at this byte.
    DataWithoutTable {
        /// Places that hold something.
        with: usize,
        /// Places that were looked at.
        places: usize,
        /// The first of them.
        first: u64,
    },
}

impl Content {
    /// What was seen in places of a drive on which nothing is recognised.
    fn of(sounding: &Sounding) -> Self {
        let (zero, with, unreadable) = sounding.counts();
        let places = zero + with + unreadable;
        match (with, unreadable) {
            (0, 0) => Self::LooksEmpty(places),
            (_, 0) => Self::DataWithoutTable { with, places, first: sounding.data().next().unwrap_or(0) },
            _ => Self::NotReadable(format!("{unreadable} of {places} places could not be read")),
        }
    }

    /// In words; empty where a table or a volume is known.
    pub fn words(&self) -> String {
        match self {
            Self::Known => String::new(),
            Self::NotReadable(why) => format!("not readable: {why}"),
            Self::LooksEmpty(places) => format!("looks empty ({places} places)"),
            Self::DataWithoutTable { with, places, .. } => format!("data without a table (in {with} of {places} places)"),
        }
    }
}

/// A drive that was looked at: its table and what is in its partitions.
#[derive(Clone)]
pub struct Looked {
    /// What may be said of it as a whole.
    pub content: Content,
    /// The table.
    pub table: Table,
    /// The volumes by partition number.
    pub volumes: Vec<(u32, Recognised)>,
}

/// Whether a system sleeps in a volume. NTFS says so in a file of its own, not in its first structures.
fn sleeps(source: &Source, table: &Table, number: u32, volume: &Recognised) -> bool {
    if volume.kind != badger_fs::Kind::Ntfs || volume.state != State::Clean && volume.state != State::Dirty {
        return volume.state == State::Hibernated;
    }
    let Some(partition) = table.partitions.iter().find(|partition| partition.number == number) else { return false };
    let (start, len) = table.place(partition);
    badger_fs::open_all(source, start, len).unwrap_or_default().iter().any(|fs| badger_fs::ntfs::is_asleep(&**fs))
}

impl Looked {
    /// Reads the table and the first structures of every partition, and no place more than that: of a drive without a table nothing
    /// is said.
    pub fn at_structures(source: &Source) -> Self {
        let table = table::read(&**source);
        let volumes = recognise::volumes(&**source, &table);
        let known = table.kind != Kind::None || !volumes.is_empty();
        let content = if known { Content::Known } else { Content::NotReadable("it was not looked at".into()) };
        Self { content, table, volumes }
    }

    /// Reads the table and the first structures of every partition; where there are none, places all over the drive.
    pub fn at(source: &Source) -> Self {
        let Self { mut content, table, mut volumes } = Self::at_structures(source);
        for (number, volume) in volumes.iter_mut().filter(|(_, volume)| volume.state != State::Damaged) {
            if sleeps(source, &table, *number, volume) {
                volume.state = State::Hibernated;
            }
        }
        if content != Content::Known {
            content = Content::of(&Sounding::take(&**source, WIDE, &[]));
        }
        Self { content, table, volumes }
    }

    /// Partitions in whose volumes a system sleeps, also where only structures were looked at.
    pub fn sleeping(&self, source: &Source) -> Vec<u32> {
        self.volumes.iter().filter(|(number, volume)| sleeps(source, &self.table, *number, volume)).map(|(number, _)| *number).collect()
    }

    /// The volume in a partition.
    pub fn volume(&self, number: u32) -> Option<&Recognised> {
        self.volumes.iter().find(|(other, _)| *other == number).map(|(_, volume)| volume)
    }
}
