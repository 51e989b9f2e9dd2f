//! One partition, what can be wrong with it or its table, and how partitions stand to each other.

use crate::types::TypeCode;
use serde::Serialize;

/// Something wrong or odd in a table. `code` is stable.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Problem {
    /// Short stable name.
    pub code: &'static str,
    /// A sentence: what and where.
    pub text: String,
    /// Whether the table counts as damaged by it.
    #[serde(skip)]
    pub grave: bool,
}

impl Problem {
    pub(crate) fn grave(code: &'static str, text: impl Into<String>) -> Self {
        Self { code, text: text.into(), grave: true }
    }
    pub(crate) fn light(code: &'static str, text: impl Into<String>) -> Self {
        Self { code, text: text.into(), grave: false }
    }
}

/// One partition, in logical sectors of the drive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Partition {
    /// The number systems give it; 0 for a file system without a table.
    pub number: u32,
    /// First sector.
    pub start: u64,
    /// Sectors.
    pub sectors: u64,
    /// Type.
    pub type_code: TypeCode,
    /// Name in the table; empty where the table has none.
    pub name: String,
    /// Identifier; empty where the table has none.
    pub id: String,
    /// Marked as the one to start from.
    pub bootable: bool,
    /// GPT attribute bits.
    pub attributes: u64,
    /// Whether it hangs in the chain of an extended partition.
    pub logical: bool,
}

impl Partition {
    /// A partition with nothing but place and type.
    pub fn new(number: u32, start: u64, sectors: u64, type_code: TypeCode) -> Self {
        Self { number, start, sectors, type_code, name: String::new(), id: String::new(), bootable: false, attributes: 0, logical: false }
    }

    /// First sector behind it.
    pub fn end(&self) -> u64 {
        self.start.saturating_add(self.sectors)
    }

    /// Whether it only holds other partitions.
    pub fn is_container(&self) -> bool {
        matches!(self.type_code, TypeCode::Mbr(code) if crate::types::is_extended(code))
    }
}

/// Overlapping partitions and such as reach past the end. `kind` is the start of the codes.
pub(crate) fn overlaps(partitions: &[Partition], sectors: u64, kind: &str) -> Vec<Problem> {
    let (past, over) = if kind == "gpt" { ("gpt-entry-past-end", "gpt-overlap") } else { ("mbr-entry-past-end", "mbr-overlap") };
    let mut problems = Vec::new();
    let mut data: Vec<&Partition> = partitions.iter().filter(|partition| !partition.is_container() && partition.sectors > 0).collect();
    for partition in partitions {
        let protective = matches!(partition.type_code, TypeCode::Mbr(0xee));
        if partition.end() > sectors && !protective {
            let text = format!("partition {} ends at sector {}, the drive at {sectors}", partition.number, partition.end());
            problems.push(Problem::grave(past, text));
        }
    }
    data.sort_by_key(|partition| (partition.start, partition.number));
    let mut furthest: Option<&Partition> = None;
    for partition in data {
        if let Some(before) = furthest
            && before.end() > partition.start
        {
            problems.push(Problem::grave(over, format!("partitions {} and {} overlap", before.number, partition.number)));
        }
        if furthest.is_none_or(|before| partition.end() > before.end()) {
            furthest = Some(partition);
        }
    }
    problems
}
