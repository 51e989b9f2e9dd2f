//! Going over a FAT volume: both tables, every chain, every directory.

use super::Fat;
use crate::bits::Bits;
use crate::finding::{Finding, Weight};
use crate::node::{Node, NodeKind};
use crate::survey::{Claims, Survey, Use};
use crate::tree::{self, Tree};
use badger_drive::field::{le16, le32};

/// What the table's entries say, taken together.
struct Table {
    used: Bits,
    bad: u64,
    clean: bool,
}

impl Fat {
    /// The value of an entry out of a stretch of a table that begins with entry `first`, which is even.
    fn value(&self, bytes: &[u8], index: usize) -> u32 {
        match self.bits {
            12 => u32::from(le16(bytes, index * 3 / 2)) >> (index % 2 * 4) & 0xfff,
            16 => u32::from(le16(bytes, index * 2)),
            _ => le32(bytes, index * 4) & 0x0fff_ffff,
        }
    }

    /// Reads the tables through once, side by side.
    fn tables(&self, claims: &mut Claims) -> Table {
        // A multiple of every entry's size, so that none lies across two stretches.
        const STEP: u64 = 3 << 18;
        let mut table = Table { used: Bits::new(u64::from(self.clusters) + 2), bad: 0, clean: true };
        let len = ((u64::from(self.clusters) + 2) * u64::from(self.bits)).div_ceil(8);
        let per_step = STEP * 8 / u64::from(self.bits);
        let bad = match self.bits {
            12 => 0xff7,
            16 => 0xfff7,
            _ => 0x0fff_fff7,
        };
        for step in 0..len.div_ceil(STEP) {
            let (start, size) = (step * STEP, STEP.min(len - step * STEP) as usize);
            let copies = if self.mirrored { 0..self.copies } else { self.active..self.active + 1 };
            let mut read = copies.map(|copy| self.volume.read(self.table + copy * self.table_len + start, size));
            let first = read.next().unwrap_or_else(|| Err(Finding::new("fat-table", "there is none")));
            for (copy, other) in read.enumerate() {
                match (&first, other) {
                    (Ok(first), Ok(other)) if *first != other => {
                        let at = first.iter().zip(&other).position(|(a, b)| a != b).unwrap_or(0) as u64;
                        let text = format!("table {} differs from the first from entry {} on", copy + 2, (start + at) * 8 / u64::from(self.bits));
                        claims.findings.add(Finding::new("fat-tables-differ", text).at(self.table + start + at));
                        // What either of them calls used is used.
                        self.count_in(&other, step * per_step, &mut table.used);
                    }
                    (_, Err(finding)) => claims.findings.add(finding),
                    _ => {}
                }
            }
            let bytes = match first {
                Ok(bytes) => bytes,
                Err(finding) => {
                    claims.findings.add(Finding { weight: Weight::Grave, ..finding });
                    continue;
                }
            };
            if step == 0 {
                table.clean = match self.bits {
                    12 => true,
                    16 => le16(&bytes, 2) & 0x8000 != 0,
                    _ => le32(&bytes, 4) & 0x0800_0000 != 0,
                };
            }
            let count = per_step.min(u64::from(self.clusters) + 2 - (step * per_step).min(u64::from(self.clusters) + 2));
            table.bad += (0..count as usize).filter(|index| self.value(&bytes, *index) == bad).count() as u64;
            self.count_in(&bytes, step * per_step, &mut table.used);
        }
        table
    }

    /// Takes in the entries that are not free.
    fn count_in(&self, bytes: &[u8], first: u64, used: &mut Bits) {
        let count = (bytes.len() as u64 * 8 / u64::from(self.bits)).min((u64::from(self.clusters) + 2).saturating_sub(first));
        let mut run = None;
        for index in 0..=count {
            let is_used = index < count && first + index >= 2 && self.value(bytes, index as usize) != 0;
            match (is_used, run) {
                (true, None) => run = Some(first + index),
                (false, Some(start)) => {
                    used.set(start..first + index);
                    run = None;
                }
                _ => {}
            }
        }
    }

    /// Claims a chain cluster by cluster; gives its length.
    fn claim_chain(&self, first: u32, use_: Use, path: &str, claims: &mut Claims) -> u64 {
        let (mut next, mut count) = (Some(first), 0);
        while let Some(cluster) = next {
            let named = |what: &str| Finding::new("fat-chain", format!("{path}: {what}"));
            if !(2..self.clusters + 2).contains(&cluster) {
                claims.findings.add(named(&format!("its chain starts at cluster {cluster}, which there is none of")));
                return count;
            }
            let known = claims.has(u64::from(cluster));
            claims.claim(u64::from(cluster)..u64::from(cluster) + 1, use_, "fat-cross-linked", || path.to_string());
            if known {
                return count;
            }
            count += 1;
            next = self.next(cluster).unwrap_or_else(|finding| {
                claims.findings.add(Finding { text: format!("{path}: {}", finding.text), ..finding });
                None
            });
        }
        count
    }

