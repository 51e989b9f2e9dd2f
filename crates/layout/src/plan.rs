//! Plans: what goes where, as plain data that can be printed, drawn, stored and compared.

use crate::guid::Guid;
use crate::partition::Partition;
use crate::table::{Detail, Kind, Table};
use badger_drive::{Extents, Refusal};
use serde::{Deserialize, Serialize};

/// Whether the target carries the source's disk and partition identifiers or new ones.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Ids {
    /// The same.
    Keep,
    /// New ones.
    Fresh,
}

/// What a plan does with a partition.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Fit {
    /// Same size.
    #[default]
    Keep,
    /// A larger one.
    Stretch,
    /// A smaller one.
    Squeeze,
    /// It stays behind.
    LeaveOut,
}

impl Fit {
    /// The word for a screen.
    pub fn word(self) -> &'static str {
        match self {
            Self::Keep => "keep",
            Self::Stretch => "stretch",
            Self::Squeeze => "squeeze",
            Self::LeaveOut => "leave out",
        }
    }
}

/// What becomes of the places on the target that nothing is copied to.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Rest {
    /// They keep what they hold.
    #[default]
    Leave,
    /// The drive is told that they are not wanted.
    Discard,
    /// They become zero, and the proof reads them.
    Zero,
}

impl Rest {
    /// What that means, in a few words.
    pub fn word(self) -> &'static str {
        match self {
            Self::Leave => "the rest of the target keeps what it held",
            Self::Discard => "the rest of the target is discarded",
            Self::Zero => "the rest of the target is zero",
        }
    }
}

/// A volume of which only what is in use is copied.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct InUse {
    /// Number of its partition.
    pub number: u32,
    /// First byte of the volume on the source.
    pub start: u64,
    /// Bytes of its partition.
    pub len: u64,
    /// Bytes in use.
    pub used: u64,
}

/// The part of a plan that leaves out what is not in use.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sparing {
    /// The volumes; all else is copied whole.
    pub volumes: Vec<InUse>,
    /// What becomes of the rest of the target.
    pub rest: Rest,
}

/// A drive as far as a plan must know it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Side {
    /// Stable key.
    pub key: String,
    /// Bytes.
    pub size_bytes: u64,
    /// Bytes a sector has.
    pub sector: u32,
    /// Bytes the drive writes in one go; 0 where nobody asked.
    #[serde(default)]
    pub physical: u32,
}

/// A stretch of bytes that is copied.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Move {
    /// First byte on the source; where a volume is shown anew, the same as `to`.
    pub from: u64,
    /// First byte on the target.
    pub to: u64,
    /// Bytes.
    pub len: u64,
    /// Number of the partition of which this is a stretch as it is shown anew; `None` for bytes as they are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub volume: Option<u32>,
}

/// A volume that is shown anew, with another size, at another place or on other sectors, while it is copied.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Recast {
    /// Number of its partition on the source.
    pub number: u32,
    /// First byte on the source.
    pub from: u64,
    /// Bytes of its partition there.
    pub from_len: u64,
    /// First byte on the target.
    pub to: u64,
    /// Bytes of its partition there.
    pub len: u64,
    /// Bytes in use there, what the format's own tables take then included.
    pub used: u64,
    /// What its new identifier is made of; empty where it keeps its own.
    #[serde(default, with = "hex", skip_serializing_if = "Vec::is_empty")]
    pub id: Vec<u8>,
}

/// Bytes on the target that come from the plan and not from the source.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Patch {
    /// First byte on the target.
    pub at: u64,
    /// The bytes, as lower-case hex in storage.
    #[serde(with = "hex")]
    pub bytes: Vec<u8>,
    /// What this is, for the list of intended differences.
    pub what: String,
}

/// A partition as it will be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Planned {
    /// Number on the target.
    pub number: u32,
    /// First sector on the target.
    pub start: u64,
    /// Sectors on the target.
    pub sectors: u64,
    /// Type code as written.
    pub code: String,
    /// Name.
    pub name: String,
    /// Identifier.
    pub id: String,
    /// What is done with it.
    #[serde(default)]
    pub fit: Fit,
    /// Number on the source; `None` in a clone as it is, and for what only holds logical partitions.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<u32>,
}

