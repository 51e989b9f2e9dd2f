//! What is written in the open formats is sound and equal by the system's own tool, and by our own readers.

use crate::support::{Place, content, open, read_all, run};
use badger_drive::clock::SimClock;
use badger_drive::{Control, Event, Workshop};
use badger_image::write::Form;
use badger_image::{Format, write};
use rstest::rstest;
use std::path::Path;
use std::process::Command;

fn written(drive: &str, image: &str, format: Format, control: &Control) -> std::io::Result<write::Written> {
    written_to(drive, image, write::To { format, split: None, form: Form::Growing, old: false }, control)
}

fn written_to(drive: &str, image: &str, to: write::To, control: &Control) -> std::io::Result<write::Written> {
    let source = Workshop { no_waiting: true, ..Workshop::default() }.source(Path::new(drive)).unwrap();
    write::write(&source, Path::new(image), to, control, &|_: &Event| {}, &*SimClock::new())
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

/// Other forms of the same formats.
#[rstest]
fn the_system_reads_every_form(
    #[values(
        (Format::Qcow2, "qcow2", Form::Packed, false),
        (Format::Qcow2, "qcow2", Form::Packed, true),
        (Format::Qcow2, "qcow2", Form::Growing, true),
        (Format::Vhd, "vpc", Form::Fixed, false),
        (Format::Vhdx, "vhdx", Form::Fixed, false),
        (Format::Vmdk, "vmdk", Form::Fixed, false),
        (Format::Vmdk, "vmdk", Form::Packed, false),
        (Format::Vdi, "vdi", Form::Fixed, false)
    )]
    format: (Format, &str, Form, bool),
    #[values(1_474_560, (9 << 20) + 512, 70 << 20)] size: usize,
) {
    let place = Place::new();
    let bytes = content(size, size as u64 + 5);
    let (raw, image) = (place.raw(&bytes), place.path("weir.vmdk"));
    let to = write::To { format: format.0, split: None, form: format.2, old: format.3 };
    let written = written_to(&raw, &image, to, &Control::new()).unwrap();
    assert_eq!((written.read_bytes, written.lost.len()), (size as u64, 0));
    assert!(read_all(&open(&image)) == bytes);
    if !["vmdk", "vpc"].contains(&format.1) {
        run("qemu-img", &["check", "-q", "-f", format.1, &image]);
    }
    run("qemu-img", &["compare", "-q", "-f", "raw", "-F", format.1, &raw, &image]);
    match format.2 {
        Form::Growing => assert_eq!(std::fs::read(&image).unwrap()[4..8], [0, 0, 0, 2]),
        Form::Packed => assert!(written.len < size as u64, "{} of {size}", written.len),
        Form::Fixed => assert!(written.len >= size as u64, "{} of {size}", written.len),
    }
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
    run("qemu-img", &["create", "-q", "-f", "raw", &raw, "9G"]);
    crate::support::qemu_io(&raw, "raw", &["write -P 0x5a 0 70k", "write -P 0x33 5G 1M", "write -P 0x11 9663675904 512"]);
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
    assert!(!Path::new(&image).exists(), "nothing half-written stays");
    std::fs::write(&image, "somebody's").unwrap();
    assert!(written(&raw, &image, Format::Qcow2, &Control::new()).is_err(), "nothing is written over");
    assert_eq!(std::fs::read(&image).unwrap(), b"somebody's");
}

/// A raw drive in pieces is the drive, and nothing that was there is taken away where it cannot be made.
#[rstest]
#[case::one_file(None, 1)]
#[case::pieces(Some(3 << 20), 4)]
#[case::pieces_that_end_within_a_block(Some((2 << 20) + 512), 5)]
fn raw_drives_are_written_with_holes_and_in_pieces(#[case] split: Option<u64>, #[case] count: usize) {
    let place = Place::new();
    let bytes = [content(5 << 20, 9), vec![0; 4 << 20], content(1000, 10)].concat();
    let (raw, first) = (place.raw(&bytes), place.path("weir.001"));
    let to = write::To { format: Format::Raw, split, form: Form::Growing, old: false };
    if split.is_some() {
        std::fs::write(place.path("weir.003"), "somebody's").unwrap();
        assert!(written_to(&raw, &first, to, &Control::new()).is_err());
        assert!(!Path::new(&first).exists() && !Path::new(&place.path("weir.002")).exists());
        assert_eq!(std::fs::read(place.path("weir.003")).unwrap(), b"somebody's");
        std::fs::remove_file(place.path("weir.003")).unwrap();
    }
    let written = written_to(&raw, &first, to, &Control::new()).unwrap();
    assert_eq!(written.len, bytes.len() as u64);
    let names: Vec<String> = (1..=count).map(|number| place.path(&format!("weir.{number:03}"))).collect();
    assert!(names.iter().flat_map(|name| std::fs::read(name).unwrap()).collect::<Vec<u8>>() == bytes);
    let drive = Workshop::default().source(Path::new(&first)).unwrap();
    assert_eq!(drive.geometry().size_bytes, bytes.len() as u64);
    assert!(drive.zero_run(6 << 20, 1 << 20) > 0, "holes stay holes");
}
