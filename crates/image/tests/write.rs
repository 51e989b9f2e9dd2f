//! What is written in the open formats is sound and equal by the system's own tool, and by our own readers.

mod support;

use badger_drive::clock::SimClock;
use badger_drive::{Control, Event, Workshop};
use badger_image::{Format, write};
use rstest::rstest;
use std::path::Path;
use std::process::Command;
use support::{Place, content, open, read_all, run};

fn written(drive: &str, image: &str, format: Format, control: &Control) -> std::io::Result<write::Written> {
    let source = Workshop { no_waiting: true, ..Workshop::default() }.source(Path::new(drive)).unwrap();
    write::write(&source, Path::new(image), format, control, &|_: &Event| {}, &*SimClock::new())
}

#[rstest]
fn the_system_reads_what_is_written(
    #[values((Format::Qcow2, "qcow2"), (Format::Vhd, "vpc"), (Format::Vhdx, "vhdx"), (Format::Vmdk, "vmdk"), (Format::Vdi, "vdi"))] format: (
        Format,
        &str,
    ),
    #[values(512, 1_474_560, (9 << 20) + 512, 70 << 20)] size: usize,
) {
    let place = Place::new();
    let bytes = content(size, size as u64 + 1);
    let (raw, image) = (place.raw(&bytes), place.path("weir.image"));
    let written = written(&raw, &image, format.0, &Control::new()).unwrap();
    assert_eq!((written.read_bytes, written.lost.len()), (size as u64, 0));
    assert!(read_all(&open(&image)) == bytes);
    // Of these the tool knows no check.
    if !["vmdk", "vpc"].contains(&format.1) {
        run("qemu-img", &["check", "-q", "-f", format.1, &image]);
    }
    run("qemu-img", &["compare", "-q", "-f", "raw", "-F", format.1, &raw, &image]);
}

/// A large drive with little in it: the file holds that little.
#[rstest]
fn holes_take_no_room(
    #[values((Format::Qcow2, "qcow2"), (Format::Vhd, "vpc"), (Format::Vhdx, "vhdx"), (Format::Vmdk, "vmdk"), (Format::Vdi, "vdi"))] format: (
        Format,
        &str,
    ),
) {
    let place = Place::new();
    let (raw, image) = (place.path("large.raw"), place.path("weir.image"));
    run("qemu-img", &["create", "-q", "-f", "raw", &raw, "30G"]);
    support::qemu_io(&raw, "raw", &["write -P 0x5a 0 70k", "write -P 0x33 19G 1M", "write -P 0x11 32212254208 512"]);
    let written = written(&raw, &image, format.0, &Control::new()).unwrap();
    assert!(written.len < 64 << 20, "{} bytes", written.len);
    let out = Command::new("qemu-img").args(["compare", "-f", "raw", "-F", format.1, &raw, &image]).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stdout));
}

#[test]
fn what_was_stopped_is_no_image() {
    let place = Place::new();
    let (raw, image) = (place.raw(&content(9 << 20, 3)), place.path("weir.image"));
    let control = Control::new();
    control.stop();
    assert!(written(&raw, &image, Format::Qcow2, &control).unwrap().stopped);
    assert!(badger_image::open(Path::new(&image), None).unwrap().is_none());
    assert!(written(&raw, &image, Format::Qcow2, &Control::new()).is_err(), "nothing is written over");
}
