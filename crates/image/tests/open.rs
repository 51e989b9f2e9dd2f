//! Containers made by the system's own tool are read as that tool reads them.

use crate::support::{Place, content, open, qemu_io, read_all, run};
use badger_drive::{Holds, Medium};
use rstest::rstest;
use std::fs;
use std::path::Path;

/// Content that is random, text, the same again, and nothing, in stretches of odd sizes.
const SIZE: usize = (9 << 20) + (1 << 16);

#[rstest]
#[case::qcow2("qcow2", "compat=1.1")]
#[case::qcow2_of_old("qcow2", "compat=0.10")]
#[case::qcow2_small_clusters("qcow2", "cluster_size=512")]
#[case::qcow2_large_clusters("qcow2", "cluster_size=2M")]
#[case::qcow2_parts("qcow2", "extended_l2=on,cluster_size=128k")]
#[case::vhd("vpc", "subformat=dynamic,force_size=on")]
#[case::vhd_fixed("vpc", "subformat=fixed,force_size=on")]
#[case::vhdx("vhdx", "subformat=dynamic")]
#[case::vhdx_fixed("vhdx", "subformat=fixed")]
#[case::vhdx_large_blocks("vhdx", "block_size=16M")]
#[case::vmdk("vmdk", "subformat=monolithicSparse")]
#[case::vmdk_zeroes("vmdk", "subformat=monolithicSparse,zeroed_grain=on")]
#[case::vmdk_flat("vmdk", "subformat=monolithicFlat")]
#[case::vmdk_parts("vmdk", "subformat=twoGbMaxExtentSparse")]
#[case::vmdk_flat_parts("vmdk", "subformat=twoGbMaxExtentFlat")]
#[case::vmdk_stream("vmdk", "subformat=streamOptimized")]
#[case::vdi("vdi", "static=off")]
#[case::vdi_fixed("vdi", "static=on")]
fn every_format_is_read(#[case] format: &str, #[case] options: &str) {
    let place = Place::new();
    let bytes = content(SIZE, 7);
    let raw = place.raw(&bytes);
    let image = place.path("weir.image");
    run("qemu-img", &["convert", "-f", "raw", "-O", format, "-o", options, &raw, &image]);
    let drive = open(&image);
    let read = read_all(&drive);
    assert!(read[..SIZE] == bytes && read[SIZE..].iter().all(|byte| *byte == 0), "{format} {options}");
    assert!(read.len() - SIZE < 64 << 10);
    // Reads that begin and end anywhere.
    for (at, len) in [(0, 1), (65_535, 2), (1 << 20, 3 << 20), (SIZE - 700, 700), (511, 200_000)] {
        let mut buf = vec![0; len];
        drive.read_at(at as u64, &mut buf).unwrap();
        assert!(buf == bytes[at..at + len], "{len} bytes at {at}");
    }
    assert!(drive.read_at(read.len() as u64 - 1, &mut [0; 2]).is_err());
    holds_what_it_says(&drive, &read);
}

/// What is known without reading is true, and covers the drive.
fn holds_what_it_says(drive: &impl Medium, read: &[u8]) {
    let mut at = 0;
    while at < read.len() as u64 {
        let known = drive.stretch(at, u64::MAX);
        assert!(known.len > 0);
        let bytes = &read[at as usize..(at + known.len) as usize];
        assert!(known.holds != Holds::Zero || bytes.iter().all(|byte| *byte == 0), "{} bytes at {at} are not zero", known.len);
        at += known.len;
    }
}

#[rstest]
#[case::zlib("qcow2", "compression_type=zlib")]
#[case::zstd("qcow2", "compression_type=zstd")]
#[case::zstd_large("qcow2", "compression_type=zstd,cluster_size=2M")]
#[case::parts("qcow2", "compression_type=zstd,extended_l2=on")]
fn packed_clusters_are_read(#[case] format: &str, #[case] options: &str) {
    let place = Place::new();
    let bytes = content(SIZE, 9);
    let (raw, image) = (place.raw(&bytes), place.path("weir.image"));
    run("qemu-img", &["convert", "-c", "-f", "raw", "-O", format, "-o", options, &raw, &image]);
    let map = std::process::Command::new("qemu-img").args(["check", &image]).output().unwrap();
    let said = String::from_utf8(map.stdout).unwrap();
    assert!(!said.contains(" 0.00% compressed"), "nothing is packed: {said}");
    assert!(read_all(&open(&image)) == bytes);
}

