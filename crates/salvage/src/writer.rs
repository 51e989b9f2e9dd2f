//! What a run writes: bytes, zeroes, and marks that make durable what came before them.

use crate::ends::Break;
use crate::file::MapFile;
use crate::map::{Map, State};
use crate::pieces::Pieces;
use badger_drive::Target;
use badger_drive::buffer::{Buffer, Pool, is_zero};
use std::ops::Range;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, SyncSender};

/// What is to be written.
pub(crate) enum Piece {
    Data(Range<u64>, Buffer, Option<blake3::Hash>),
    Zero(Range<u64>),
    /// All before it is to be durable, and noted: what changed, and the whole where the map gets long.
    Mark(Vec<(Range<u64>, State)>, Option<Map>),
    /// All before it is to be written.
    Sync(SyncSender<()>),
}

pub(crate) struct Writer<'a> {
    pub target: &'a Target,
    pub file: MapFile,
    pub pieces: Pieces,
    pub pool: &'a Pool,
}

impl Writer<'_> {
    fn zero(&self, range: Range<u64>) -> Result<(), Break> {
        let mut at = range.start;
        while at < range.end {
            let mut len = self.target.zero_run(at, range.end - at);
            if len == 0 {
                len = (range.end - at).min(1 << 20);
                self.target.write_zero(at, len)?;
            }
            at += len;
        }
        Ok(())
    }

    fn take(&mut self, piece: Piece) -> Result<(), Break> {
        match piece {
            Piece::Data(range, buffer, hash) => {
                let bytes = &buffer[..(range.end - range.start) as usize];
                self.pieces.add(range.start, bytes.len() as u64, &hash.unwrap_or_else(|| blake3::hash(bytes)));
                let written = if is_zero(bytes) { self.zero(range) } else { self.target.write_at(range.start, bytes).map_err(Break::from) };
                self.pool.give(buffer);
                written
            }
            Piece::Zero(range) => {
                self.pieces.add_zeroes(range.clone());
                self.zero(range)
            }
            // The target first, then the list, then the map: never the other way round.
            Piece::Mark(changes, whole) => {
                self.target.flush()?;
                self.pieces.keep()?;
                match whole {
                    Some(map) => self.file.renew(&map)?,
                    None => self.file.note(&changes)?,
                }
                Ok(())
            }
            Piece::Sync(done) => {
                // Nobody waits any more where the run ended.
                let _ = done.send(());
                Ok(())
            }
        }
    }

    /// Takes what comes to its end; after a failure nothing more is written, and the pool gets its buffers all the same.
    pub fn work(&mut self, taken: &Receiver<Piece>, failed: &AtomicBool) -> Result<(), Break> {
        let mut ended = Ok(());
        for piece in taken {
            match (&ended, piece) {
                (Ok(()), piece) => {
                    ended = self.take(piece);
                    failed.store(ended.is_err(), Ordering::SeqCst);
                }
                (Err(_), Piece::Data(_, buffer, _)) => self.pool.give(buffer),
                (Err(_), _) => {}
            }
        }
        ended
    }
}

/// Hashes what is on its way to the writer.
pub(crate) fn hash_all(read: &Receiver<Piece>, hashed: &SyncSender<Piece>) {
    for piece in read {
        let piece = match piece {
            Piece::Data(range, buffer, None) => {
                let hash = blake3::hash(&buffer[..(range.end - range.start) as usize]);
                Piece::Data(range, buffer, Some(hash))
            }
            piece => piece,
        };
        // The writer takes everything to the end, whatever becomes of it.
        if hashed.send(piece).is_err() {
            return;
        }
    }
}