/// What a run will do, whole.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Plan {
    /// The source.
    pub source: Side,
    /// The target.
    pub target: Side,
    /// Identifiers.
    pub ids: Ids,
    /// The table that results.
    pub kind: Kind,
    /// The disk identifier that results.
    pub disk_id: String,
    /// The partitions that result.
    pub partitions: Vec<Planned>,
    /// What is copied, in order. The start of the drive comes last, so that a broken-off copy does not look whole.
    pub moves: Vec<Move>,
    /// What is written besides, sorted by place.
    pub patches: Vec<Patch>,
    /// Stretches whose old content is taken away before anything is copied: start and length in bytes.
    pub cleared: Vec<(u64, u64)>,
    /// Set where only what is in use is copied.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sparing: Option<Sparing>,
    /// The rules it was made by, where partitions do not simply stay as they are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fit: Option<String>,
    /// Volumes that are shown anew.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub recasts: Vec<Recast>,
    /// Partitions of the source that stay behind.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<u32>,
}

/// Size of the stretches at both ends of a target where old tables can stand, in bytes.
pub const EDGE: u64 = 1 << 20;

/// The partitions of a table as a plan keeps them.
pub(crate) fn planned(partitions: &[Partition]) -> Vec<Planned> {
    let keep = |partition: &Partition| Planned {
        number: partition.number,
        start: partition.start,
        sectors: partition.sectors,
        code: partition.type_code.code(),
        name: partition.name.clone(),
        id: partition.id.clone(),
        fit: Fit::Keep,
        from: None,
    };
    partitions.iter().map(keep).collect()
}

/// The plan of an exact clone: every byte of the source to the same place on a target of the same size or larger.
/// `random` gives 16 fresh bytes for each new identifier.
///
/// # Errors
/// A refusal where such a clone could not work: the target is smaller, or counts in sectors of another size while
/// the source has a table that counts in them.
pub fn exact(table: &Table, source: &Side, target: &Side, ids: Ids, mut random: impl FnMut() -> [u8; 16]) -> Result<Plan, Refusal> {
    if target.size_bytes < source.size_bytes {
        let short = badger_drive::size::thousands(source.size_bytes - target.size_bytes);
        return Err(Refusal::new(
            "target-too-small",
            format!("the target is {short} bytes smaller than the source; a clone as it is needs at least its size; --fit auto squeezes it"),
        ));
    }
    if source.sector != target.sector && (table.kind != Kind::None || !table.partitions.is_empty()) {
        let text = format!(
            "the source counts in sectors of {} bytes, the target in {}: the copied table would mean other places; --fit auto sets it right",
            source.sector, target.sector
        );
        return Err(Refusal::new("sector-differs", text));
    }
    let sector = source.sector;
    let target_sectors = target.size_bytes / u64::from(sector);
    let grows = target_sectors > table.sectors;
    let mut patches = Vec::new();
    let mut result = (table.disk_id.clone(), planned(&table.partitions));
    let mut patch = |sectors: Vec<(u64, Vec<u8>)>, what: &dyn Fn(u64) -> String| {
        patches.extend(sectors.into_iter().map(|(at, bytes)| Patch { at: at * u64::from(sector), bytes, what: what(at) }));
    };
    match &table.detail {
        Detail::Gpt(gpt) if (grows || ids == Ids::Fresh) && gpt.slots > 0 => {
            let mut gpt = gpt.clone();
            gpt.fit_to(target_sectors, sector);
            if ids == Ids::Fresh {
                gpt.disk_id = Guid::from_random(random());
                gpt.entries.iter_mut().for_each(|entry| entry.id = Guid::from_random(random()));
            }
            result = (gpt.disk_id.to_string(), planned(&gpt.partitions()));
            let backup = gpt.backup_at;
            let entries_at = gpt.entries_at;
            patch(gpt.write(sector), &|at| match at {
                0 => "protective MBR".into(),
                1 => "GPT header".into(),
                at if at == backup => "second GPT header".into(),
                at if at == entries_at => "GPT entries".into(),
                _ => "second GPT entries".into(),
            });
        }
        Detail::Mbr(mbr) if ids == Ids::Fresh => {
            let mut mbr = mbr.clone();
            let bytes = random();
            mbr.signature = u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]).max(1);
            result = (format!("{:08x}", mbr.signature), planned(&mbr.partitions()));
            let signature = Patch { at: 440, bytes: mbr.signature.to_le_bytes().to_vec(), what: "disk signature".into() };
            patches.push(signature);
        }
        _ => {}
    }
    patches.sort_by_key(|patch| patch.at);
    let mut plan = Plan {
        source: source.clone(),
        target: target.clone(),
        ids,
        kind: table.kind,
        disk_id: result.0,
        partitions: result.1,
        moves: vec![Move { from: 0, to: 0, len: source.size_bytes, volume: None }],
        patches,
        cleared: ends(target.size_bytes),
        sparing: None,
        fit: None,
        recasts: Vec::new(),
        left_out: Vec::new(),
    };
    plan.order();
    Ok(plan)
}

