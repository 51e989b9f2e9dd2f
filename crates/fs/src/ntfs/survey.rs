//! Going over an NTFS volume: every file record, every run, every directory's index, and the copies of what matters most.

use super::check::name_hash;
use super::record::record_fault;
use super::walk::{Attribute, BITMAP, DATA, FIRST_USER, LIST, NAME, NUMBER, Ntfs};
use super::{attribute, fixed, is_base, owner, resident, runs};
use crate::bits::Bits;
use crate::finding::{Finding, Weight};
use crate::survey::{Claims, Survey, Use};
use crate::tree::Volume;
use badger_drive::field::{le16, le32, le64};

/// Records of the format's own.
const MFT: u64 = 0;
const LOG: u64 = 2;
const VOLUME: u64 = 3;
const MAP: u64 = 6;
const EXTEND: u64 = 11;

/// What a record said of itself, and what the directories say of it.
#[derive(Clone, Copy, Default)]
struct Known {
    sequence: u16,
    used: bool,
    base: bool,
    directory: bool,
    links: u16,
    names: u16,
    short: u16,
    entered: u16,
    /// It has a list of attributes.
    list: bool,
    /// The hashes of its names, less those of the names in directories: nothing is left where they are the same.
    hashes: u64,
}

impl Ntfs {
    /// Reads a map of bits whole, in steps.
    fn load(&self, number: u64, code: u32, count: u64, claims: &mut Claims) -> Bits {
        let mut bits = Bits::new(count);
        match self.content(number, code, "") {
            Ok(content) => {
                let mut bytes = vec![0; 1 << 20];
                let mut at = 0;
                while at < content.size().min(count.div_ceil(8)) {
                    let read = content.read(self.volume(), at, &mut bytes).unwrap_or_else(|finding| {
                        claims.findings.add(Finding { weight: Weight::Grave, ..finding });
                        bytes.fill(0xff);
                        bytes.len().min((content.size() - at) as usize)
                    });
                    bits.load(at * 8..count, &bytes[..read]);
                    at += read.max(1) as u64;
                }
                if content.size().saturating_mul(8) < count {
                    claims.findings.add(Finding::grave("ntfs-bitmap", format!("the bitmap in record {number} is too short")));
                }
            }
            Err(finding) => claims.findings.add(Finding::grave("ntfs-bitmap", format!("a bitmap cannot be read: {}", finding.text))),
        }
        bits
    }

    pub(super) fn go_over(&self) -> Survey {
        let mut survey = Survey::default();
        let mut claims = Claims::new(0, self.cluster, 0, self.clusters, "cluster");
        let map = self.load(MAP, DATA, self.clusters, &mut claims);
        let records = self.table.size() / self.record as u64;
        let in_use = self.load(MFT, BITMAP, records, &mut claims);
        let mut known = vec![Known::default(); records as usize];
        self.each_record(|number, record| {
            let extension = record.as_ref().is_some_and(|record| le16(record, 22) & 1 != 0 && !is_base(record));
            survey.spread += u64::from(extension);
            self.take_record(number, record, &in_use, &mut known, &mut claims);
        });
        for number in 0..records {
            if known[number as usize].used && known[number as usize].base && known[number as usize].directory {
                self.check_directory(number, &mut known, &mut claims);
            }
        }
        for (known, number) in known.iter().zip(0..).filter(|(known, _)| known.used && known.base) {
            *(if known.directory { &mut survey.directories } else { &mut survey.files }) += u64::from(number >= FIRST_USER);
            if known.list {
                self.list_fault(number).into_iter().for_each(|finding| claims.findings.add(finding));
            }
            if known.names == known.entered && known.names > 0 && known.hashes != 0 {
                let text = format!("record {number} has other names than the directories say");
                claims.findings.add(Finding::new("ntfs-names", text));
            }
            if known.names != known.entered && known.names > 0 {
                let text = format!("record {number} has {} names, {} of them stand in a directory", known.names, known.entered);
                claims.findings.add(Finding::new("ntfs-names", text));
            }
            if number >= FIRST_USER && known.links != known.names && known.links != known.names - known.short.min(known.names) {
                let text = format!("record {number} says it has {} links, it has {} names", known.links, known.names);
                claims.findings.add(Finding::new("ntfs-link-count", text));
            }
        }
        self.system_files().into_iter().for_each(|finding| claims.findings.add(finding));
        self.check_copies(&mut claims);
        self.check_state(&mut claims);
        claims.finish(&map, "ntfs-lost", "ntfs-free-in-use", &mut survey);
        // The copy of the boot sector stands behind the last cluster.
        let last = self.volume().len().saturating_sub(self.volume().sector());
        survey.usage.set(last..self.volume().len(), Use::Metadata);
        survey
    }

