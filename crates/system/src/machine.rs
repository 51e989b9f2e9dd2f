//! The machine that a drive goes into: a small file that people edit, and what of it would keep a system from starting.

use crate::advice::advise;
use crate::link::{Chain, Firmware, Offers};
use crate::places::Places;
use crate::{chain, pe};
use badger_drive::{Bus, Source};
use badger_inspect::{Line, Looked, Verdict};
use serde::{Deserialize, Serialize};
use std::path::Path;

/// What firmware a machine has.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Starts {
    /// The old kind only.
    Bios,
    /// The new kind only.
    Uefi,
    /// It can be switched to each.
    Either,
}

/// What processor it has.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Processor {
    /// x86 of 64 bits.
    #[serde(rename = "x86-64")]
    X64,
    /// x86 of 32 bits.
    #[serde(rename = "x86")]
    X86,
    /// ARM of 64 bits.
    #[serde(rename = "arm64")]
    Arm64,
}

/// How its drive is attached inside.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Controller {
    /// SATA by its own standard.
    Sata,
    /// NVMe.
    Nvme,
    /// USB.
    Usb,
    /// The older kind, or SATA that poses as it.
    Ide,
    /// A controller of its own.
    Raid,
    /// That of a virtual machine.
    Virtio,
}

impl Controller {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Sata => "SATA",
            Self::Nvme => "NVMe",
            Self::Usb => "USB",
            Self::Ide => "IDE",
            Self::Raid => "hardware RAID",
            Self::Virtio => "virtio",
        }
    }

    /// Whether a system that has drivers for these ways has one for it.
    fn is_among(self, storage: &[&str]) -> bool {
        let word = self.word();
        storage.iter().any(|have| *have == word || self == Self::Ide && *have == "SATA as IDE")
    }
}

/// A kind of drive that fits a slot.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Takes {
    /// SATA drives.
    Sata,
    /// NVMe drives.
    Nvme,
    /// Parallel ATA drives.
    Ide,
    /// Sticks and boxes.
    Usb,
}

impl Takes {
    fn word(self) -> &'static str {
        match self {
            Self::Sata => "SATA",
            Self::Nvme => "NVMe",
            Self::Ide => "IDE",
            Self::Usb => "USB",
        }
    }

    /// What a drive is, whatever box it is in; `None` where nobody can tell.
    fn of(bus: Bus) -> Option<Self> {
        match bus {
            Bus::Sata | Bus::UsbSata => Some(Self::Sata),
            Bus::Nvme | Bus::UsbNvme => Some(Self::Nvme),
            Bus::Ide => Some(Self::Ide),
            _ => None,
        }
    }
}

/// A machine. What is not said of it is not held against a drive.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Machine {
    /// What people call it.
    pub name: String,
    /// Whether it is the very one that the drive comes from.
    pub same: bool,
    /// What a licence service knows it by, where that is not its name.
    pub device: String,
    /// Its firmware.
    pub firmware: Option<Starts>,
    /// Whether it starts only what is signed.
    pub secure_boot: bool,
    /// Its processor.
    pub processor: Option<Processor>,
    /// How its drive is attached inside.
    pub controller: Option<Controller>,
    /// What people call the place for the drive.
    pub slot: String,
    /// The notch of that place's connector, where it has one.
    pub key: String,
    /// What kinds of drive fit there; empty where it is not known.
    pub takes: Vec<Takes>,
    /// Words on its screen or its serial line that say that it is up, beside the usual ones.
    pub up_when: String,
    /// Memory that a rehearsal gives it, in MiB; 0 for the usual amount.
    pub memory_mib: u32,
}

/// Machines that come with the program: their names, and their files.
pub const SHIPPED: [(&str, &str); 7] = [
    ("bios-sata", include_str!("../machines/bios-sata.machine.toml")),
    ("bios-ide", include_str!("../machines/bios-ide.machine.toml")),
    ("uefi-sata", include_str!("../machines/uefi-sata.machine.toml")),
    ("uefi-nvme", include_str!("../machines/uefi-nvme.machine.toml")),
    ("uefi-raid", include_str!("../machines/uefi-raid.machine.toml")),
    ("arm-nvme", include_str!("../machines/arm-nvme.machine.toml")),
    ("virtual", include_str!("../machines/virtual.machine.toml")),
];

