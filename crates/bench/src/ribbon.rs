//! A drive as a strip of its partitions, as numbers; screens and papers draw it.

use badger_inspect::Looked;
use badger_layout::Plan;
use serde::{Deserialize, Serialize};

/// One partition on the strip. Places and sizes are bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Part {
    /// Its number; 0 for a file system without a table.
    pub number: u32,
    /// The best name there is: label, name in the table, meaning of the type.
    pub name: String,
    /// What is in it, in a word; empty where nothing is recognised.
    pub content: String,
    /// First byte.
    pub start: u64,
    /// Bytes.
    pub len: u64,
    /// Bytes in use, where it is known.
    pub used: Option<u64>,
}

/// A whole drive.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ribbon {
    /// Bytes of the drive.
    pub size: u64,
    /// The word for its table.
    pub table: String,
    /// The partitions in order of place.
    pub parts: Vec<Part>,
    /// What may be said of a drive without partitions.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub said: String,
}

impl Ribbon {
    /// The strip of a drive of `size` bytes as it was found.
    pub fn of(looked: &Looked, size: u64) -> Self {
        let sector = u64::from(looked.table.sector);
        let part = |partition: &badger_layout::Partition| {
            let volume = looked.volume(partition.number);
            let label = volume.map(|volume| volume.label.clone()).filter(|label| !label.is_empty());
            let named = Some(partition.name.clone()).filter(|name| !name.is_empty());
            Part {
                number: partition.number,
                name: label.or(named).unwrap_or_else(|| partition.type_code.meaning().to_string()),
                content: volume.map(|volume| volume.kind.word().to_string()).unwrap_or_default(),
                start: partition.start.saturating_mul(sector),
                len: partition.sectors.saturating_mul(sector).min(size.saturating_sub(partition.start.saturating_mul(sector))),
                used: volume.and_then(|volume| volume.used_bytes),
            }
        };
        let parts = looked.table.data_partitions().into_iter().map(part).collect();
        Self { size, table: looked.table.kind.word().into(), parts, said: looked.content.words() }
    }

    /// The strip of the target as the plan leaves it; `source` is the source's.
    pub fn planned(plan: &Plan, source: &Self) -> Self {
        let sector = u64::from(plan.target.sector);
        let parts = source.parts.iter().filter_map(|part| {
            let planned = plan.planned(part.number)?;
            Some(Part {
                number: planned.number,
                start: planned.start.saturating_mul(sector),
                len: planned.sectors.saturating_mul(sector),
                used: plan.recast(part.number).map(|recast| recast.used).or(part.used),
                ..part.clone()
            })
        });
        Self { size: plan.target.size_bytes, table: plan.kind.word().into(), parts: parts.collect(), said: source.said.clone() }
    }

    /// The part that holds a byte.
    pub fn at(&self, byte: u64) -> Option<&Part> {
        self.parts.iter().find(|part| (part.start..part.start + part.len).contains(&byte))
    }
}
