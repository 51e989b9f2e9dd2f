//! What to do by hand about a link that does not hold: from a live system or the system's own installation medium, with what systems bring along.

use badger_inspect::{Line, Verdict};

/// By the names of links, for Linux and whatever has no system of its own.
const ANY: [(&str, &str); 24] = [
    ("", "have the system's loader installed again, from a live system of its kind or from its installation medium"),
    ("system-partition", "make a FAT32 partition of the type for EFI systems, and have the system's loader installed to it from a live system"),
    ("loader", "start a live system with this firmware, mount the system's volumes, change into it (chroot) and run grub-install or bootctl install"),
    ("second-loader", "from within the system (chroot in a live system), install its loader's packages again"),
    ("stub", "from within the system (chroot in a live system), run grub-install for this drive: it writes the short configuration again"),
    ("first-sector", "in a live system that was started by BIOS, from within the system (chroot), run grub-install for the whole drive"),
    ("core", "in a live system that was started by BIOS, from within the system (chroot), run grub-install for the whole drive"),
    ("modules", "in a live system that was started by BIOS, from within the system (chroot), run grub-install for the whole drive"),
    ("active", "mark the partition with the loader as active, and no other one (sfdisk --activate)"),
    ("volume-record", "have the volume's boot record written again by its own system, from its installation medium"),
    ("configuration", "from within the system (chroot in a live system), run update-grub or grub-mkconfig: it writes the configuration again"),
    ("kernel", "from within the system (chroot in a live system), install the package of its kernel again"),
    ("initial", "from within the system (chroot in a live system), run update-initramfs -u -k all, or dracut --force --regenerate-all"),
    (
        "drivers",
        "from within the system (chroot in a live system), have the initial RAM file system made with all drivers: MODULES=most and update-initramfs -u, or dracut --no-hostonly --force",
    ),
    ("root", "write the identifier of the right volume (blkid lists them) behind root= in the loader's configuration, and into /etc/fstab"),
    ("subvolume", "write the name of the right subvolume (btrfs subvolume list) behind subvol= in the loader's configuration, and into /etc/fstab"),
    ("mounts", "in /etc/fstab, name what is there (blkid lists it), or give nofail to what need not be there"),
    (
        "init",
        "from within the system (chroot in a live system), install the packages of the files that are named again (apt-get install --reinstall); where it does not start at all, copy these files from a live system of the same version",
    ),
    ("default-entry", "from within the system (chroot in a live system), run update-grub, or install the kernel of the first entry again"),
    ("slot", "take a drive of the kind that fits the slot"),
    ("firmware", "change the firmware's mode if it has the other one, or clone with uefi among the rules of --fit"),
    ("processor", "nothing on this drive helps: the machine needs a system made for its processor"),
    ("secure-boot", "switch Secure Boot off in the firmware, or install the system's signed loader"),
    ("entry", "in the running machine's firmware, or by efibootmgr in a live system, make an entry for the loader"),
];

/// Where it is another for the NT family, or its controller or sleep is meant.
const NT: [(&str, &str); 14] = [
    (
        "system-partition",
        "make a FAT32 partition of the type for EFI systems, give it a letter, and run bcdboot with it, from the installation medium",
    ),
    ("loader", "from the command line of the installation medium, run bcdboot for the system's folder"),
    ("first-sector", "from the command line of the installation medium, run bootrec /fixmbr"),
    ("active", "mark the partition with bootmgr as active, and no other one (diskpart)"),
    ("volume-record", "from the command line of the installation medium, run bootrec /fixboot"),
    ("store", "from the command line of the installation medium, put the boot store aside and run bcdboot for the system's folder"),
    ("entry", "from the command line of the installation medium, run bcdboot for the system's folder"),
    ("system-volume", "let chkdsk /f go over the volume from the installation medium, then look again"),
    ("kernel", "from the command line of the installation medium, run sfc /scannow for the system's folder, or take the file from the old drive"),
    ("registry", "put the file aside, and take the copy in System32\\config\\RegBack, or a restore point, from the installation medium"),
    ("drivers", "from the command line of the installation medium, add the controller's driver: dism /add-driver for the system's folder"),
    ("letters", "from the installation medium, remove C: from the registry's MountedDevices: the system settles it again"),
    ("state", "start it in its old machine and shut it down fully, or let it start afresh on the target (--afresh)"),
    ("sleep", "start it in its old machine and shut it down fully, or let it start afresh on the target (--afresh)"),
];

/// Writes beside every link that does not hold what can be done by hand.
pub(crate) fn advise(lines: &mut [Line]) {
    let is_nt = lines.iter().any(|line| matches!(line.link.rsplit('/').next(), Some("store" | "registry")));
    for line in lines.iter_mut().filter(|line| line.what == "boot") {
        let name = line.link.rsplit('/').next().unwrap_or_default();
        // That a system sleeps is no fault of the disk, and something is to be done about it.
        let is_meant = match line.result {
            Verdict::Fails | Verdict::Differs => true,
            Verdict::NotChecked => name == "state",
            Verdict::Holds => false,
        };
        if !is_meant {
            continue;
        }
        let is_of_machine = line.link.starts_with("machine/");
        let text = match name {
            "controller" => Some("give the system the driver before the drive moves, or set the firmware's controller to a mode that it has"),
            "sleep" => of(&NT, name),
            _ if is_nt && !is_of_machine => of(&NT, name).or_else(|| of(&ANY, name)),
            _ => of(&ANY, name).or_else(|| of(&NT, name)),
        };
        line.advice = text.unwrap_or_default().into();
    }
}

fn of(all: &[(&str, &'static str)], name: &str) -> Option<&'static str> {
    all.iter().find(|(other, _)| *other == name).map(|(_, text)| *text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Every link that can be broken has something that can be done about it.
    #[rstest]
    #[case::linux(&["bios/first-sector", "bios/core", "uefi/stub", "configuration", "kernel", "initial", "drivers", "root", "subvolume", "mounts", "init", "default-entry", ""], "")]
    #[case::nt(&["uefi/loader", "uefi/entry", "uefi/kernel", "uefi/drivers", "uefi/letters", "bios/volume-record"], "uefi/store")]
    #[case::machine(&["machine/slot", "machine/firmware", "machine/processor", "machine/secure-boot", "machine/entry", "machine/controller", "machine/sleep"], "uefi/registry")]
    fn every_broken_link_has_advice(#[case] links: &[&str], #[case] beside: &str) {
        let line = |link: &&str| Line { link: link.to_string(), ..Line::new("boot", Verdict::Fails, "") };
        let mut lines: Vec<Line> = links.iter().chain([&beside]).map(line).collect();
        advise(&mut lines);
        assert!(lines.iter().all(|line| line.advice.len() > 20), "{lines:?}");
        let is_nt = !beside.is_empty() && !links[0].starts_with("machine");
        assert_eq!(lines.iter().any(|line| line.advice.contains("installation medium, ")), is_nt, "{lines:?}");
        lines.iter_mut().for_each(|line| (line.result, line.advice) = (Verdict::Holds, String::new()));
        advise(&mut lines);
        assert!(lines.iter().all(|line| line.advice.is_empty()));
    }
}