/// A description is no longer than this, in bytes.
const MOST: u64 = 64 << 10;

impl Machine {
    /// Reads a description.
    ///
    /// # Errors
    /// What is wrong in it, and where.
    pub fn parse(text: &str) -> Result<Self, String> {
        let machine: Self = toml::from_str(text).map_err(|error| error.to_string())?;
        if machine.name.trim().is_empty() {
            return Err("it has no name".into());
        }
        if machine.memory_mib != 0 && !(64..=65_536).contains(&machine.memory_mib) {
            return Err(format!("memory-mib is {}: 64 to 65,536 can be given", machine.memory_mib));
        }
        Ok(machine)
    }

    /// One that comes with the program, by its name, or a file.
    ///
    /// # Errors
    /// Why it is neither.
    pub fn find(name: &str) -> Result<Self, String> {
        if let Some((_, text)) = SHIPPED.iter().find(|(shipped, _)| *shipped == name) {
            return Self::parse(text);
        }
        let path = Path::new(name);
        let wrong = |why: String| format!("{name}: {why}");
        let names = || SHIPPED.map(|(name, _)| name).join(", ");
        let meta = std::fs::metadata(path).map_err(|error| wrong(format!("{error}; one that comes along is {}", names())))?;
        // A device or a pipe says that it has nothing, and may never end.
        if !meta.is_file() {
            return Err(wrong("it is no file".into()));
        }
        let len = meta.len();
        if len > MOST {
            return Err(wrong(format!("it has {len} bytes: that is no description of a machine")));
        }
        std::fs::read_to_string(path).map_err(|error| error.to_string()).and_then(|text| Self::parse(&text)).map_err(wrong)
    }

    /// The kind of firmware that a rehearsal takes, of those that the drive has a way for.
    pub fn starts_by(&self, chains: &[Chain]) -> Firmware {
        let has = |firmware| chains.iter().any(|chain| chain.firmware == firmware);
        match self.firmware {
            Some(Starts::Bios) => Firmware::Bios,
            Some(Starts::Uefi) => Firmware::Uefi,
            Some(Starts::Either) | None if has(Firmware::Uefi) || !has(Firmware::Bios) => Firmware::Uefi,
            Some(Starts::Either) | None => Firmware::Bios,
        }
    }
}

/// What a machine meets: the drive that goes into it.
#[derive(Clone, Debug)]
pub struct Guest<'a> {
    /// How the drive is attached now, which says of what kind it is.
    pub bus: Bus,
    /// Its logical sector, in bytes.
    pub sector: u32,
    /// The ways from firmware to a system on it.
    pub chains: &'a [Chain],
    /// A volume in which a system sleeps, in words.
    pub asleep: Option<String>,
}

/// A volume of a drive in which a system sleeps, in words.
pub fn asleep(drive: &Source, looked: &Looked) -> Option<String> {
    looked.sleeping(drive).first().map(|number| format!("partition {number}"))
}

/// What the links of a machine are called as hazards; in a proof with `/` in place of the first `-`.
pub const HAZARDS: [&str; 7] =
    ["machine-slot", "machine-firmware", "machine-processor", "machine-secure-boot", "machine-entry", "machine-controller", "machine-sleep"];

fn line(name: &str, result: Verdict, text: String) -> Line {
    Line { link: format!("machine/{name}"), ..Line::new("boot", result, text) }
}

