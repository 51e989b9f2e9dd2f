//! What the system's tool does not make, built by code from the published layouts and judged by that tool where it reads it.

use crate::support::{Place, content, open, read_all, run};
use std::fs;

const MIB: usize = 1 << 20;
const SIZE: usize = 6 * MIB;

fn put32(bytes: &mut [u8], at: usize, value: u32) {
    bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
}

fn put64(bytes: &mut [u8], at: usize, value: u64) {
    bytes[at..at + 8].copy_from_slice(&value.to_le_bytes());
}

fn sum(bytes: &mut [u8]) {
    put32(bytes, 4, 0);
    let sum = crc32c::crc32c(bytes);
    put32(bytes, 4, sum);
}

/// A log entry with one page of data and one of zeroes.
fn entry(guid: [u8; 16], sequence: u64, tail: u32, size: u64, (at, page): (u64, &[u8]), zero: u64) -> Vec<u8> {
    let mut out = vec![0; 8192];
    out[..4].copy_from_slice(b"loge");
    put32(&mut out, 8, 8192);
    put32(&mut out, 12, tail);
    put64(&mut out, 16, sequence);
    put32(&mut out, 24, 2);
    out[32..48].copy_from_slice(&guid);
    put64(&mut out, 48, size);
    put64(&mut out, 56, size);
    let data = &mut out[64..];
    data[..4].copy_from_slice(b"desc");
    data[4..8].copy_from_slice(&page[4092..]);
    data[8..16].copy_from_slice(&page[..8]);
    put64(data, 16, at);
    put64(data, 24, sequence);
    let nothing = &mut out[96..];
    nothing[..4].copy_from_slice(b"zero");
    put64(nothing, 8, 4096);
    put64(nothing, 16, zero);
    put64(nothing, 24, sequence);
    let sector = &mut out[4096..];
    sector[..4].copy_from_slice(b"data");
    put32(sector, 4, (sequence >> 32) as u32);
    sector[8..4092].copy_from_slice(&page[8..4092]);
    put32(sector, 4092, sequence as u32);
    sum(&mut out);
    out
}

#[test]
fn a_log_of_vhdx_that_was_not_carried_out_counts() {
    let place = Place::new();
    let bytes = content(SIZE, 23);
    let (raw, image) = (place.raw(&bytes), place.path("weir.vhdx"));
    run("qemu-img", &["convert", "-f", "raw", "-O", "vhdx", "-o", "block_size=1M", &raw, &image]);
    let mut file = fs::read(&image).unwrap();
    let guid = [0x5a; 16];
    // The header that counts names the log.
    let number = |at: usize, file: &[u8]| u64::from_le_bytes(file[at + 8..at + 16].try_into().unwrap());
    let (one, two) = (64 << 10, 128 << 10);
    let at = if number(one, &file) > number(two, &file) { one } else { two };
    let (log, len) =
        (u64::from_le_bytes(file[at + 72..at + 80].try_into().unwrap()) as usize, u32::from_le_bytes(file[at + 68..at + 72].try_into().unwrap()));
    file[at + 48..at + 64].copy_from_slice(&guid);
    sum(&mut file[at..at + 4096]);
    // Two entries that belong together, round the end of the log, and one that is older than both.
    let size = file.len() as u64;
    let (first, second) = (noise(3), noise(5));
    let places = [size - 4096, size - 8192, size - 3 * 4096, size - 5 * 4096];
    let tail = len - 8192;
    let newest = entry(guid, 8, tail, size, (places[0], &second), places[2]);
    let earlier = entry(guid, 7, tail, size, (places[0], &first), places[1]);
    file[log + tail as usize..log + len as usize].copy_from_slice(&earlier);
    file[log..log + 8192].copy_from_slice(&newest);
    let stale = entry(guid, 3, 16384, size, (places[3], &first), places[3]);
    file[log + 16384..log + 16384 + 8192].copy_from_slice(&stale);
    fs::write(&image, &file).unwrap();
    let read = read_all(&open(&image));
    assert!(fs::read(&image).unwrap() == file, "the file itself is not touched");
    assert!(read != bytes);
    // The tool carries the log out in the file, and reads it then.
    let (copy, wanted) = (place.path("copy.vhdx"), place.path("wanted"));
    fs::copy(&image, &copy).unwrap();
    run("qemu-img", &["check", "-q", "-r", "all", &copy]);
    run("qemu-img", &["convert", "-f", "vhdx", "-O", "raw", &copy, &wanted]);
    assert!(read == fs::read(&wanted).unwrap());
    // Of a torn entry nothing came to its place: what was whole before it counts, as for the tool.
    file[log + 5000] ^= 1;
    fs::write(&image, &file).unwrap();
    let before = read_all(&open(&image));
    assert!(before != read && before != bytes);
    fs::copy(&image, &copy).unwrap();
    run("qemu-img", &["check", "-q", "-r", "all", &copy]);
    run("qemu-img", &["convert", "-f", "vhdx", "-O", "raw", &copy, &wanted]);
    assert!(before == fs::read(&wanted).unwrap());
}