    fn take_record(&self, number: u64, record: Option<Vec<u8>>, in_use: &Bits, known: &mut [Known], claims: &mut Claims) {
        let wrong = |code, what: &str| Finding::new(code, format!("record {number}: {what}"));
        let Some(record) = record else {
            if in_use.has(number) {
                claims.findings.add(wrong("ntfs-record", "it is in use, but torn or overwritten"));
            }
            return;
        };
        let used = le16(&record, 22) & 1 != 0;
        if used != in_use.has(number) {
            claims.findings.add(wrong(
                "ntfs-table-map",
                if used { "it is in use, but free in the table's map" } else { "it is free, but in use in the table's map" },
            ));
        }
        if !used {
            return;
        }
        if let Some(what) = record_fault(&record) {
            claims.findings.add(wrong("ntfs-record", what));
        }
        let (base, owner) = (is_base(&record), owner(number, &record));
        let mut attributes = Vec::new();
        Self::attributes_in(&record, &mut attributes);
        let names: Vec<&[u8]> =
            attributes.iter().filter(|one| one.code == NAME).filter_map(|one| resident(&one.bytes)).filter(|name| name.len() >= 66).collect();
        if let Some(entry) = known.get_mut(owner as usize) {
            entry.names = entry.names.saturating_add(names.len() as u16);
            entry.list |= attributes.iter().any(|one| one.code == LIST);
            for name in &names {
                let units: Vec<u16> = (0..usize::from(name[64])).map(|unit| le16(name, 66 + unit * 2)).collect();
                entry.hashes = entry.hashes.wrapping_add(name_hash(le64(name, 0), &units, name[65] == 2));
            }
            entry.short += names.iter().filter(|name| name[65] == 2).count() as u16;
        }
        let directory = le16(&record, 22) & 2 != 0;
        if let Some(entry) = known.get_mut(number as usize) {
            *entry = Known { sequence: le16(&record, 16), used, base, directory, links: le16(&record, 18), ..*entry };
        }
        let system = owner < FIRST_USER || names.iter().any(|name| le64(name, 0) & NUMBER == EXTEND);
        for one in attributes.iter().filter(|one| one.bytes[8] != 0) {
            let use_ = if one.code == DATA && !system { Use::Data } else { Use::Metadata };
            self.claim(number, one, use_, claims);
        }
    }

    fn claim(&self, number: u64, one: &Attribute, use_: Use, claims: &mut Claims) {
        let mut count = 0u64;
        for (first, len) in runs(&one.bytes) {
            count = count.saturating_add(len);
            let Some(first) = first else { continue };
            if first.checked_add(len).is_none_or(|end| end > self.clusters) {
                claims.findings.add(Finding::new("ntfs-runs", format!("record {number}: a run list leads out of the volume")));
                return;
            }
            claims.claim(first..first + len, use_, "ntfs-cross-linked", || format!("record {number}"));
        }
        // An empty stream ends before its first cluster.
        let (low, high) = (le64(&one.bytes, 16), le64(&one.bytes, 24));
        if high.wrapping_sub(low).wrapping_add(1) != count {
            claims.findings.add(Finding::new("ntfs-runs", format!("record {number}: a run list is shorter or longer than it says")));
        }
    }

    fn check_directory(&self, number: u64, known: &mut [Known], claims: &mut Claims) {
        let index = match self.index(number, true) {
            Ok(index) => index,
            Err(finding) => {
                claims.findings.add(Finding::new("ntfs-index", format!("record {number} is a directory without an index: {}", finding.text)));
                return;
            }
        };
        index.findings.into_iter().for_each(|finding| claims.findings.add(finding));
        let long = index.entries.iter().map(|(reference, name)| (*reference, name, false));
        for (reference, name, dos) in long.chain(index.short.iter().map(|(reference, name)| (*reference, name, true))) {
            let (target, sequence) = (reference & NUMBER, (reference >> 48) as u16);
            match known.get_mut(target as usize).filter(|entry| entry.used && entry.base && (sequence == 0 || entry.sequence == sequence)) {
                Some(entry) => {
                    entry.entered = entry.entered.saturating_add(1);
                    entry.hashes = entry.hashes.wrapping_sub(name_hash(number, name, dos));
                }
                None => {
                    let name = String::from_utf16_lossy(name);
                    let text = format!("\"{name}\" in record {number} names record {target}, which is not in use or another file by now");
                    claims.findings.add(Finding::new("ntfs-dangling", text));
                }
            }
        }
    }