/// Holds a drive against a machine: what fits, what would keep it from starting there, what could not be told.
pub fn fit(machine: &Machine, guest: &Guest) -> Vec<Line> {
    let mut out = slot(machine, guest);
    if guest.chains.is_empty() {
        return out;
    }
    let Some(way) = firmware(machine, guest, &mut out) else { return out };
    let offered = |of: fn(&Offers) -> bool| way.links.iter().map(|link| &*link.offers).find(|offers| of(offers));
    let loader = offered(|offers| offers.processor.is_some());
    processor(machine, way, loader, &mut out);
    if way.firmware == Firmware::Uefi && machine.secure_boot {
        out.push(match loader.and_then(|offers| offers.is_signed) {
            Some(true) => {
                let text = "its loader carries a signature; whether this machine trusts who signed is not looked at: rehearse it";
                line("secure-boot", Verdict::NotChecked, text.into())
            }
            Some(false) => {
                let text = "its loader carries no signature, and this machine starts only what is signed: switch Secure Boot off there";
                line("secure-boot", Verdict::Fails, text.into())
            }
            None => line("secure-boot", Verdict::NotChecked, "whether its loader is signed is not known".into()),
        });
    }
    if way.firmware == Firmware::Uefi && !machine.same && loader.is_some_and(|offers| offers.is_fallback == Some(false)) {
        let text = "its loader lies where only the old machine knew to look: another one has no entry for it";
        out.push(line("entry", Verdict::Fails, text.into()));
    }
    if let Some(controller) = machine.controller {
        let storage = offered(|offers| offers.storage.is_some()).and_then(|offers| offers.storage.as_ref());
        let perhaps = offered(|offers| !offers.perhaps.is_empty()).is_some_and(|offers| controller.is_among(&offers.perhaps));
        out.push(match storage {
            Some(storage) if controller.is_among(storage) => {
                line("controller", Verdict::Holds, format!("the system has a driver for {}", controller.word()))
            }
            _ if perhaps => {
                let text = format!("a driver for {} lies there, and nothing that was read says that it is taken: rehearse it", controller.word());
                line("controller", Verdict::NotChecked, text)
            }
            Some(storage) => {
                let have = if storage.is_empty() { "none at all".into() } else { format!("some for {}", storage.join(", ")) };
                let text =
                    format!("no driver for {} starts with the system, which has {have}: it will not find its own disk there", controller.word());
                line("controller", Verdict::Fails, text)
            }
            None => line("controller", Verdict::NotChecked, format!("whether the system has a driver for {} is not known", controller.word())),
        });
    }
    if let Some(place) = guest.asleep.as_ref().filter(|_| !machine.same) {
        let text =
            format!("the system on {place} only sleeps, with the old machine's drivers in mind: it wakes there or breaks; let it start afresh");
        out.push(line("sleep", Verdict::Fails, text));
    }
    out
}

/// Whether the drive fits the place that is made for it.
fn slot(machine: &Machine, guest: &Guest) -> Vec<Line> {
    if machine.takes.is_empty() {
        return Vec::new();
    }
    let takes = machine.takes.iter().map(|takes| takes.word()).collect::<Vec<_>>().join(" or ");
    let name = match (machine.slot.as_str(), machine.key.as_str()) {
        ("", _) => "its place for a drive".to_string(),
        (slot, "") => format!("its {slot}"),
        (slot, key) => format!("its {slot} with key {key}"),
    };
    vec![match Takes::of(guest.bus) {
        None => line("slot", Verdict::NotChecked, format!("{name} takes {takes}; of what kind this drive is cannot be told from here")),
        Some(kind) if machine.takes.contains(&kind) => line("slot", Verdict::Holds, format!("{name} takes {takes}, and this is one")),
        Some(kind) => line("slot", Verdict::Fails, format!("{name} takes {takes}, and this drive is {}: it cannot be put in", kind.word())),
    }]
}

/// The way that the machine takes, where it has firmware for one.
fn firmware<'a>(machine: &Machine, guest: &'a Guest, out: &mut Vec<Line>) -> Option<&'a Chain> {
    let wanted = machine.starts_by(guest.chains);
    let Some(starts) = machine.firmware else {
        out.push(line("firmware", Verdict::NotChecked, "which firmware the machine has is not said".into()));
        return guest.chains.iter().find(|chain| chain.firmware == wanted);
    };
    let Some(way) = guest.chains.iter().find(|chain| chain.firmware == wanted) else {
        let text = match starts {
            Starts::Uefi => "it starts by UEFI only, and the drive has only a way for BIOS: the system has to be converted, or set up anew",
            _ => "it starts by BIOS, and the drive has only a way for UEFI: switch its firmware where it can be switched",
        };
        out.push(line("firmware", Verdict::Fails, text.into()));
        return None;
    };
    out.push(match (wanted, guest.sector) {
        (Firmware::Bios, 4096) => {
            let text = "it starts by BIOS, which reads sectors of 512 bytes only, and this drive's have 4096";
            line("firmware", Verdict::Fails, text.into())
        }
        _ => line("firmware", Verdict::Holds, format!("it starts by {}, and the drive has a way for that", wanted.word())),
    });
    Some(way)
}