/// Both ends of a drive of `size` bytes, where old tables can stand: start and length.
pub(crate) fn ends(size: u64) -> Vec<(u64, u64)> {
    let mut cleared = vec![(0, EDGE.min(size))];
    if size > EDGE {
        let last = size.saturating_sub(EDGE).max(EDGE);
        cleared.push((last, size - last));
    }
    cleared
}

/// What is not in use is left out in whole blocks of so many bytes; proofs and journals count in the same.
pub const BLOCK: u64 = 1 << 20;

impl Plan {
    /// Bytes over which the plan counts, hashes and proves: as many as the source has for a clone as it is, else those of
    /// the target.
    pub fn size(&self) -> u64 {
        if self.fit.is_some() { self.target.size_bytes } else { self.source.size_bytes }
    }

    /// Puts the moves into the order of the target, in whole blocks; the start of the drive comes last, so that a
    /// broken-off copy does not look whole.
    pub fn order(&mut self) {
        self.moves.retain(|step| step.len > 0);
        self.moves.sort_by_key(|step| step.to);
        let mut out = Vec::with_capacity(self.moves.len() + 1);
        let mut head = Vec::new();
        for step in self.moves.drain(..) {
            let inside = EDGE.saturating_sub(step.to).min(step.len);
            let after = Move { from: step.from + inside, to: step.to + inside, len: step.len - inside, ..step.clone() };
            head.extend((inside > 0).then_some(Move { len: inside, ..step }));
            out.extend((after.len > 0).then_some(after));
        }
        out.append(&mut head);
        self.moves = out;
    }

    /// Leaves out every block of the target to which nothing is copied that is needed. `needed` counts in bytes of the
    /// source; volumes that are shown anew know by themselves.
    pub fn spare<V: Clone + PartialEq>(&mut self, needed: &Extents<V>, sparing: Sparing) {
        let mut spared = Vec::new();
        for step in self.moves.drain(..) {
            if step.volume.is_some() {
                spared.push(step);
                continue;
            }
            let mut blocks: Extents<()> = Extents::new();
            for (range, _) in needed.within(step.from..step.from + step.len) {
                let (start, end) = (range.start - step.from + step.to, range.end - step.from + step.to);
                blocks.set(start / BLOCK * BLOCK..end.div_ceil(BLOCK) * BLOCK, ());
            }
            let inside = blocks.within(step.to..step.to + step.len);
            spared.extend(inside.map(|(range, ())| Move {
                from: step.from + (range.start - step.to),
                to: range.start,
                len: range.end - range.start,
                volume: None,
            }));
        }
        self.moves = spared;
        self.order();
        self.sparing = Some(sparing);
    }

    /// What is copied, in order of its place on the target: first byte and length.
    pub fn stretches(&self) -> Vec<(u64, u64)> {
        let mut all: Vec<(u64, u64)> = self.moves.iter().map(|step| (step.to, step.len)).collect();
        all.sort_unstable();
        let mut out: Vec<(u64, u64)> = Vec::new();
        for (start, len) in all {
            match out.last_mut() {
                Some((before, held)) if *before + *held == start => *held += len,
                _ => out.push((start, len)),
            }
        }
        out
    }

    /// Bytes that are copied.
    pub fn bytes(&self) -> u64 {
        self.moves.iter().map(|step| step.len).sum()
    }

    /// The number that a partition of the source has on the target; 0 where it stays behind.
    pub fn number_after(&self, number: u32) -> u32 {
        if self.fit.is_none() {
            return number;
        }
        self.partitions.iter().find(|planned| planned.from == Some(number)).map_or(0, |planned| planned.number)
    }

    /// How a partition of the source is shown anew, where it is.
    pub fn recast(&self, number: u32) -> Option<&Recast> {
        self.recasts.iter().find(|recast| recast.number == number)
    }

    /// What becomes of a partition of the source.
    pub fn planned(&self, number: u32) -> Option<&Planned> {
        // By rules a number may be taken by another partition, or by what holds the logical ones.
        let is_it = |planned: &&Planned| if self.fit.is_some() { planned.from == Some(number) } else { planned.number == number };
        self.partitions.iter().find(is_it)
    }

