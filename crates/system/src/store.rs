//! The boot store of systems of the NT family: objects and their elements, in a registry file.
//!
//! Follows the published lists of objects and elements; how a device is written down follows published descriptions of stores.

use crate::registry::{Hive, Result, Value};
use badger_drive::field::{array, le32, le64};
use badger_layout::Guid;
use std::collections::BTreeMap;
use std::fmt;

/// The object that firmware's part of the loader reads.
pub const MANAGER: &str = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";

/// Elements that are looked at.
pub mod element {
    /// Where an application is.
    pub const DEVICE: u32 = 0x1100_0001;
    /// Its path.
    pub const PATH: u32 = 0x1200_0002;
    /// What people read.
    pub const DESCRIPTION: u32 = 0x1200_0004;
    /// What is started where it fails.
    pub const RECOVERY: u32 = 0x1400_0008;
    /// Of the manager: what is started when nobody chooses.
    pub const DEFAULT: u32 = 0x2300_0003;
    /// Of the manager: what is shown.
    pub const SHOWN: u32 = 0x2400_0001;
    /// Of a loader: where its system is.
    pub const SYSTEM_DEVICE: u32 = 0x2100_0001;
    /// Of a loader: the folder of its system.
    pub const SYSTEM_ROOT: u32 = 0x2200_0002;
    /// Of a loader: what goes on with a sleeping system.
    pub const RESUME: u32 = 0x2300_0003;
}

/// Where something is, as an element says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Device {
    /// Where the loader itself was started from.
    Boot,
    /// A partition of a table of the newer kind, by the identifiers of disk and partition.
    Gpt(Guid, Guid),
    /// A partition of a table of the older kind, by the disk's identifier and its first byte.
    Mbr(u32, u64),
    /// Looked for by a file.
    Located,
    /// Another kind, by its number.
    Other(u32),
}

impl fmt::Display for Device {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Boot => f.write_str("where the loader was started from"),
            Self::Gpt(disk, partition) => write!(f, "partition {partition} of disk {disk}"),
            Self::Mbr(disk, start) => write!(f, "the partition at byte {start} of disk {disk:08X}"),
            Self::Located => f.write_str("wherever a file is found"),
            Self::Other(kind) => write!(f, "a device of kind {kind}"),
        }
    }
}

impl Device {
    /// Reads the data of an element; `None` where it is too short.
    pub fn read(data: &[u8]) -> Option<Self> {
        if data.len() < 32 {
            return None;
        }
        match le32(data, 16) {
            5 => Some(Self::Boot),
            6 if data.len() < 0x48 => None,
            6 if le32(data, 0x34) == 0 => Some(Self::Gpt(Guid(array(data, 0x38)), Guid(array(data, 0x20)))),
            6 => Some(Self::Mbr(le32(data, 0x38), le64(data, 0x20))),
            8 => Some(Self::Located),
            other => Some(Self::Other(other)),
        }
    }

    /// The data of an element; nothing for kinds that are only read.
    pub fn write(&self) -> Option<Vec<u8>> {
        let mut out = vec![0; 0x58];
        let kind: u32 = match self {
            Self::Boot => 5,
            Self::Gpt(..) | Self::Mbr(..) => 6,
            Self::Located | Self::Other(_) => return None,
        };
        out[16..20].copy_from_slice(&kind.to_le_bytes());
        out[24..28].copy_from_slice(&0x48u32.to_le_bytes());
        match self {
            Self::Gpt(disk, partition) => {
                out[0x20..0x30].copy_from_slice(&partition.0);
                out[0x38..0x48].copy_from_slice(&disk.0);
            }
            Self::Mbr(disk, start) => {
                out[0x20..0x28].copy_from_slice(&start.to_le_bytes());
                out[0x34..0x38].copy_from_slice(&1u32.to_le_bytes());
                out[0x38..0x3c].copy_from_slice(&disk.to_le_bytes());
            }
            _ => {}
        }
        Some(out)
    }
}

/// An object of the store.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Object {
    /// What it is.
    pub kind: u32,
    /// Its elements by their numbers.
    pub elements: BTreeMap<u32, Value>,
}

impl Object {
    /// A text.
    pub fn text(&self, element: u32) -> Option<String> {
        self.elements.get(&element)?.text()
    }

    /// Names of other objects.
    pub fn names(&self, element: u32) -> Vec<String> {
        let texts = self.elements.get(&element).map(|value| value.texts().or_else(|| value.text().map(|text| vec![text])).unwrap_or_default());
        texts.unwrap_or_default().into_iter().map(|name| name.to_lowercase()).collect()
    }

    /// A device.
    pub fn device(&self, element: u32) -> Option<Device> {
        Device::read(&self.elements.get(&element)?.data)
    }
}

/// All objects, by their names in small letters.
#[derive(Clone, Debug, Default)]
pub struct Store {
    /// See above.
    pub objects: BTreeMap<String, Object>,
    /// What could not be read.
    pub wrong: Vec<String>,
}

impl Store {
    /// Reads a store.
    ///
    /// # Errors
    /// It is none, or so damaged that nothing of it can be read.
    pub fn read(hive: &Hive) -> Result<Self> {
        let mut store = Self::default();
        let Some(objects) = hive.key("Objects")? else { return Err(crate::registry::Wrong::none("it has no objects: it is no boot store")) };
        let (keys, wrong) = hive.subkeys(&objects);
        store.wrong.extend(wrong.into_iter().map(|wrong| wrong.text));
        for key in keys {
            let mut object = Object::default();
            if let Ok(Some(kind)) = hive.subkey(&key, "Description").map(|found| found.and_then(|key| hive.value(&key, "Type").ok().flatten())) {
                object.kind = kind.number().unwrap_or(0);
            }
            let elements = match hive.subkey(&key, "Elements") {
                Ok(Some(elements)) => elements,
                Ok(None) => continue,
                Err(wrong) => {
                    store.wrong.push(format!("{}: {wrong}", key.name));
                    continue;
                }
            };
            let (elements, wrong) = hive.subkeys(&elements);
            store.wrong.extend(wrong.into_iter().map(|wrong| format!("{}: {wrong}", key.name)));
            for element in elements {
                let Ok(number) = u32::from_str_radix(&element.name, 16) else { continue };
                match hive.value(&element, "Element") {
                    Ok(Some(value)) => _ = object.elements.insert(number, value),
                    Ok(None) => {}
                    Err(wrong) => store.wrong.push(format!("{} {}: {wrong}", key.name, element.name)),
                }
            }
            store.objects.insert(key.name.to_lowercase(), object);
        }
        Ok(store)
    }
}