    /// The two entries every directory but the root begins with.
    fn check_dots(&self, directory: &Node, parent: u32, path: &str, claims: &mut Claims) {
        let at = self.data + u64::from(directory.place.first.saturating_sub(2)) * self.cluster;
        let Ok(bytes) = self.volume.read(at, 64) else { return };
        let right = bytes.starts_with(b".          ")
            && bytes[32..].starts_with(b"..         ")
            && self.first_cluster(&bytes) == directory.place.first
            && (self.first_cluster(&bytes[32..]) == parent || parent == 0 && self.first_cluster(&bytes[32..]) == self.root_cluster);
        if !right {
            claims.findings.add(Finding::new("fat-dots", format!("{path}: its entries for itself and its parent are wrong")).at(at));
        }
    }

    pub(super) fn go_over(&self) -> Survey {
        let mut survey = Survey::default();
        let mut claims = Claims::new(self.data, self.cluster, 2, u64::from(self.clusters), "cluster");
        let table = self.tables(&mut claims);
        Finding::longer(self.said, self.volume.len()).into_iter().for_each(|finding| claims.findings.add(finding));
        if !table.clean || self.dirty {
            claims.findings.add(Finding::new("volume-dirty", "it was in use when it was last seen"));
        }
        if table.bad > 0 {
            claims.findings.add(Finding::note("bad-clusters", format!("{} clusters are marked as bad", table.bad)));
        }
        if self.bits == 32 {
            self.claim_chain(self.root_cluster, Use::Metadata, "the root directory", &mut claims);
        }
        let mut parents = std::collections::HashMap::from([(String::new(), 0u32)]);
        if let Ok(root) = self.root() {
            let mut each = |path: &str, entry: &tree::Entry| {
                let node = &entry.node;
                if node.kind == NodeKind::Directory {
                    survey.directories += 1;
                    self.claim_chain(node.place.first, Use::Metadata, path, &mut claims);
                    let parent = path.rsplit_once('/').map_or("", |(parent, _)| parent);
                    let above = parents.get(parent).copied().unwrap_or(0);
                    self.check_dots(node, above, path, &mut claims);
                    parents.insert(path.to_string(), node.place.first);
                    return;
                }
                survey.files += 1;
                if node.size == 0 {
                    if node.place.first != 0 {
                        claims.findings.add(Finding::new("fat-empty-file", format!("{path} is empty, but has a chain")).at(node.id));
                        self.claim_chain(node.place.first, Use::Data, path, &mut claims);
                    }
                    return;
                }
                let (count, wanted) = (self.claim_chain(node.place.first, Use::Data, path, &mut claims), node.size.div_ceil(self.cluster));
                if count != wanted {
                    let code = if count < wanted { "fat-chain-short" } else { "fat-chain-long" };
                    claims
                        .findings
                        .add(Finding::new(code, format!("{path}: its chain has {count} clusters where its size needs {wanted}")).at(node.id));
                }
            };
            let findings = crate::walk::walk(self, root, "", &mut each);
            findings.into_iter().for_each(|finding| claims.findings.add(finding));
        }
        self.check_front(&table, &mut claims);
        // A bad cluster is in the map and belongs to nobody.
        let mut map = table.used;
        if table.bad > 0 {
            let mut good = Bits::new(u64::from(self.clusters) + 2);
            for range in map.ranges() {
                range.filter(|cluster| claims.has(*cluster) || self.next(*cluster as u32).is_ok()).for_each(|cluster| {
                    good.set(cluster..cluster + 1);
                });
            }
            map = good;
        }
        claims.finish(&map, "fat-lost", "fat-free-in-use", &mut survey);
        survey.usage.set(0..self.data, Use::Metadata);
        survey
    }

    /// The sectors in front: the copy of the boot sector and the counts.
    fn check_front(&self, table: &Table, claims: &mut Claims) {
        let sector = |number: u64| self.volume.read(number * self.sector, 512);
        if self.backup > 0
            && self.backup * self.sector < self.table
            && let (Ok(first), Ok(second)) = (sector(0), sector(self.backup))
            && first[..65] != second[..65]
        {
            claims.findings.add(Finding::new("fat-boot-copy", "the copy of the boot sector differs from it").at(self.backup * self.sector));
        }
        if self.info > 0
            && self.info * self.sector < self.table
            && let Ok(info) = sector(self.info)
            && le32(&info, 0) == 0x4161_5252
        {
            let (said, free) = (le32(&info, 488), u64::from(self.clusters) - table.used.total().min(u64::from(self.clusters)));
            if said != u32::MAX && u64::from(said) != free {
                let text = format!("{said} clusters are said to be free, {free} are");
                claims.findings.add(Finding::note("fat-free-count", text).at(self.info * self.sector));
            }
        }
    }
}
