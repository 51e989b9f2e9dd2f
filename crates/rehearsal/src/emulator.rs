//! The emulator of this bench, and what it is told of a machine.

use badger_drive::Refusal;
use badger_system::machine::{Controller, Processor};
use badger_system::{Firmware, Machine};
use std::ffi::OsString;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::Command;

/// The emulator's program.
const PROGRAM: &str = "qemu-system-x86_64";
/// Firmware of the new kind: its code, and its variables as they are on a machine that starts for the first time.
const PLAIN: [(&str, &str); 5] = [
    ("/usr/share/OVMF/OVMF_CODE_4M.fd", "/usr/share/OVMF/OVMF_VARS_4M.fd"),
    ("/usr/share/OVMF/OVMF_CODE.fd", "/usr/share/OVMF/OVMF_VARS.fd"),
    ("/usr/share/edk2/ovmf/OVMF_CODE.fd", "/usr/share/edk2/ovmf/OVMF_VARS.fd"),
    ("/usr/share/edk2/x64/OVMF_CODE.4m.fd", "/usr/share/edk2/x64/OVMF_VARS.4m.fd"),
    ("/usr/share/qemu/ovmf-x86_64-code.bin", "/usr/share/qemu/ovmf-x86_64-vars.bin"),
];
/// The same that starts only what is signed.
const SECURE: [(&str, &str); 4] = [
    ("/usr/share/OVMF/OVMF_CODE_4M.secboot.fd", "/usr/share/OVMF/OVMF_VARS_4M.ms.fd"),
    ("/usr/share/OVMF/OVMF_CODE.secboot.fd", "/usr/share/OVMF/OVMF_VARS.ms.fd"),
    ("/usr/share/edk2/ovmf/OVMF_CODE.secboot.fd", "/usr/share/edk2/ovmf/OVMF_VARS.secboot.fd"),
    ("/usr/share/edk2/x64/OVMF_CODE.secboot.4m.fd", "/usr/share/edk2/x64/OVMF_VARS.4m.fd"),
];
/// Where the letters of its screen come from.
const LETTERS: [&str; 3] =
    ["/usr/share/seabios/vgabios-stdvga.bin", "/usr/share/qemu/vgabios-stdvga.bin", "/usr/share/seavgabios/vgabios-stdvga.bin"];
/// Memory of a machine of which nothing is said, in MiB.
const MEMORY: u32 = 1024;

/// What is installed here for one kind of machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Emulator {
    program: PathBuf,
    firmware: Option<(PathBuf, PathBuf)>,
    is_secure: bool,
}

/// Sockets and files of one rehearsal.
pub(crate) struct Things<'a> {
    /// Where the drive is lent.
    pub drive: &'a Path,
    /// Where the emulator is asked.
    pub monitor: &'a Path,
    /// What comes over the serial line.
    pub serial: &'a Path,
    /// Its own variables.
    pub variables: &'a Path,
}

fn missing(what: &str, package: &str) -> Refusal {
    let text = format!("{what} is not installed on this bench: on Debian and what descends from it, apt install {package} brings it");
    Refusal::new("no-emulator", text)
}

/// A program of this bench.
fn in_path(name: &str) -> Option<PathBuf> {
    let paths = std::env::var_os("PATH").unwrap_or_default();
    std::env::split_paths(&paths).map(|dir| dir.join(name)).find(|path| path.is_file())
}

impl Emulator {
    /// Looks for what it takes.
    ///
    /// # Errors
    /// What is missing, and how to get it.
    pub fn find(machine: &Machine, firmware: Firmware) -> Result<Self, Refusal> {
        if machine.processor == Some(Processor::Arm64) {
            return Err(Refusal::new("no-emulator", "a machine with an ARM processor is not rehearsed here: start the drive in the machine itself"));
        }
        if machine.controller == Some(Controller::Raid) && firmware == Firmware::Uefi {
            let text = "the emulator's firmware has no driver for hardware RAID: start the drive in the machine itself, or rehearse it by another controller";
            return Err(Refusal::new("no-emulator", text));
        }
        let program = in_path(PROGRAM).ok_or_else(|| missing("no virtual machine emulator", "qemu-system-x86 ovmf"))?;
        let firmware = match (firmware, machine.secure_boot) {
            (Firmware::Bios, _) => None,
            (Firmware::Uefi, is_secure) => {
                let all: &[(&str, &str)] = if is_secure { &SECURE } else { &PLAIN };
                let found = all.iter().find(|(code, variables)| Path::new(code).is_file() && Path::new(variables).is_file());
                let (code, variables) = found.ok_or_else(|| missing("firmware for virtual machines", "ovmf"))?;
                Some((PathBuf::from(code), PathBuf::from(variables)))
            }
        };
        let is_secure = machine.secure_boot && firmware.is_some();
        Ok(Self { program, firmware, is_secure })
    }

    /// What starts it. It ends with this program, however that ends, where the system has a tool that sees to it.
    pub(crate) fn command(&self) -> Command {
        match in_path("setpriv") {
            Some(tool) => {
                let mut command = Command::new(tool);
                command.args(["--pdeathsig", "KILL", "--"]).arg(&self.program);
                command
            }
            None => Command::new(&self.program),
        }
    }

