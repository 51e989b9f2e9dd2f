//! Everything that reads foreign bytes, each as a target for a fuzzer: file systems, images, partition tables, boot configuration, records of
//! our own, both sides of the network.
//!
//! A target takes any bytes and must come back soon, without a panic, with what its invariants ask for. Inputs of most targets are changes to
//! something sound that the system's own tools made (see `sound`); where bytes stand behind a checksum, the target sets that right
//! after the change, as nothing behind it would be reached otherwise. `crates/fuzz/run` fuzzes them, the tests replay the kept seeds.

mod disks;
mod images;
mod records;
mod seeds;
mod sound;
mod starts;
mod talks;
mod texts;
mod volumes;

pub use seeds::{keep, kept};

/// Something that reads foreign bytes.
pub struct Target {
    /// Its name on the command line.
    pub name: &'static str,
    /// Reads these bytes.
    pub read: fn(&[u8]),
    /// Inputs to begin with, besides the kept ones.
    pub samples: fn() -> Vec<Vec<u8>>,
}

/// Changes are begun with none.
fn unchanged() -> Vec<Vec<u8>> {
    vec![Vec::new()]
}

const fn changes(name: &'static str, read: fn(&[u8])) -> Target {
    Target { name, read, samples: unchanged }
}

/// All targets.
pub const TARGETS: &[Target] = &[
    changes("fat", volumes::fat),
    changes("exfat", volumes::exfat),
    changes("ntfs", volumes::ntfs),
    changes("ext", volumes::ext),
    changes("ext-sums", volumes::ext_sums),
    changes("xfs", volumes::xfs),
    changes("btrfs", volumes::btrfs),
    changes("qcow2", images::qcow2),
    changes("vhd", images::vhd),
    changes("vhdx", images::vhdx),
    changes("vmdk", images::vmdk),
    changes("vdi", images::vdi),
    changes("own", images::own),
    changes("own-cut", images::own_cut),
    changes("own-locked", images::own_locked),
    changes("gpt", disks::gpt),
    changes("mbr", disks::mbr),
    changes("apm", disks::apm),
    Target { name: "start", read: starts::start, samples: starts::configurations },
    changes("boot-store", starts::boot_store),
    changes("registry", starts::registry),
    changes("registry-log", starts::registry_log),
    Target { name: "initramfs", read: starts::initramfs, samples: starts::archives },
    changes("program", starts::program),
    Target { name: "firmware-key", read: starts::firmware_key, samples: starts::firmware_keys },
    changes("copy-journal", records::copy_journal),
    Target { name: "fetch-journal", read: records::fetch_journal, samples: records::fetch_lines },
    Target { name: "mend-journal", read: records::mend_journal, samples: records::mend_journals },
    Target { name: "salvage-map", read: records::salvage_map, samples: records::map_lines },
    changes("salvage-pieces", records::salvage_pieces),
    Target { name: "description", read: texts::description, samples: texts::descriptions },
    Target { name: "settings", read: texts::settings, samples: texts::some_settings },
    Target { name: "preview", read: texts::preview, samples: texts::files },
    changes("health", texts::health),
    Target { name: "nbd-server", read: talks::server, samples: talks::servers },
    Target { name: "nbd-client", read: talks::client, samples: talks::clients },
    Target { name: "licence-service", read: talks::licence_service, samples: talks::answers },
];

/// The target of this name.
pub fn target(name: &str) -> Option<&'static Target> {
    TARGETS.iter().find(|target| target.name == name)
}
