//! Drives with a few lines of code of our own in their first sector are started in the real emulator: what they say over the serial line, on
//! the screen, or by going off, is what is said of them, and nothing is written to any of them.

use badger_drive::{Control, Workshop};
use badger_inspect::Verdict;
use badger_rehearsal::{Emulator, Rehearsal, Rehearsed};
use badger_system::{Firmware, Machine};
use rstest::rstest;
use std::fs;
use std::time::Duration;

/// Writes what stands behind it to the serial line, and halts.
const SERIAL: &[u8] = b"\x31\xc0\x8e\xd8\xba\xf8\x03\xbe\x15\x7c\xac\x84\xc0\x74\x03\xee\xeb\xf8\xf4\xeb\xfd";
/// The same, to the screen.
const SCREEN: &[u8] = b"\x31\xc0\x8e\xd8\xbe\x15\x7c\xb4\x0e\xac\x84\xc0\x74\x04\xcd\x10\xeb\xf7\xf4\xeb\xfd";
/// Starts the machine anew by its reset register.
const RESET: &[u8] = b"\xba\xf9\x0c\xb0\x06\xee\xf4\xeb\xfd";
/// Switches it off by its power management register.
const OFF: &[u8] = b"\xba\x04\x06\xb8\x00\x20\xef\xf4\xeb\xfd";

/// Starts a drive with this in its first sector; `told` may end it after so many looks.
fn rehearsed(code: &[u8], words: &str, machine: &str, seconds: u64, stop_after: Option<usize>) -> Rehearsed {
    let dir = tempfile::tempdir().unwrap();
    let mut bytes = vec![0; 1 << 20];
    bytes[..code.len()].copy_from_slice(code);
    bytes[code.len()..code.len() + words.len()].copy_from_slice(words.as_bytes());
    if !code.is_empty() {
        bytes[510..512].copy_from_slice(b"\x55\xaa");
    }
    let drive = dir.path().join("drive.img");
    fs::write(&drive, &bytes).unwrap();
    let (control, log, looks) = (Control::new(), dir.path().join("log"), std::cell::Cell::new(0));
    let machine = Machine::parse(&format!("name = \"Test bench\"\n{machine}")).unwrap();
    let rehearsal = Rehearsal {
        source: Workshop::default().source(&drive).unwrap(),
        machine: &machine,
        firmware: Firmware::Bios,
        patience: Duration::from_secs(seconds),
        control: &control,
        log: &log,
    };
    let done = rehearsal.run(&|scene| {
        looks.set(looks.get() + 1);
        assert!(scene.seconds > 0.0);
        if stop_after.is_some_and(|most| looks.get() >= most) {
            control.stop();
        }
    });
    let done = done.unwrap_or_else(|refusal| panic!("{}: {}", refusal.code, refusal.text));
    assert!(fs::read(&drive).unwrap() == bytes, "it was written to");
    assert!(log.join("serial.log").is_file() && log.join("screen.txt").is_file());
    assert!(done.line.evidence.iter().any(|line| line.contains("nothing written to the drive")), "{:?}", done.line.evidence);
    done
}

#[rstest]
#[case::it_is_up(SERIAL, "station login: ", "", Verdict::Holds, "it started: \"station login:\"")]
#[case::its_own_word(SERIAL, "the weir is open\r\n", "up-when = \"weir is open\"\n", Verdict::Holds, "it started: \"the weir is open\"")]
#[case::it_gave_up(SERIAL, "Kernel panic - not syncing\r\n", "", Verdict::Fails, "the kernel gave up")]
#[case::it_was_held_up(
    SERIAL,
    "Kernel panic - not syncing: IO-APIC + timer doesn't work!\r\n",
    "",
    Verdict::NotChecked,
    "this bench was too busy, 3 times"
)]
#[case::on_the_screen(SCREEN, "Missing operating system", "", Verdict::Fails, "the code in the first sector finds no system")]
#[case::nothing_to_start(b"", "", "", Verdict::Fails, "the firmware finds nothing to start from")]
#[case::it_starts_anew(RESET, "", "", Verdict::NotChecked, "it started anew, and nothing said that it had come up")]
#[case::it_goes_off(OFF, "", "", Verdict::NotChecked, "it switched itself off, and nothing said that it had come up")]
fn what_it_says_is_what_is_said(#[case] code: &[u8], #[case] words: &str, #[case] machine: &str, #[case] result: Verdict, #[case] said: &str) {
    let done = rehearsed(code, words, machine, 120, None);
    assert!(done.line.result == result && done.line.text.contains(said), "{}\n{:#?}", done.line.text, done.line.evidence);
}

/// Silence is neither good nor bad.
#[test]
fn what_says_nothing_is_not_called_started() {
    let done = rehearsed(SERIAL, "high water", "", 6, None);
    assert!(done.line.result == Verdict::NotChecked && done.line.text.contains("nothing said in the time it was given"), "{}", done.line.text);
    let done = rehearsed(SERIAL, "high water", "", 120, Some(2));
    assert!(done.line.result == Verdict::NotChecked && done.line.text.contains("stopped before anything was known"), "{}", done.line.text);
    assert!(done.seconds < 60.0);
}

/// What this bench cannot build is said before anything is started.
#[rstest]
#[case::arm("processor = \"arm64\"\n", Firmware::Uefi, "ARM")]
#[case::raid("controller = \"raid\"\n", Firmware::Uefi, "RAID")]
fn what_cannot_be_rehearsed_is_refused(#[case] machine: &str, #[case] firmware: Firmware, #[case] why: &str) {
    let machine = Machine::parse(&format!("name = \"Test bench\"\n{machine}")).unwrap();
    let refusal = Emulator::find(&machine, firmware).err().unwrap();
    assert!(refusal.code == "no-emulator" && refusal.text.contains(why), "{}", refusal.text);
}