/// Layers on layers, of other sizes and other formats below.
#[rstest]
#[case::qcow2("qcow2", "raw", true)]
#[case::qcow2_on_qcow2("qcow2", "qcow2", true)]
#[case::qcow2_on_vhdx("qcow2", "vhdx", true)]
#[case::vmdk("vmdk", "vmdk", false)]
fn what_lies_below_is_read(#[case] format: &str, #[case] below: &str, #[case] grows: bool) {
    let place = Place::new();
    let bytes = content(SIZE, 11);
    let (raw, base, top, last) = (place.raw(&bytes), place.path("base"), place.path("top"), place.path("last"));
    run("qemu-img", &["convert", "-f", "raw", "-O", below, &raw, &base]);
    let size = if grows { "12M" } else { "" };
    let create = |under: &str, kind: &str, image: &str| {
        let mut args = vec!["create", "-q", "-f", format, "-b", under, "-F", kind, image];
        args.extend(Some(size).filter(|size| !size.is_empty()));
        run("qemu-img", &args);
    };
    create(&base, below, &top);
    qemu_io(&top, format, &["write -P 0x5a 1M 100k", "write -P 0xa5 5000000 3k"]);
    create(&top, format, &last);
    qemu_io(&last, format, &["write -P 0x77 1100k 70k", "write -z 2M 512k"]);
    let wanted = place.path("wanted");
    run("qemu-img", &["convert", "-f", format, "-O", "raw", &last, &wanted]);
    let drive = open(&last);
    let read = read_all(&drive);
    assert!(read == fs::read(&wanted).unwrap());
    assert_eq!(drive.rests_on().len(), 3);
    holds_what_it_says(&drive, &read);
}

#[test]
fn states_that_were_kept_are_read() {
    let place = Place::new();
    let bytes = content(SIZE, 13);
    let (raw, image) = (place.raw(&bytes), place.path("weir.qcow2"));
    run("qemu-img", &["convert", "-f", "raw", "-O", "qcow2", &raw, &image]);
    run("qemu-img", &["snapshot", "-c", "before", &image]);
    qemu_io(&image, "qcow2", &["write -P 0x11 0 4M"]);
    run("qemu-img", &["snapshot", "-c", "halfway", &image]);
    qemu_io(&image, "qcow2", &["write -P 0x22 2M 4M"]);
    let at = |state: Option<&str>| read_all(&badger_image::open(Path::new(&image), state).unwrap().unwrap());
    assert!(at(Some("before")) == bytes && at(Some("1")) == bytes);
    let halfway = at(Some("halfway"));
    assert!(halfway[..4 << 20].iter().all(|byte| *byte == 0x11) && halfway[4 << 20..] == bytes[4 << 20..]);
    assert!(at(None)[2 << 20..6 << 20].iter().all(|byte| *byte == 0x22));
    let refused = badger_image::open(Path::new(&image), Some("after")).err().unwrap().to_string();
    assert!(refused.contains("before, halfway"), "{refused}");
}

/// What lies in another place is not read, whatever the image says.
#[rstest]
#[case::elsewhere("../secret")]
#[case::anywhere("/etc/hostname")]
#[case::gone("gone.img")]
fn an_image_reads_nothing_but_what_lies_beside_it(#[case] below: &str) {
    let place = Place::new();
    fs::write(place.path("secret"), [7; 4096]).unwrap();
    fs::create_dir(place.path("inner")).unwrap();
    let image = place.path("inner/top.qcow2");
    run("qemu-img", &["create", "-q", "-u", "-f", "qcow2", "-b", below, "-F", "raw", &image, "1M"]);
    let refused = badger_image::open(Path::new(&image), None).err().unwrap().to_string();
    assert!(refused.contains(below) && refused.contains("beside it"), "{refused}");
}

#[test]
fn layers_that_lie_on_each_other_in_a_circle_are_refused() {
    let place = Place::new();
    let (one, two) = (place.path("one"), place.path("two"));
    run("qemu-img", &["create", "-q", "-f", "qcow2", &two, "1M"]);
    run("qemu-img", &["create", "-q", "-f", "qcow2", "-b", &two, "-F", "qcow2", &one, "1M"]);
    run("qemu-img", &["rebase", "-u", "-f", "qcow2", "-b", &one, "-F", "qcow2", &two]);
    let refused = badger_image::open(Path::new(&one), None).err().unwrap().to_string();
    assert!(refused.contains("back to itself"), "{refused}");
}
