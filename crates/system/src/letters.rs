//! Which volume has which letter, as a system of the NT family keeps it in its registry: by disk and partition, in forms of different lengths for
//! the two kinds of table.

use crate::patch::{Patch, in_file_where_changed};
use crate::places::{Place, Places, Sought, whole};
use crate::registry::{Edit, Hive, Value};
use crate::store::Device;
use crate::windows::{OWN_LETTER, hive};
use badger_drive::Source;
use badger_drive::field::{le32, le64};

const KEY: &str = "MountedDevices";
/// The settings of a system.
pub(crate) const SETTINGS: &str = "/Windows/System32/config/SYSTEM";

/// What is changed so that every volume keeps its letter.
pub(crate) struct Lettered {
    pub patches: Vec<Patch>,
    /// There was no room for that: what names the old places is taken out, and the system settles its letters itself.
    pub is_given_up: bool,
}

fn record(device: Device) -> Option<Vec<u8>> {
    match device {
        Device::Gpt(_, partition) => Some([b"DMIO:ID:".as_slice(), &partition.0].concat()),
        Device::Mbr(disk, start) => Some([disk.to_le_bytes().as_slice(), &start.to_le_bytes()].concat()),
        _ => None,
    }
}

/// Records that name other places than `device` gives to the volumes, with what they should say; first that of the system's volume, `own`.
fn wrong(hive: &Hive, places: &Places, own: &Place, device: &dyn Fn(&Place) -> Option<Device>) -> Option<Vec<Value>> {
    let key = hive.key(KEY).ok().flatten().filter(|_| hive.base().is_clean())?;
    let values = hive.values(&key).0;
    let mine = values.iter().find(|value| value.name == OWN_LETTER)?.data.clone();
    // Others of that disk by the older kind of table are told by its signature.
    let signature = (mine.len() == 12).then(|| le32(&mine, 0));
    let place_of = |value: &Value| match () {
        () if value.data == mine => Some(own),
        () if value.data.len() == 12 && signature == Some(le32(&value.data, 0)) => {
            places.all.iter().find(|place| place.start == le64(&value.data, 4))
        }
        () => None,
    };
    let known = values.into_iter().filter_map(|value| Some((record(device(place_of(&value)?)?)?, value)));
    Some(known.filter(|(data, value)| *data != value.data).map(|(data, value)| Value { data, ..value }).collect())
}

/// Sets the letters right that a system keeps; `None` where they are right, it keeps none, or its registry was not written to its end.
pub(crate) fn set_right(drive: &Source, places: &Places, own: &Place, device: &dyn Fn(&Place) -> Option<Device>) -> Option<Lettered> {
    let hive = hive(own, SETTINGS).ok().flatten()?;
    let wrong = wrong(&hive, places, own, device).filter(|wrong| !wrong.is_empty())?;
    let Sought::Here(content) = own.file(SETTINGS) else { return None };
    let old = whole(&content).ok()?;
    let patched = |edit: Edit| {
        let new = edit.bytes();
        if new.len() == old.len() { in_file_where_changed(drive, own, &content, &old, &new) } else { None }
    };
    let mut edit = Edit::of(&hive).ok()?;
    let is_set = wrong.iter().all(|value| edit.set(KEY, value).is_ok());
    if let Some(patches) = Some(edit).filter(|_| is_set).and_then(patched) {
        return Some(Lettered { patches, is_given_up: false });
    }
    let mut edit = Edit::of(&hive).ok()?;
    let is_out = wrong.iter().all(|value| edit.remove(KEY, &value.name).is_ok());
    Some(Lettered { patches: Some(edit).filter(|_| is_out).and_then(patched)?, is_given_up: true })
}