fn noise(seed: u64) -> Vec<u8> {
    content(1 << 20, seed)[..4096].iter().map(|byte| byte ^ seed as u8 | 1).collect()
}

fn vhd_sum(bytes: &mut [u8], at: usize) {
    bytes[at..at + 4].fill(0);
    let sum = !bytes.iter().fold(0u32, |sum, byte| sum.wrapping_add(u32::from(*byte)));
    bytes[at..at + 4].copy_from_slice(&sum.to_be_bytes());
}

/// A differencing VHD over a dynamic one: two sectors changed in one block, nothing known of the others.
#[test]
fn a_differencing_vhd_is_laid_over_what_it_names() {
    let place = Place::new();
    let bytes = content(SIZE, 29);
    let (raw, base, top) = (place.raw(&bytes), place.path("base.vhd"), place.path("top.vhd"));
    run("qemu-img", &["convert", "-f", "raw", "-O", "vpc", "-o", "subformat=dynamic,force_size=on", &raw, &base]);
    let below = fs::read(&base).unwrap();
    let mut footer = below[below.len() - 512..].to_vec();
    footer[60..64].copy_from_slice(&4u32.to_be_bytes());
    vhd_sum(&mut footer, 64);
    let mut head = below[512..1536].to_vec();
    for (unit, letter) in head[64..576].chunks_exact_mut(2).zip("base.vhd".encode_utf16().chain(std::iter::repeat(0))) {
        unit.copy_from_slice(&letter.to_be_bytes());
    }
    // By what it knows the one below.
    head[40..56].copy_from_slice(&below[below.len() - 512 + 68..below.len() - 512 + 84]);
    vhd_sum(&mut head, 36);
    let block = u32::from_be_bytes(head[32..36].try_into().unwrap()) as usize;
    let mut table = vec![0xff; 512];
    let map = (block / 512 / 8).next_multiple_of(512);
    let at = 512 + 1024 + 512;
    table[4..8].copy_from_slice(&(at as u32 / 512).to_be_bytes());
    let mut bitmap = vec![0; map];
    // Sectors 9 and 10 of the second block.
    bitmap[1] = 0b0110_0000;
    let mut data = vec![0xee; block];
    data[9 * 512..11 * 512].fill(0x33);
    fs::write(&top, [&footer, &head, &table, &bitmap, &data, &footer].map(|part| part.as_slice()).concat()).unwrap();
    let mut wanted = bytes;
    wanted[block + 9 * 512..block + 11 * 512].fill(0x33);
    assert!(read_all(&open(&top)) == wanted);
    // Another image that has the name of the one below.
    let mut other = below;
    for front in [0, other.len() - 512] {
        other[front + 68] ^= 1;
        vhd_sum(&mut other[front..front + 512], 64);
    }
    fs::write(&base, other).unwrap();
    let refused = badger_image::container::open(std::path::Path::new(&top), None).err().unwrap().to_string();
    assert!(refused.contains("was changed, or is another one"), "{refused}");
}