    /// The mirror of the first records, and the copy of the boot sector.
    fn check_copies(&self, claims: &mut Claims) {
        if self.mirror.1 {
            claims.findings.add(Finding::new("ntfs-table", "the first record of the master file table is damaged; its mirror is used"));
        }
        // As long as it says it is; drivers hold all of it against the table.
        let said = self.content(1, DATA, "").map_or(0, |content| content.size() as usize / self.record);
        let count = said.clamp(4, (self.cluster as usize / self.record).max(4));
        let plain = |bytes: Vec<u8>| {
            let mut bytes = fixed(bytes, b"FILE")?;
            // The marks of the update sequence may differ; what they protect may not.
            let (start, count) = (usize::from(le16(&bytes, 4)), usize::from(le16(&bytes, 6)) * 2);
            bytes.get_mut(start..start + count)?.fill(0);
            Some(bytes)
        };
        for number in 0..count {
            let at = self.mirror.0.saturating_mul(self.cluster).saturating_add((number * self.record) as u64);
            let copy = self.volume().read(at, self.record).ok().and_then(plain);
            let mut first = vec![0; self.record];
            let read = self.table.read(self.volume(), (number * self.record) as u64, &mut first);
            let first = read.ok().and_then(|_| plain(first));
            if first.is_none() || first != copy {
                claims.findings.add(Finding::new("ntfs-mirror", format!("record {number} differs from its mirror")).at(at));
            }
        }
        let sector = |at: u64| self.volume().read(at, 512).ok();
        if let Some(boot) = sector(0) {
            // Without the copy of the boot sector, which some makers put elsewhere.
            let said = le64(&boot, 40).saturating_mul(u64::from(le16(&boot, 11)));
            Finding::longer(said, self.volume().len()).into_iter().for_each(|finding| claims.findings.add(finding));
            let at = le64(&boot, 40).saturating_mul(u64::from(le16(&boot, 11)));
            if sector(at).is_none_or(|copy| copy != boot) {
                claims.findings.add(Finding::new("ntfs-boot-copy", "the copy of the boot sector is missing or differs").at(at));
            }
        }
    }

    fn check_state(&self, claims: &mut Claims) {
        let flags = self.raw_record(VOLUME).ok().and_then(|record| attribute(&record, 0x70).and_then(resident).map(|info| le16(info, 10)));
        match flags {
            Some(flags) if flags & 1 != 0 => claims.findings.add(Finding::new("volume-dirty", "it was in use when it was last seen")),
            Some(_) => {}
            None => claims.findings.add(Finding::new("ntfs-record", "record 3: what it says of the volume is damaged")),
        }
        if super::is_asleep(self) {
            claims.findings.add(Finding::note("volume-asleep", "its system only slept"));
        }
        if self.log_is_pending() {
            let text = "its log holds changes that were not carried out; its own system will do so when it starts";
            claims.findings.add(Finding::new("ntfs-log-pending", text));
        }
    }

    /// Whether the newer of the log's two restart pages says that somebody still uses it.
    fn log_is_pending(&self) -> bool {
        let Ok(log) = self.content(LOG, DATA, "") else { return false };
        let mut bytes = vec![0; 8192];
        if log.read(self.volume(), 0, &mut bytes).is_err() {
            return false;
        }
        let page = u64::from(le32(&bytes, 16)).clamp(512, 65536);
        let newest = [0, page].into_iter().filter_map(|at| {
            let mut bytes = vec![0; page as usize];
            let count = log.read(self.volume(), at, &mut bytes).ok()?;
            let page = fixed(bytes, b"RSTR").filter(|_| count as u64 == page)?;
            let area = usize::from(le16(&page, 24));
            Some((le64(&page, area), le16(&page, area + 12), le16(&page, area + 14)))
        });
        // Nobody in the list of users, or put away properly.
        newest.max_by_key(|(at, ..)| *at).is_some_and(|(_, users, flags)| users != 0xffff && flags & 2 == 0)
    }
}
