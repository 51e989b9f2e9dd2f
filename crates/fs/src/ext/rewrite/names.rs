//! What names inodes: entries of directories, attributes kept in inodes, the file that notes orphans.

use super::super::checksum::{self, crc32c};
use super::super::inode::Inode;
use super::super::{ATTRIBUTE_INODES, ATTRIBUTES, INDEXED, MOST_DIRECTORY, ORPHAN_MARK};
use super::{Change, set32};
use crate::content::{FileMap, Form};
use crate::finding::{Finding, Result};
use badger_drive::field::{le16, le32};
use std::collections::BTreeMap;

impl Change<'_> {
    /// Leads a block of attributes, which several files may share. Gives its new number.
    pub(super) fn attribute_block(&mut self, block: u64) -> Result<u64> {
        let fs = self.fs;
        let to = self.moved(block)?;
        if self.attributes.insert(block) {
            let old = fs.volume.read(block * fs.block, fs.block as usize)?;
            let mut bytes = old.clone();
            if fs.features[1] & ATTRIBUTE_INODES != 0 {
                self.attribute_numbers(&mut bytes, 32);
            }
            if let Some(seed) = fs.seed {
                let sum = checksum::attributes(seed, to, &bytes);
                set32(&mut bytes, 16, sum);
            }
            if bytes != old {
                self.view.write(to * fs.block, &bytes)?;
            }
        }
        Ok(to)
    }

    /// Numbers of inodes that hold long values of attributes.
    pub(super) fn attribute_numbers(&self, bytes: &mut [u8], mut at: usize) {
        while let Some(entry) = bytes.get(at..at + 16).filter(|entry| entry[..4] != [0; 4]) {
            let (number, len) = (le32(entry, 4), usize::from(entry[0]));
            if number != 0 {
                set32(bytes, at + 4, self.number(number));
            }
            at += (16 + len + 3) & !3;
        }
    }

    /// Gives the entries of a stretch of a directory their inodes' new numbers.
    pub(super) fn entries(&self, bytes: &mut [u8]) {
        let mut at = 0;
        while at + 8 <= bytes.len() {
            let len = usize::from(le16(bytes, at + 4));
            let len = if len == 65535 || len == 0 && self.fs.block == 65536 { 65536 } else { len };
            let number = le32(bytes, at);
            if number != 0 {
                set32(bytes, at, self.number(number));
            }
            if len < 8 {
                break;
            }
            at += len;
        }
    }

    pub(super) fn inline_directory(&self, bytes: &mut [u8]) {
        let above = le32(bytes, 40);
        set32(bytes, 40, self.number(above));
        self.entries(&mut bytes[44..100]);
        let start = 128 + usize::from(le16(bytes, 128));
        if bytes.len() <= 132 || le32(bytes, start) != ATTRIBUTES {
            return;
        }
        let mut at = start + 4;
        while let Some(entry) = bytes.get(at..at + 16).filter(|entry| entry[..4] != [0; 4]) {
            let (name_len, index) = (usize::from(entry[0]), entry[1]);
            let (value, len) = (start + 4 + usize::from(le16(entry, 2)), le32(entry, 8) as usize);
            if index == 7 && bytes.get(at + 16..at + 16 + name_len) == Some(b"data") && value + len <= bytes.len() {
                self.entries(&mut bytes[value..value + len]);
                // The hash of the value may be left out, but not be wrong.
                set32(bytes, at + 12, 0);
            }
            at += (16 + name_len + 3) & !3;
        }
    }

    pub(super) fn directory(&mut self, old: &Inode, seed: Option<u32>, moved: bool) -> Result<()> {
        let fs = self.fs;
        let size = old.size().min(MOST_DIRECTORY);
        let content = FileMap::new(size, fs.pieces_of(old)?, Form::Plain);
        let indexed = old.flags() & INDEXED != 0 && fs.features[0] & 0x20 != 0;
        let nodes = if indexed { fs.index_blocks(&content)? } else { BTreeMap::new() };
        let mut before = vec![0; fs.block as usize];
        for block in 0..size / fs.block {
            content.read(&fs.volume, block * fs.block, &mut before)?;
            let mut bytes = before.clone();
            self.entries(&mut bytes);
            if bytes == before && !moved {
                continue;
            }
            if let Some(seed) = seed {
                let tail = bytes.len() - 12;
                if let Some(&at) = nodes.get(&block) {
                    let (limit, count) = (usize::from(le16(&bytes, at)), usize::from(le16(&bytes, at + 2)));
                    let end = at + limit * 8;
                    if end + 8 <= bytes.len() && count <= limit {
                        let sum = crc32c(crc32c(crc32c(seed, &bytes[..at + count * 8]), &bytes[end..end + 4]), &[0; 4]);
                        set32(&mut bytes, end + 4, sum);
                    }
                } else if le16(&bytes, tail + 4) == 12 && bytes[tail + 7] == 0xde {
                    let sum = crc32c(seed, &bytes[..tail]);
                    set32(&mut bytes, tail + 8, sum);
                }
            }
            let place = content.place(block * fs.block).ok_or_else(|| Finding::new("ext-directory", "a directory has a hole"))?;
            let to = self.moved(place / fs.block)?;
            self.view.write(to * fs.block, &bytes)?;
        }
        Ok(())
    }

    /// The file of orphans: its checksums count the places of its blocks.
    pub(super) fn orphan_file(&mut self, old: &Inode, seed: Option<u32>) -> Result<()> {
        let fs = self.fs;
        let Some(seed) = seed else { return Ok(()) };
        for piece in fs.pieces_of(old)? {
            let Some(at) = piece.at else { continue };
            for block in at / fs.block..(at + piece.len).div_ceil(fs.block) {
                let before = fs.volume.read(block * fs.block, fs.block as usize)?;
                let mut bytes = before.clone();
                let tail = bytes.len() - 8;
                if le32(&bytes, tail) != ORPHAN_MARK {
                    continue;
                }
                let to = self.moved(block)?;
                let sum = crc32c(crc32c(seed, &to.to_le_bytes()), &bytes[..tail]);
                set32(&mut bytes, tail + 4, sum);
                if bytes != before {
                    self.view.write(to * fs.block, &bytes)?;
                }
            }
        }
        Ok(())
    }
}