/// Whether its processor can run what starts.
fn processor(machine: &Machine, way: &Chain, loader: Option<&Offers>, out: &mut Vec<Line>) {
    let Some(wanted) = machine.processor else { return };
    let wanted = match wanted {
        Processor::X64 => pe::Machine::X64,
        Processor::X86 => pe::Machine::X86,
        Processor::Arm64 => pe::Machine::Arm64,
    };
    let has = match (way.firmware, loader.and_then(|offers| offers.processor)) {
        (Firmware::Uefi, has) => has,
        // Code for BIOS is of one family, and says nothing of the system behind it.
        (Firmware::Bios, _) if wanted == pe::Machine::Arm64 => Some(pe::Machine::X86),
        (Firmware::Bios, _) => None,
    };
    out.push(match has {
        Some(has) if has == wanted => line("processor", Verdict::Holds, format!("what starts is made for {}", wanted.word())),
        Some(has) => line("processor", Verdict::Fails, format!("what starts is made for {}, and its processor is {}", has.word(), wanted.word())),
        None => line("processor", Verdict::NotChecked, format!("whether what starts is made for {} is not known", wanted.word())),
    });
}

/// Of a way that a machine has no firmware for nothing keeps it from starting: what is broken there is told, and no fault.
pub fn spare(machine: &Machine, lines: &mut [Line]) {
    let (way, other) = match machine.firmware {
        Some(Starts::Uefi) => (Firmware::Uefi, "bios/"),
        Some(Starts::Bios) => (Firmware::Bios, "uefi/"),
        Some(Starts::Either) | None => return,
    };
    for line in lines.iter_mut().filter(|line| line.result == Verdict::Fails && line.link.starts_with(other)) {
        line.result = Verdict::Differs;
        line.text = format!("{}; a machine that starts by {} does not go that way", line.text, way.word());
    }
}

/// What the ways of a drive say, and what of it a machine would not take. Both come of following them once.
pub fn told(drive: &Source, looked: &Looked, machine: Option<&Machine>) -> (Vec<Line>, Vec<Line>) {
    let places = Places::of(drive, looked);
    let chains = chain::of_places(drive, looked, &places);
    let of_machine = machine.map(|machine| {
        let guest = Guest { bus: drive.identity().bus, sector: drive.geometry().logical_sector, chains: &chains, asleep: asleep(drive, looked) };
        fit(machine, &guest)
    });
    let (mut lines, mut of_machine) = (chain::told(&chains, &places), of_machine.unwrap_or_default());
    advise(&mut lines);
    advise(&mut of_machine);
    (lines, of_machine)
}