/// A differencing VHDX made out of a dynamic one: a block that is here in part, one that is here whole, others below.
#[test]
fn a_differencing_vhdx_is_laid_over_what_it_names() {
    let place = Place::new();
    let (lower, upper) = (content(SIZE, 31), content(SIZE, 37));
    let (base, top) = (place.path("base.vhdx"), place.path("top.vhdx"));
    for (bytes, image) in [(&lower, &base), (&upper, &top)] {
        run("qemu-img", &["convert", "-S", "0", "-f", "raw", "-O", "vhdx", "-o", "block_size=1M", &place.raw(bytes), image]);
    }
    let mut file = fs::read(&top).unwrap();
    let word = |file: &[u8], at: usize| u64::from_le_bytes(file[at..at + 8].try_into().unwrap());
    // The two regions, by the first region table: the table of blocks, and the metadata.
    let region = |file: &[u8], first: u8| {
        let entry = (0..2).map(|slot| (192 << 10) + 16 + slot * 32).find(|at| file[*at] == first).unwrap();
        word(file, entry + 16) as usize
    };
    let (table, metadata) = (region(&file, 0x66), region(&file, 0x06));
    // File parameters get their bit for a parent; the locator is a further entry.
    let slot = (0..5).map(|slot| metadata + 32 + slot * 32).find(|at| file[*at..*at + 4] == [0x37, 0x67, 0xa1, 0xca]).unwrap();
    let parameters = metadata + u32::from_le_bytes(file[slot + 16..slot + 20].try_into().unwrap()) as usize;
    file[parameters + 4] |= 2;
    let count = u16::from_le_bytes(file[metadata + 10..metadata + 12].try_into().unwrap());
    file[metadata + 10..metadata + 12].copy_from_slice(&(count + 1).to_le_bytes());
    let entry = metadata + 32 + usize::from(count) * 32;
    file[entry..entry + 16].copy_from_slice(&[0x2d, 0x5f, 0xd3, 0xa8, 0x0b, 0xb3, 0x4d, 0x45, 0xab, 0xf7, 0xd3, 0xd8, 0x48, 0x34, 0xab, 0x0c]);
    let utf16 = |text: &str| text.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<u8>>();
    let (key, value) = (utf16("relative_path"), utf16(".\\base.vhdx"));
    let mut locator = vec![0; 32];
    locator[18..20].copy_from_slice(&1u16.to_le_bytes());
    put32(&mut locator, 20, 32);
    put32(&mut locator, 24, 32 + key.len() as u32);
    locator[28..30].copy_from_slice(&(key.len() as u16).to_le_bytes());
    locator[30..32].copy_from_slice(&(value.len() as u16).to_le_bytes());
    locator.extend([key, value].concat());
    put32(&mut file, entry + 16, 96 << 10);
    put32(&mut file, entry + 20, locator.len() as u32);
    put32(&mut file, entry + 24, 4);
    file[metadata + (96 << 10)..metadata + (96 << 10) + locator.len()].copy_from_slice(&locator);
    // Block 1 is here in part, block 3 whole, the others are below. Behind the last block a bitmap.
    for number in [0, 2, 4, 5] {
        put64(&mut file, table + number * 8, 0);
    }
    let old = word(&file, table + 8);
    put64(&mut file, table + 8, old & !7 | 7);
    let bitmap = file.len().next_multiple_of(MIB);
    file.resize(bitmap + MIB, 0);
    // Sectors 2048 + 100 to 2048 + 299 of the drive.
    (2148..2348usize).for_each(|sector| file[bitmap + sector / 8] |= 1 << (sector % 8));
    put64(&mut file, table + 4096 * 8, bitmap as u64 | 6);
    fs::write(&top, &file).unwrap();
    let mut wanted = lower;
    wanted[2148 * 512..2348 * 512].copy_from_slice(&upper[2148 * 512..2348 * 512]);
    wanted[3 * MIB..4 * MIB].copy_from_slice(&upper[3 * MIB..4 * MIB]);
    let read = read_all(&open(&top));
    let differs = read.iter().zip(&wanted).position(|(a, b)| a != b);
    assert_eq!((differs, read.len()), (None, wanted.len()));
}