    /// How far the target is used, in bytes: the least size it must have.
    pub fn reach(&self) -> u64 {
        let moved = self.moves.iter().map(|step| step.to + step.len).max().unwrap_or(0);
        let patched = self.patches.iter().map(|patch| patch.at + patch.bytes.len() as u64).max().unwrap_or(0);
        let shown = self.recasts.iter().map(|recast| recast.to + recast.len).max().unwrap_or(0);
        moved.max(patched).max(shown)
    }

    /// Compares a table read from the target with the plan; the differences, a sentence each.
    pub fn differences(&self, table: &Table) -> Vec<String> {
        let mut out = Vec::new();
        if table.kind != self.kind {
            out.push(format!("the table is {} where the plan has {}", table.kind.word(), self.kind.word()));
        }
        if table.disk_id != self.disk_id {
            out.push(format!("the disk identifier is {} where the plan has {}", table.disk_id, self.disk_id));
        }
        let found = planned(&table.partitions);
        for wanted in &self.partitions {
            match found.iter().find(|partition| partition.number == wanted.number) {
                // A file system without a table is as long as whatever drive it lies on, and the table says nothing of it.
                _ if wanted.number == 0 => {}
                None => out.push(format!("partition {} is missing", wanted.number)),
                Some(partition) if Planned { fit: wanted.fit, from: wanted.from, ..partition.clone() } != *wanted => {
                    out.push(format!("partition {} differs from the plan", wanted.number))
                }
                Some(_) => {}
            }
        }
        let more = found.iter().filter(|partition| partition.number != 0 && !self.partitions.iter().any(|wanted| wanted.number == partition.number));
        out.extend(more.map(|partition| format!("partition {} is not in the plan", partition.number)));
        out
    }
}

/// A plan that does not say yet what must be copied of volumes that are shown anew. It can be looked at, and changed; only
/// [`Draft::settle`] makes a plan of it that can be run.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Draft(Plan);

impl From<Plan> for Draft {
    /// What a plan was before it was settled.
    fn from(mut plan: Plan) -> Self {
        plan.moves.retain(|step| step.volume.is_none());
        Self(plan)
    }
}

impl Draft {
    /// Everything it says so far.
    pub fn plan(&self) -> &Plan {
        &self.0
    }

    /// The same, to be changed.
    pub fn plan_mut(&mut self) -> &mut Plan {
        &mut self.0
    }

    /// Bytes that will be copied, about: of volumes that are shown anew what is in use.
    pub fn bytes(&self) -> u64 {
        self.0.bytes() + self.0.recasts.iter().map(|recast| recast.used).sum::<u64>()
    }

    /// Takes in what must be copied of every volume that is shown anew, in bytes from its start on.
    ///
    /// # Errors
    /// What `needed` says.
    pub fn settle<V: Clone + PartialEq, E>(self, mut needed: impl FnMut(&Recast) -> Result<Extents<V>, E>) -> Result<Plan, E> {
        let mut plan = self.0;
        for recast in &plan.recasts {
            let mut blocks: Extents<()> = Extents::new();
            for (range, _) in needed(recast)?.iter() {
                blocks.set((recast.to + range.start) / BLOCK * BLOCK..(recast.to + range.end).div_ceil(BLOCK) * BLOCK, ());
            }
            let inside = blocks.within(recast.to..recast.to + recast.len);
            plan.moves.extend(inside.map(|(range, ())| Move {
                from: range.start,
                to: range.start,
                len: range.end - range.start,
                volume: Some(recast.number),
            }));
        }
        plan.order();
        Ok(plan)
    }
}

mod hex {
    use serde::{Deserialize, Deserializer, Serializer, de::Error};

    pub fn serialize<S: Serializer>(bytes: &[u8], serializer: S) -> Result<S::Ok, S::Error> {
        let digits = |byte: &u8| [byte >> 4, byte & 15].map(|half| char::from_digit(u32::from(half), 16).unwrap_or('0'));
        serializer.serialize_str(&bytes.iter().flat_map(digits).collect::<String>())
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<u8>, D::Error> {
        let text = String::deserialize(deserializer)?;
        let byte = |pair: &[u8]| std::str::from_utf8(pair).ok().and_then(|pair| u8::from_str_radix(pair, 16).ok());
        let (pairs, rest) = text.as_bytes().as_chunks::<2>();
        let bytes = pairs.iter().map(|pair| byte(pair)).collect::<Option<Vec<u8>>>().filter(|_| rest.is_empty());
        bytes.ok_or_else(|| D::Error::custom("not hex"))
    }
}