/// The same as one list, where a way that the machine does not take is no fault.
pub fn lines(drive: &Source, looked: &Looked, machine: Option<&Machine>) -> Vec<Line> {
    let (mut lines, of_machine) = told(drive, looked, machine);
    if let Some(machine) = machine {
        spare(machine, &mut lines);
    }
    lines.extend(of_machine);
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::link::Link;
    use rstest::rstest;

    fn way(firmware: Firmware, loader: Offers, storage: &[&'static str]) -> Chain {
        let drivers = Offers { storage: Some(storage.to_vec()), ..Offers::default() };
        Chain { firmware, links: vec![Link::holds("loader", "").offering(loader), Link::holds("drivers", "").offering(drivers)] }
    }

    fn loader(processor: pe::Machine, is_signed: bool, is_fallback: bool) -> Offers {
        Offers { processor: Some(processor), is_signed: Some(is_signed), is_fallback: Some(is_fallback), ..Offers::default() }
    }

    fn failing(machine: &str, guest: &Guest) -> Vec<String> {
        let lines = fit(&Machine::find(machine).unwrap(), guest);
        lines.into_iter().filter(|line| line.result == Verdict::Fails).map(|line| line.link).collect()
    }

    #[test]
    fn every_machine_that_comes_along_can_be_read() {
        for (name, _) in SHIPPED {
            let machine = Machine::find(name).unwrap_or_else(|why| panic!("{name}: {why}"));
            let again = toml::to_string(&machine).unwrap();
            assert_eq!(Machine::parse(&again).unwrap(), machine);
        }
    }

    #[rstest]
    #[case("firmware = \"uefi\"", "no name")]
    #[case("name = \"a\"\nfirmwre = \"uefi\"", "firmwre")]
    #[case("name = \"a\"\nfirmware = \"open\"", "open")]
    #[case("name = \"a\"\nmemory-mib = 1", "64 to")]
    fn a_wrong_description_says_what_is_wrong(#[case] text: &str, #[case] says: &str) {
        let why = Machine::parse(text).unwrap_err();
        assert!(why.contains(says), "{why}");
    }

    #[test]
    fn what_never_ends_is_no_description() {
        assert!(Machine::find("/dev/zero").unwrap_err().contains("no file"));
    }

    #[rstest]
    #[case::fits("uefi-nvme", Bus::UsbNvme, &[])]
    #[case::slot_and_controller("uefi-sata", Bus::UsbNvme, &["machine/slot", "machine/controller"])]
    #[case::firmware("bios-sata", Bus::Sata, &["machine/firmware"])]
    #[case::processor("arm-nvme", Bus::Nvme, &["machine/processor"])]
    #[case::unknown_drive("uefi-nvme", Bus::File, &[])]
    fn what_does_not_fit_is_named(#[case] machine: &str, #[case] bus: Bus, #[case] expected: &[&str]) {
        let chains = [way(Firmware::Uefi, loader(pe::Machine::X64, true, true), &["NVMe"])];
        assert_eq!(failing(machine, &Guest { bus, sector: 512, chains: &chains, asleep: None }), expected);
    }

    #[test]
    fn what_another_machine_does_not_know_is_named() {
        let chains = [way(Firmware::Uefi, loader(pe::Machine::X64, false, false), &["NVMe"])];
        let guest = Guest { bus: Bus::Nvme, sector: 512, chains: &chains, asleep: Some("partition 3".into()) };
        assert_eq!(failing("uefi-nvme", &guest), ["machine/secure-boot", "machine/entry", "machine/sleep"]);
        let same = Machine { same: true, ..Machine::find("uefi-nvme").unwrap() };
        let failing: Vec<Line> = fit(&same, &guest).into_iter().filter(|line| line.result == Verdict::Fails).collect();
        assert_eq!(failing.len(), 1, "{failing:?}");
        let old = [way(Firmware::Bios, Offers::default(), &["SATA as IDE"])];
        assert_eq!(failing_of_old(&old, 512), Vec::<String>::new());
        assert_eq!(failing_of_old(&old, 4096), ["machine/firmware"]);
    }

    #[test]
    fn a_driver_that_may_be_taken_is_not_missing() {
        let mut chains = [way(Firmware::Uefi, loader(pe::Machine::X64, true, true), &["SATA"])];
        let result = |chains: &[Chain]| {
            let lines = fit(&Machine::find("uefi-nvme").unwrap(), &Guest { bus: Bus::Nvme, sector: 512, chains, asleep: None });
            lines.into_iter().find(|line| line.link == "machine/controller").unwrap().result
        };
        assert_eq!(result(&chains), Verdict::Fails);
        chains[0].links[1].offers.perhaps = vec!["NVMe"];
        assert_eq!(result(&chains), Verdict::NotChecked);
    }

    #[test]
    fn the_way_that_is_not_taken_is_no_fault() {
        let link = |link: &str, result| Line { link: link.into(), ..Line::new("boot", result, "it is so") };
        let mut lines = [link("bios/stub", Verdict::Fails), link("uefi/stub", Verdict::Fails), link("kernel", Verdict::Fails)];
        spare(&Machine::find("uefi-sata").unwrap(), &mut lines);
        assert!(lines.iter().all(|line| line.result == Verdict::Fails));
        spare(&Machine::find("uefi-nvme").unwrap(), &mut lines);
        assert_eq!(lines.map(|line| line.result), [Verdict::Differs, Verdict::Fails, Verdict::Fails]);
    }

    fn failing_of_old(chains: &[Chain], sector: u32) -> Vec<String> {
        failing("bios-ide", &Guest { bus: Bus::Sata, sector, chains, asleep: None })
    }
}
