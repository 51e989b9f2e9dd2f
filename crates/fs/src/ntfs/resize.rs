//! Not yet.
use super::Ntfs;
use crate::resize::{Bounds, View, Wanted, refused};
use crate::survey::Survey;
use crate::tree::Result;

impl Ntfs {
    pub(super) fn bounds_of(&self, _survey: &Survey, _sector: u64) -> Result<Bounds> {
        Err(refused("not-resized", "volumes of this format are not resized yet"))
    }

    pub(super) fn resized_to(&self, _survey: &Survey, _wanted: &Wanted) -> Result<View> {
        Err(refused("not-resized", "volumes of this format are not resized yet"))
    }
}
