//! Going over an exFAT volume: the boot regions, the bitmap, every chain and every entry set.

use super::{ExFat, MOST_DIRECTORY, boot_sum};
use crate::bits::Bits;
use crate::finding::{Finding, Weight};
use crate::node::{NodeKind, Place};
use crate::survey::{Claims, Survey, Use};
use crate::tree::{self, Tree};
use badger_drive::field::{le16, le32, le64};

/// Sectors of a boot region, and which of them holds its checksum.
const REGION: u64 = 12;
const CHECKSUM: u64 = 11;

impl ExFat {
    /// Claims what is needed for `bytes` bytes, and the rest of the chain.
    fn claim_chain(&self, place: Place, bytes: u64, use_: Use, path: &str, claims: &mut Claims) {
        if place.first == 0 && bytes == 0 {
            return;
        }
        let wanted = bytes.div_ceil(self.cluster);
        let wrong = |what: String| Finding::new("exfat-chain", format!("{path}: {what}"));
        if place.contiguous {
            let first = u64::from(place.first);
            if !(2..u64::from(self.clusters) + 2).contains(&first) || first + wanted > u64::from(self.clusters) + 2 {
                claims.findings.add(wrong(format!("its {wanted} clusters from {first} on lead out of the volume")));
                return;
            }
            claims.claim(first..first + wanted, use_, "exfat-cross-linked", || path.to_string());
            return;
        }
        let (mut cluster, mut count) = (place.first, 0u64);
        loop {
            if !(2..self.clusters + 2).contains(&cluster) {
                claims.findings.add(wrong(format!("its chain leads to cluster {cluster}, which there is none of")));
                return;
            }
            let known = claims.has(u64::from(cluster));
            claims.claim(u64::from(cluster)..u64::from(cluster) + 1, use_, "exfat-cross-linked", || path.to_string());
            count += 1;
            let mut next = [0; 4];
            if known || self.volume.read_into(self.table + u64::from(cluster) * 4, &mut next).is_err() {
                return;
            }
            cluster = le32(&next, 0);
            if cluster == u32::MAX {
                break;
            }
        }
        if bytes > 0 && count != wanted {
            let code = if count < wanted { "exfat-chain-short" } else { "exfat-chain-long" };
            claims.findings.add(Finding::new(code, format!("{path}: its chain has {count} clusters where its size needs {wanted}")));
        }
    }

    /// The sum over the first sectors of a boot region, without the fields that change.
    fn check_region(&self, first: u64, name: &str, weight: Weight, claims: &mut Claims) -> Option<Vec<u8>> {
        let bytes = self.volume.read(first * self.sector, (REGION * self.sector) as usize).ok()?;
        let (body, sums) = bytes.split_at((CHECKSUM * self.sector) as usize);
        let sum = boot_sum(body);
        if sums.chunks_exact(4).any(|field| le32(field, 0) != sum) {
            let text = format!("the checksum of the {name} boot region is wrong");
            claims.findings.add(Finding { weight, ..Finding::new("exfat-boot-checksum", text) }.at((first + CHECKSUM) * self.sector));
        }
        Some(bytes)
    }

    pub(super) fn go_over(&self) -> Survey {
        let mut survey = Survey::default();
        let mut claims = Claims::new(self.heap, self.cluster, 2, u64::from(self.clusters), "cluster");
        let main = self.check_region(0, "main", Weight::Fault, &mut claims);
        // The second one is only looked at when the first is lost.
        let backup = self.check_region(REGION, "second", Weight::Note, &mut claims);
        let said = main.as_ref().map_or(0, |main| le64(main, 72));
        if let (Some(main), Some(backup)) = (main, backup) {
            // The flags and the share in use are kept up in the first one only.
            let differs = |range: std::ops::Range<usize>| main[range.clone()] != backup[range];
            if differs(0..106) || differs(108..112) || differs(120..510) {
                claims.findings.add(Finding::note("exfat-boot-copy", "the second boot region differs from the main one").at(REGION * self.sector));
            }
            if le16(&main, 106) & 2 != 0 {
                claims.findings.add(Finding::new("volume-dirty", "it was in use when it was last seen"));
            }
            if le16(&main, 106) & 4 != 0 {
                claims.findings.add(Finding::note("media-failure", "its system noted that reading or writing it failed"));
            }
        }
        let end = self.heap + u64::from(self.clusters) * self.cluster;
        Finding::longer(said.saturating_mul(self.sector).max(end), self.volume.len()).into_iter().for_each(|finding| claims.findings.add(finding));
        let mut map = Bits::new(u64::from(self.clusters) + 2);
        let (place, size) = self.system.bitmap;
        let wanted = u64::from(self.clusters).div_ceil(8);
        match self.chain(place, size.min(wanted)) {
            Ok(pieces) if size >= wanted => {
                let mut first = 2u64;
                for piece in pieces {
                    let mut done = 0;
                    while done < piece.len && (first - 2) / 8 < wanted {
                        let step = (piece.len - done).min(1 << 20).min(wanted - (first - 2) / 8);
                        match self.volume.read(piece.at.unwrap_or(0) + done, step as usize) {
                            Ok(bytes) => map.load(first..u64::from(self.clusters) + 2, &bytes),
                            Err(finding) => claims.findings.add(Finding { weight: Weight::Grave, ..finding }),
                        }
                        first += step * 8;
                        done += step;
                    }
                }
            }
            _ => claims.findings.add(Finding::grave("exfat-no-bitmap", "the bitmap of clusters in use is missing or damaged")),
        }
        // Systems take as much of it as the clusters need, and go on where it says that it is longer.
        if size > wanted {
            let text = format!("the bitmap says that it has {size} bytes where the clusters need {wanted}");
            claims.findings.add(Finding::note("exfat-bitmap-size", text));
        }
        let size = size.min(wanted);
        self.claim_chain(place, size, Use::Metadata, "the bitmap", &mut claims);
        // Systems read both by their first cluster and their length, whatever the table says of the clusters between.
        let (letters, letters_len, _) = self.system.upcase;
        for (place, size, what) in [(place, size, "bitmap"), (letters, letters_len, "table of upper case letters")] {
            if self.chain(place, size).is_ok_and(|pieces| pieces.len() > 1) {
                let text = format!("the {what} lies in pieces; other systems take it as one and would write over files");
                claims.findings.add(Finding::new("exfat-in-pieces", text));
            }
        }
        if self.upper.is_empty() {
            claims.findings.add(Finding::new("exfat-upcase", "the table of upper case letters is missing or damaged"));
        }
        self.claim_chain(self.system.upcase.0, self.system.upcase.1, Use::Metadata, "the table of upper case letters", &mut claims);
        let root = Place { first: self.root, contiguous: false, valid: MOST_DIRECTORY };
        self.claim_chain(root, 0, Use::Metadata, "the root directory", &mut claims);
        if let Ok(root) = self.root() {
            let mut each = |path: &str, entry: &tree::Entry| {
                let node = &entry.node;
                let (count, use_) =
                    if node.kind == NodeKind::Directory { (&mut survey.directories, Use::Metadata) } else { (&mut survey.files, Use::Data) };
                *count += 1;
                let bytes = if node.kind == NodeKind::Directory { node.place.valid } else { node.size };
                self.claim_chain(node.place, bytes, use_, path, &mut claims);
            };
            let findings = crate::walk::walk(self, root, "", &mut each);
            findings.into_iter().for_each(|finding| claims.findings.add(finding));
        }
        claims.finish(&map, "exfat-lost", "exfat-free-in-use", &mut survey);
        survey.usage.set(0..self.heap, Use::Metadata);
        survey
    }
}
