//! What a screen or a serial line says of how it went.

/// What it says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Sign {
    /// The system is up.
    Up(String),
    /// It will not come up any more.
    Broken(String),
    /// It gave up because this bench held it up: nothing is known of the drive.
    HeldUp(String),
}

/// Words of a system that is up.
const UP: [&str; 4] = [" login:", "Reached target multi-user.target", "Reached target Multi-User System", "Reached target graphical.target"];
/// Words of one that is not, and what they mean.
const BROKEN: [(&str, &str); 21] = [
    ("No bootable device", "the firmware finds nothing to start from"),
    ("No bootable option or device was found", "the firmware finds nothing to start from"),
    ("not a bootable disk", "the firmware finds nothing to start from"),
    ("UEFI Interactive Shell", "the firmware finds no loader, and shows its own shell"),
    (": Access Denied", "the firmware does not let the loader run: it is not signed by anybody whom it trusts"),
    (": Security Violation", "the firmware does not let the loader run: it is not signed by anybody whom it trusts"),
    ("grub rescue>", "the loader does not find its own files"),
    ("grub>", "the loader does not find its configuration"),
    ("Missing operating system", "the code in the first sector finds no system"),
    ("Operating System not found", "the firmware finds nothing to start from"),
    ("BOOTMGR is missing", "the loader is not where the volume's boot code looks"),
    ("NTLDR is missing", "the loader is not where the volume's boot code looks"),
    ("0xc000000e", "the boot store names a volume that is not there"),
    ("0xc000000f", "the boot store cannot be read"),
    ("0xc0000225", "the boot store names a system that is not there"),
    ("INACCESSIBLE_BOOT_DEVICE", "the system has no driver for the controller that its disk hangs on"),
    ("Kernel panic", "the kernel gave up"),
    ("(initramfs)", "the system's volume was not found: the initial RAM file system waits for help"),
    ("dracut:/#", "the system's volume was not found: the initial RAM file system waits for help"),
    ("You are in emergency mode", "the system came up as far as its emergency mode"),
    ("Cannot open access to console", "the system came up as far as its emergency mode, and waits for nobody"),
];

/// Words of a kernel that counted too few ticks of an emulated timer while the bench was busy with other things.
const HELD_UP: &str = "IO-APIC + timer doesn't work";

/// What to look for.
#[derive(Clone, Debug, Default)]
pub struct Signs {
    /// Words by which a system says that it is up, beside the usual ones.
    pub up: Option<String>,
}

impl Signs {
    /// The first sign in a text. What is broken counts before what is up, and whatever the machine's own description names before both; a kernel
    /// that was held up says that it panics, too.
    pub fn read(&self, text: &str) -> Option<Sign> {
        let line = |at: usize| {
            let start = text[..at].rfind('\n').map_or(0, |start| start + 1);
            let end = text[at..].find('\n').map_or(text.len(), |end| at + end);
            text[start..end].trim().to_string()
        };
        if let Some(at) = self.up.as_ref().filter(|up| !up.is_empty()).and_then(|up| text.find(up.as_str())) {
            return Some(Sign::Up(line(at)));
        }
        if let Some(at) = text.find(HELD_UP) {
            return Some(Sign::HeldUp(line(at)));
        }
        if let Some((at, means)) = BROKEN.iter().find_map(|(words, means)| Some((text.find(words)?, means))) {
            return Some(Sign::Broken(format!("{means} (\"{}\")", line(at))));
        }
        UP.iter().find_map(|words| text.find(words)).map(|at| Sign::Up(line(at)))
    }
}

/// A text without what steers a terminal.
pub fn plain(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut letters = text.chars().peekable();
    while let Some(letter) = letters.next() {
        match letter {
            '\u{1b}' => {
                // A sequence with brackets goes to its first letter; others are one letter long.
                if letters.next_if_eq(&'[').is_some() {
                    while letters.next().is_some_and(|letter| !letter.is_ascii_alphabetic()) {}
                    out.push(' ');
                } else {
                    letters.next();
                }
            }
            '\n' => out.push('\n'),
            '\r' => {}
            letter if letter.is_control() => {}
            letter => out.push(letter),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Booting from Hard Disk...\nBoot failed: not a bootable disk\n", Some(false))]
    #[case("BdsDxe: failed to load Boot0001 \"disk\": Not Found\n", None)]
    #[case("error: no such device: 1.\ngrub rescue> ", Some(false))]
    #[case("Debian GNU/Linux 12 workstation tty1\n\nworkstation login: ", Some(true))]
    #[case("[  OK  ] Reached target multi-user.target - Multi-User System.", Some(true))]
    #[case("Gave up waiting for root\n(initramfs) ", Some(false))]
    #[case("ALL-IS-WELL root=/dev/sda", Some(true))]
    #[case("", None)]
    fn signs_are_read(#[case] text: &str, #[case] expected: Option<bool>) {
        let found = Signs { up: Some("ALL-IS-WELL".into()) }.read(text);
        assert_eq!(found.as_ref().map(|sign| matches!(sign, Sign::Up(_))), expected, "{found:?}");
    }

    #[test]
    fn a_kernel_that_was_held_up_is_not_one_that_gave_up() {
        let text = "[    0.1] Kernel panic - not syncing: IO-APIC + timer doesn't work!  Boot with apic=debug and send a report.\n";
        assert_eq!(Signs::default().read(text), Some(Sign::HeldUp(text.trim().into())));
    }

    #[test]
    fn what_steers_a_terminal_goes() {
        assert_eq!(plain("\u{1b}[2J\u{1b}[01;01Hhost\u{1b}c login:\r\n\u{7}"), "  host login:\n");
        assert_eq!(plain("\u{1b}["), " ");
    }
}
