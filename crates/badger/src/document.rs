//! The JSON documents of the commands, as `docs/guide.md` lists them.

use badger_bench::Checkup;
use badger_drive::discover::{Found, Use};
use badger_drive::health::Health;
use badger_drive::{Bus, Geometry, Identity};
use badger_fs::Recognised;
use badger_inspect::Hazard;
use badger_inspect::Looked;
use badger_layout::Problem;
use badger_layout::{Kind, Partition};
use serde::Serialize;

/// A drive, as `drives` and `show` name it.
#[derive(Serialize)]
pub struct Drive {
    path: String,
    model: String,
    serial: String,
    firmware: String,
    tail: String,
    size_bytes: u64,
    logical_sector: u32,
    physical_sector: u32,
    bus: Bus,
    rotational: Option<bool>,
    removable: bool,
    read_only: bool,
    adapter: Option<String>,
    mounted: Vec<String>,
    held: Vec<String>,
    system: bool,
}

impl Drive {
    /// Out of what is known of it; `found` where discovery knows it.
    pub fn new(identity: &Identity, geometry: Geometry, found: Option<&Found>) -> Self {
        let uses = found.map(|found| found.uses.as_slice()).unwrap_or_default();
        let mounted = uses.iter().filter_map(|used| match used {
            Use::Mounted(place) => Some(place.display().to_string()),
            _ => None,
        });
        let held = uses.iter().filter(|used| !matches!(used, Use::Mounted(_))).map(ToString::to_string);
        Self {
            path: identity.path.display().to_string(),
            model: identity.model.clone(),
            serial: identity.serial.clone(),
            firmware: identity.firmware.clone(),
            tail: identity.tail(),
            size_bytes: geometry.size_bytes,
            logical_sector: geometry.logical_sector,
            physical_sector: geometry.physical_sector,
            bus: identity.bus,
            rotational: identity.rotational,
            removable: identity.removable,
            read_only: identity.read_only,
            adapter: identity.adapter.clone(),
            mounted: mounted.collect(),
            held: held.collect(),
            system: found.is_some_and(|found| found.system),
        }
    }
}

#[derive(Serialize)]
struct Table {
    kind: Kind,
    state: &'static str,
    disk_id: String,
    problems: Vec<Problem>,
}

#[derive(Serialize)]
struct PartitionDocument {
    number: u32,
    start: u64,
    sectors: u64,
    #[serde(rename = "type")]
    type_code: String,
    meaning: &'static str,
    name: String,
    id: String,
    bootable: bool,
    fs: Option<Recognised>,
}

#[derive(Serialize)]
struct HealthDocument {
    #[serde(flatten)]
    health: Health,
    grown: String,
}

/// The document of `show`.
#[derive(Serialize)]
pub struct Show {
    drive: Drive,
    health: HealthDocument,
    table: Table,
    partitions: Vec<PartitionDocument>,
    hazards: Vec<Hazard>,
}

impl Show {
    /// Out of a drive that was looked at.
    pub fn new(drive: Drive, checkup: &Checkup, looked: &Looked, hazards: Vec<Hazard>) -> Self {
        let table = &looked.table;
        let partition = |partition: &Partition| PartitionDocument {
            number: partition.number,
            start: partition.start,
            sectors: partition.sectors,
            type_code: partition.type_code.code(),
            meaning: partition.type_code.meaning(),
            name: partition.name.clone(),
            id: partition.id.clone(),
            bootable: partition.bootable,
            fs: looked.volume(partition.number).cloned(),
        };
        Self {
            drive,
            health: HealthDocument { health: checkup.health.clone(), grown: checkup.grown.clone() },
            table: Table {
                kind: table.kind,
                state: if table.is_sound() { "sound" } else { "damaged" },
                disk_id: table.disk_id.clone(),
                problems: table.problems.clone(),
            },
            partitions: table.partitions.iter().map(partition).collect(),
            hazards,
        }
    }
}
