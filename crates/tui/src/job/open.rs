//! The jobs that are open, and those of the ledger beside them.

use super::view::JobView;
use crate::message::{Message, Place};
use crate::step::Step;
use badger_bench::Bench;
use badger_bench::ledger::JobRow;
use badger_jobs::salvage::SalvageOrder;
use badger_jobs::{ImageOrder, Order};
use badger_salvage::run::Steer;
use crossterm::event::KeyCode;
use std::path::Path;

/// A job in the list beside the shelf.
pub enum Listed {
    /// Open in this program, by its index.
    Open(usize),
    /// Known from the ledger.
    Past(Box<JobRow>),
}

/// All of them.
#[derive(Default)]
pub struct OpenJobs {
    /// Open in this program.
    pub list: Vec<JobView>,
    /// The one in hand.
    pub current: usize,
    /// Known from the ledger.
    pub past: Vec<JobRow>,
}

impl OpenJobs {
    /// The one in hand.
    pub fn in_hand(&mut self) -> Option<&mut JobView> {
        self.list.get_mut(self.current)
    }

    /// Jobs beside the shelf: the open ones, then those of the ledger.
    pub fn listed(&self) -> Vec<Listed> {
        let open = (0..self.list.len()).rev().map(Listed::Open);
        let shown: Vec<i64> = self.list.iter().filter_map(JobView::number).collect();
        open.chain(self.past.iter().filter(|row| !shown.contains(&row.id)).cloned().map(|row| Listed::Past(Box::new(row)))).collect()
    }

    /// Takes an order in hand, or the live job of the same two drives.
    pub fn begin(&mut self, order: Order, bench: &Bench) {
        let same = |job: &JobView| job.order.source == order.source && job.order.target == order.target && job.is_live();
        if let Some(open) = self.list.iter().position(same) {
            self.current = open;
        } else {
            self.list.push(JobView::new(order, bench));
            self.current = self.list.len() - 1;
        }
    }

    /// Takes a job in hand that keeps a drive in an image, or the live one of the same drive and file.
    pub fn keep(&mut self, order: ImageOrder, bench: &Bench) {
        let same = |job: &JobView| job.order.source == order.source && job.order.target == order.file && job.is_live();
        if let Some(open) = self.list.iter().position(same) {
            self.current = open;
        } else {
            self.list.push(JobView::image(order, bench));
            self.current = self.list.len() - 1;
        }
    }

    /// Takes a job in hand that salvages a drive, or the live one of the same drive and target.
    pub fn salvage(&mut self, order: SalvageOrder, bench: &Bench) {
        let same = |job: &JobView| job.order.source == order.source && job.order.target == order.target && job.is_live();
        if let Some(open) = self.list.iter().position(same) {
            self.current = open;
        } else {
            self.list.push(JobView::salvage(order, bench));
            self.current = self.list.len() - 1;
        }
    }

    /// Takes the job with this number in hand, where it is open.
    pub fn find(&mut self, number: i64) -> bool {
        let open = self.list.iter().position(|job| job.number() == Some(number));
        self.current = open.unwrap_or(self.current);
        open.is_some()
    }

    /// Opens a job that is over; false where it has no finished run.
    pub fn reopen(&mut self, row: &JobRow, bench: &Bench) -> bool {
        let Some(view) = JobView::past(row, bench) else { return false };
        self.list.push(view);
        self.current = self.list.len() - 1;
        true
    }

    /// Wants something next of the drive whose salvage goes on by this map; false where none does.
    pub fn want_next(&mut self, map: &Path, places: Vec<Vec<std::ops::Range<u64>>>) -> bool {
        let job = self.list.iter().find(|job| job.is_running() && job.rescue.as_ref().is_some_and(|rescue| rescue.order.map == *map));
        let Some(rescue) = job.and_then(|job| job.rescue.as_ref()) else { return false };
        rescue.seat.wishes.lock().expect("wishes lock").push_back(Steer::Files(places));
        true
    }

    /// Whether keys are letters.
    pub fn is_typing(&self) -> bool {
        self.list.get(self.current).is_some_and(JobView::is_typing)
    }

    /// Jobs whose run goes on.
    pub fn running(&self) -> usize {
        self.list.iter().filter(|job| job.is_running()).count()
    }

    /// The latest live job that has something to do with a drive.
    pub fn live_on(&self, path: &Path) -> Option<&JobView> {
        self.list.iter().rev().find(|job| job.is_live() && (job.order.source == *path || job.order.target == *path))
    }

    /// The job whose run goes on with a drive.
    pub fn running_on(&self, path: &Path) -> Option<&JobView> {
        self.list.iter().find(|job| job.is_running() && (job.order.source == *path || job.order.target == *path))
    }

    /// Takes a key.
    pub fn key(&mut self, code: KeyCode, bench: &Bench) -> Option<Message> {
        let count = self.list.len();
        let Some(job) = self.list.get_mut(self.current) else {
            return (code == KeyCode::Esc).then_some(Message::Go(Place::Bench));
        };
        match code {
            code if job.is_typing() => job.key(code, bench),
            KeyCode::Char(']') => self.current = (self.current + 1) % count,
            KeyCode::Char('[') => self.current = (self.current + count - 1) % count,
            KeyCode::Esc if !job.back() => return Some(Message::Go(Place::Bench)),
            KeyCode::Esc => {}
            KeyCode::Char('d') if job.step >= Step::Run && job.rescue.is_some() => {
                return job.rescue.as_ref().map(|rescue| Message::Dig(rescue.order.map.clone()));
            }
            KeyCode::Char('d') if job.step >= Step::Prove && job.keep.is_some() => return Some(Message::Dig(job.order.target.clone())),
            code => job.key(code, bench),
        }
        let changed = self.list.get_mut(self.current).is_some_and(|job| std::mem::take(&mut job.ledger_changed));
        changed.then_some(Message::LedgerChanged)
    }
}
