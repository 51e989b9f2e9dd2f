//! Images: those of others made by their own tools, ours by ourselves.

use crate::sound::{IMAGE, Sound, image, read_image, tool};
use badger_drive::clock::SimClock;
use badger_drive::{Control, Event, Extents, Workshop};
use badger_image::own::{self, Making, Onto, Passphrase};
use std::path::Path;
use std::sync::LazyLock;

fn converted(format: &str, options: &[&str]) -> Sound {
    image(|raw, image| tool(&[&["qemu-img", "convert", "-f", "raw", "-O", format], options, &[raw, image]].concat()))
}

pub fn qcow2(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(|| converted("qcow2", &["-c"]));
    read_image(&SOUND.broken(input), None);
}

/// The sum of all bytes, inverted, as both of its headers carry it at `at`.
fn vhd_sum(header: &mut [u8], at: usize) {
    header[at..at + 4].fill(0);
    let sum = !header.iter().map(|byte| u32::from(*byte)).fold(0, u32::wrapping_add);
    header[at..at + 4].copy_from_slice(&sum.to_be_bytes());
}

pub fn vhd(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(|| converted("vpc", &[]));
    let mut bytes = SOUND.broken(input);
    let end = bytes.len();
    vhd_sum(&mut bytes[..512], 64);
    vhd_sum(&mut bytes[512..1536], 36);
    vhd_sum(&mut bytes[end - 512..], 64);
    read_image(&bytes, None);
}

pub fn vhdx(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(|| converted("vhdx", &["-o", "subformat=dynamic,log_size=1M,block_size=1M"]));
    let mut bytes = SOUND.broken(input);
    // Both headers, both tables of regions, and entries of the log, which begin at multiples of 4 KiB.
    let fixed = [(64 << 10, 4 << 10), (128 << 10, 4 << 10), (192 << 10, 64 << 10), (256 << 10, 64 << 10)];
    let entries = (1 << 20..2 << 20).step_by(4096).filter_map(|at| {
        let len = u32::from_le_bytes(bytes.get(at + 8..at + 12)?.try_into().ok()?) as usize;
        (bytes[at..].starts_with(b"loge") && (64..=1 << 20).contains(&len) && at + len <= bytes.len()).then_some((at, len))
    });
    for (at, len) in fixed.into_iter().chain(entries.collect::<Vec<_>>()) {
        bytes[at + 4..at + 8].fill(0);
        let sum = crc32c::crc32c(&bytes[at..at + len]);
        bytes[at + 4..at + 8].copy_from_slice(&sum.to_le_bytes());
    }
    read_image(&bytes, None);
}

pub fn vmdk(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(|| converted("vmdk", &["-o", "subformat=streamOptimized"]));
    read_image(&SOUND.broken(input), None);
}

pub fn vdi(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(|| converted("vdi", &[]));
    read_image(&SOUND.broken(input), None);
}

fn ours(passphrase: Option<&Passphrase>) -> Sound {
    image(|raw, image| {
        let source = Workshop::default().source(Path::new(raw)).expect("a raw file");
        let mut needed = Extents::new();
        needed.set(0..IMAGE, ());
        let facts = String::new;
        let making =
            Making { source: &source, needed: &needed, sparing: false, parent: None, passphrase, level: Some(3), resume: false, facts: &facts };
        own::make(&making, Onto::File(Path::new(image), None), &Control::new(), &|_: &Event| {}, &*SimClock::new()).expect("an image");
    })
}

/// The checksum of each record, and the hash of each payload that is not packed.
fn records_right(bytes: &mut [u8]) {
    let mut at = 0;
    while at + 64 <= bytes.len() {
        let len = u32::from_le_bytes(bytes[at + 16..at + 20].try_into().expect("four bytes")) as usize;
        if !bytes[at..].starts_with(b"ZBr1") || at + 64 + len > bytes.len() {
            at += 16;
            continue;
        }
        if bytes[at + 5] & 1 == 0 && bytes[at + 6] & 1 == 0 {
            let hash = blake3::hash(&bytes[at + 64..at + 64 + len]);
            bytes[at + 24..at + 56].copy_from_slice(hash.as_bytes());
        }
        let sum = crc32c::crc32c(&bytes[at..at + 60]);
        bytes[at + 60..at + 64].copy_from_slice(&sum.to_le_bytes());
        at += (64 + len).next_multiple_of(16);
    }
}

static OURS: LazyLock<Sound> = LazyLock::new(|| ours(None));

pub fn own(input: &[u8]) {
    let mut bytes = OURS.broken(input);
    records_right(&mut bytes);
    read_image(&bytes, None);
}

/// The image is cut off as well, so its records are read from the front.
pub fn own_cut(input: &[u8]) {
    let Some(([a, b], input)) = input.split_first_chunk::<2>() else { return };
    let mut bytes = OURS.broken(input);
    records_right(&mut bytes);
    bytes.truncate(usize::from(u16::from_le_bytes([*a, *b])) * 64);
    read_image(&bytes, None);
}

pub fn own_locked(input: &[u8]) {
    static SOUND: LazyLock<(Passphrase, Sound)> = LazyLock::new(|| {
        let passphrase = Passphrase::new("three grey herons");
        let bytes = ours(Some(&passphrase));
        (passphrase, bytes)
    });
    let mut bytes = SOUND.1.broken(input);
    records_right(&mut bytes);
    read_image(&bytes, Some(&SOUND.0));
}
