//! A half-salvaged drive as a drive: what is saved is read from the target, of all else nobody knows.

use crate::map::{Map, State};
use badger_drive::medium::inside;
use badger_drive::{Bus, Geometry, Holds, Identity, Medium, ReadError, Source, Stretch};
use std::fs::File;
use std::path::Path;

/// What of a drive was salvaged, over the target that it lies on.
pub struct Salvaged {
    target: Source,
    map: Map,
    identity: Identity,
    geometry: Geometry,
}

impl Salvaged {
    /// What `map` calls saved, on `target`; it is shown as the drive that failed, by its `model` and `serial`, at `path`.
    pub fn new(target: Source, map: Map, (model, serial): (&str, &str), sector: u32, path: &Path) -> Self {
        let geometry = Geometry { size_bytes: map.size(), logical_sector: sector, physical_sector: sector.max(target.geometry().physical_sector) };
        let identity = Identity { model: model.into(), serial: serial.into(), bus: Bus::Image, read_only: true, ..Identity::of_file(path) };
        Self { target, map, identity, geometry }
    }

    /// What is known of it.
    pub fn map(&self) -> &Map {
        &self.map
    }
}

impl Medium for Salvaged {
    fn geometry(&self) -> Geometry {
        self.geometry
    }
    fn identity(&self) -> &Identity {
        &self.identity
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        let end = inside(offset, buf.len(), self.geometry.size_bytes)?;
        let missing = self.map.within(offset..end).find(|(_, state)| *state != State::Saved).map(|(range, _)| range.start);
        let good = missing.unwrap_or(end);
        self.target.read_at(offset, &mut buf[..(good - offset) as usize])?;
        match missing {
            None => Ok(()),
            Some(at) => Err(ReadError::Unreadable { offset: at, len: end - at, why: "it is not salvaged".into() }),
        }
    }
    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        let Some((held, state)) = self.map.at(offset) else { return Stretch { len: 0, holds: Holds::Bytes } };
        let len = (held.end - offset).min(max);
        match state {
            State::Saved => self.target.stretch(offset, len),
            _ => Stretch { len, holds: Holds::Unknown },
        }
    }
    fn rests_on(&self) -> Vec<&File> {
        self.target.rests_on()
    }
    fn veil(&self) -> Option<String> {
        self.target.veil()
    }
    fn present(&self) -> bool {
        self.target.present()
    }
    fn remark(&self) -> Option<String> {
        let totals = self.map.totals();
        (totals.saved < self.map.size()).then(|| {
            let percent = totals.saved as f64 * 100.0 / self.map.size().max(1) as f64;
            format!("it is salvaged to {percent:.2} %: all else is unknown")
        })
    }
}