    /// Whether it starts only what is signed.
    pub(crate) fn is_secure(&self) -> bool {
        self.is_secure
    }

    /// The variables that its firmware begins with.
    pub(crate) fn variables(&self) -> Option<&Path> {
        self.firmware.as_ref().map(|(_, variables)| variables.as_path())
    }

    /// Where the letters of its screen come from.
    pub(crate) fn letters() -> Option<&'static str> {
        LETTERS.into_iter().find(|path| Path::new(path).is_file())
    }

    /// Whether the processor of this bench may run it itself, which is many times faster.
    pub(crate) fn has_accelerator() -> bool {
        // Without the processor's own help firmware runs there many times slower than emulated, where it runs at all.
        let processor = std::fs::read_to_string("/proc/cpuinfo").unwrap_or_default();
        processor.split_whitespace().any(|flag| matches!(flag, "vmx" | "svm")) && File::options().read(true).write(true).open("/dev/kvm").is_ok()
    }

    /// What it is told.
    pub(crate) fn arguments(&self, machine: &Machine, things: &Things, is_accelerated: bool) -> Vec<OsString> {
        let controller = machine.controller.unwrap_or(Controller::Sata);
        let mut out: Vec<OsString> = Vec::new();
        let mut add = |name: &str, value: &str| out.extend([format!("-{name}").into(), value.into()]);
        let board = match (controller, self.is_secure) {
            (Controller::Ide, false) => "pc",
            (_, false) => "q35",
            (_, true) => "q35,smm=on",
        };
        add("machine", board);
        add("accel", if is_accelerated { "kvm" } else { "tcg,thread=multi" });
        add("cpu", "max");
        add("smp", "2");
        add("m", &if machine.memory_mib == 0 { MEMORY } else { machine.memory_mib }.to_string());
        add("vga", "std");
        add("display", "none");
        // A customer's system talks to nobody while it is tried.
        add("nic", "none");
        add("chardev", &format!("file,id=line,path={}", escaped(things.serial)));
        add("serial", "chardev:line");
        add("qmp", &format!("unix:{},server=on,wait=off", escaped(things.monitor)));
        if let Some((code, _)) = &self.firmware {
            if self.is_secure {
                add("global", "driver=cfi.pflash01,property=secure,value=on");
            }
            add("drive", &format!("if=pflash,format=raw,readonly=on,file={}", escaped(code)));
            add("drive", &format!("if=pflash,format=raw,file={}", escaped(things.variables)));
        }
        // What it writes goes to an overlay in its own temporary folder; the lender gives nothing to write to in any case.
        let lent = format!("file.driver=nbd,file.server.type=unix,file.server.path={},file.export=drive", escaped(things.drive));
        add("drive", &format!("if=none,id=disk,format=raw,snapshot=on,{lent}"));
        match controller {
            Controller::Sata | Controller::Ide => add("device", "ide-hd,drive=disk,bus=ide.0,bootindex=0"),
            Controller::Nvme => add("device", "nvme,drive=disk,serial=rehearsal,bootindex=0"),
            Controller::Usb => {
                add("device", "qemu-xhci,id=usb");
                add("device", "usb-storage,bus=usb.0,drive=disk,bootindex=0");
            }
            Controller::Raid => {
                add("device", "megasas,id=raid");
                add("device", "scsi-hd,bus=raid.0,drive=disk,bootindex=0");
            }
            Controller::Virtio => add("device", "virtio-blk-pci,drive=disk,bootindex=0"),
        }
        out.extend(["-no-reboot".into(), "-no-user-config".into()]);
        out
    }
}

/// A path as it stands in a list of options: a comma parts them.
fn escaped(path: &Path) -> String {
    path.display().to_string().replace(',', ",,")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_machine_is_built_as_it_is_described() {
        let emulator = |firmware: Option<&str>, is_secure| Emulator {
            program: "emulator".into(),
            firmware: firmware.map(|code| (code.into(), "variables".into())),
            is_secure,
        };
        let at = Path::new;
        let things = Things { drive: at("/t/a,b"), monitor: at("/t/monitor"), serial: at("/t/serial"), variables: at("/t/variables") };
        let told = |emulator: &Emulator, machine: &str| {
            let all = emulator.arguments(&Machine::parse(machine).unwrap(), &things, false);
            all.iter().map(|part| part.to_string_lossy().into_owned()).collect::<Vec<_>>().join(" ")
        };
        let old = told(&emulator(None, false), "name = \"a\"\ncontroller = \"ide\"");
        assert!(old.contains("-machine pc ") && old.contains("-m 1024") && !old.contains("pflash"), "{old}");
        assert!(old.contains("snapshot=on") && old.contains("/t/a,,b") && old.contains("-nic none"), "{old}");
        let new = told(&emulator(Some("code"), true), "name = \"a\"\ncontroller = \"nvme\"\nmemory-mib = 2048");
        assert!(new.contains("smm=on") && new.contains("nvme,drive=disk") && new.contains("-m 2048"), "{new}");
        assert!(new.contains("readonly=on,file=code") && new.contains("file=/t/variables"), "{new}");
    }
}
