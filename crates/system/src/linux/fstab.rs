//! What a Linux system mounts and unlocks while it starts: `/etc/fstab` and `/etc/crypttab` (Linux: `fstab(5)`, `crypttab(5)`).

use crate::link::Link;
use crate::places::{Place, Places};

/// So many lines of what the system waits for in vain are named, and so many are kept as evidence.
const MOST_NAMED: usize = 20;
const MOST_EVIDENCE: usize = 1000;

/// A line of `/etc/fstab`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Mount {
    /// What is mounted.
    pub name: String,
    /// Where.
    pub at: String,
    /// The format.
    pub kind: String,
    /// Options, as they stand there.
    pub options: String,
}

/// Spaces and the like stand there as `\040`.
fn unescaped(field: &str) -> String {
    let bytes = field.as_bytes();
    let (mut out, mut at) = (Vec::new(), 0);
    while at < bytes.len() {
        let code = bytes.get(at + 1..at + 4).filter(|_| bytes[at] == b'\\').and_then(|code| std::str::from_utf8(code).ok());
        match code.and_then(|code| u8::from_str_radix(code, 8).ok()) {
            Some(byte) => {
                out.push(byte);
                at += 4;
            }
            None => {
                out.push(bytes[at]);
                at += 1;
            }
        }
    }
    String::from_utf8_lossy(&out).into_owned()
}

/// Lines of `/etc/fstab`.
pub(super) fn mounts(text: &str) -> Vec<Mount> {
    let lines = text.lines().map(|line| line.split_whitespace().collect::<Vec<_>>());
    let lines = lines.filter(|fields| fields.len() >= 3 && !fields[0].starts_with('#'));
    let field = |fields: &[&str], at: usize| unescaped(fields.get(at).copied().unwrap_or_default());
    lines.map(|fields| Mount { name: field(&fields, 0), at: field(&fields, 1), kind: field(&fields, 2), options: field(&fields, 3) }).collect()
}

impl Mount {
    /// Whether a start goes on without it.
    fn is_optional(&self) -> bool {
        let free = ["nofail", "noauto", "x-systemd.automount"];
        self.options.split(',').any(|option| free.contains(&option)) || self.kind == "swap"
    }

    /// Whether a volume of a drive is meant, not a folder, a share or a file system in memory.
    pub(super) fn is_device(&self, places: &Places) -> bool {
        self.name.starts_with("/dev/") || places.named(&self.name).is_some()
    }
}

/// The subvolume that options of a mount name.
pub(super) fn subvolume(options: &str) -> Option<&str> {
    options.split(',').find_map(|option| option.strip_prefix("subvol="))
}

/// What a name of `/etc/crypttab` unlocks from is on no drive before the start.
fn is_made(name: &str) -> bool {
    name.starts_with("/dev/mapper/") || name.starts_with("/dev/dm-") || name.starts_with("/dev/md") || name.starts_with("/dev/vg")
}

/// Why unlocking blocks a start, for the mappings that mounts wait for.
fn locked(places: &Places, crypttab: &str, mounts: &[Mount], wrong: &mut Vec<String>, evidence: &mut Vec<String>) {
    for line in crypttab.lines() {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let [name, device, rest @ ..] = &fields[..] else { continue };
        if name.starts_with('#') {
            continue;
        }
        let options = rest.get(1).copied().unwrap_or_default();
        let is_optional = options.split(',').any(|option| matches!(option, "nofail" | "noauto"));
        let found = places.named(device);
        let mapped = format!("/dev/mapper/{name}");
        let is_waited_for = mounts.iter().any(|mount| mount.name == mapped && !mount.is_optional());
        match found.as_deref() {
            Some([one]) => evidence.push(format!("{mapped}: {device}: {}", one.name())),
            Some([]) if places.hidden().is_none() => {
                evidence.push(format!("{mapped}: {device}: nothing on this drive"));
                if !is_optional {
                    let who = if is_waited_for { ", which is mounted" } else { "" };
                    wrong.push(format!("{device} is to be unlocked as {name}{who}: nothing on this drive is that"));
                }
            }
            Some([_, _, ..]) if !is_optional => wrong.push(format!("{device} is to be unlocked as {name}, and several volumes are that")),
            _ => evidence.push(format!("{mapped}: {device}: not looked at")),
        }
    }
}

/// What the system mounts while it starts.
pub(super) fn follow(places: &Places, system: &Place, fstab: Result<Option<Vec<Mount>>, String>, links: &mut Vec<Link>) {
    let mounts = match fstab {
        Err(why) => return links.push(Link::unknown("mounts", format!("what the system mounts was not looked at: {why}"))),
        Ok(None) => return links.push(Link::unknown("mounts", format!("there is no /etc/fstab on {}", system.name()))),
        Ok(Some(mounts)) => mounts,
    };
    let (mut wrong, mut evidence, mut unknown) = (Vec::new(), Vec::new(), Vec::new());
    for mount in mounts.iter().filter(|mount| mount.is_device(places)) {
        let Mount { name, at, kind, options } = mount;
        let is_optional = mount.is_optional();
        let named = places.named(name);
        let found = match named.as_deref() {
            Some([one]) => one.name(),
            Some([]) => "nothing on this drive".into(),
            Some(_) => "more than one volume".into(),
            None if is_made(name) => "made from other volumes when it starts".into(),
            None => "it depends on the machine".into(),
        };
        evidence.push(format!("{at}: {name} {kind}: {found}"));
        match named.as_deref() {
            Some([one]) if at == "/" && one.partition.number != system.partition.number => {
                wrong.push(format!("/ is {} there, and the loader starts {}", one.name(), system.name()));
            }
            Some([one]) if !is_optional && subvolume(options).is_some_and(|folder| !one.has_folder(folder)) => {
                let folder = subvolume(options).unwrap_or_default();
                wrong.push(format!("{at} is looked for in the subvolume {folder} of {}, which has none of that name", one.name()));
            }
            Some([_]) => {}
            // Something on this drive was not looked into, and may be that.
            Some([]) if !is_optional && places.hidden().is_some() => unknown.push(format!("{at} is looked for as {name}")),
            Some([]) if !is_optional => wrong.push(format!("{at} is looked for as {name}: nothing on this drive is that")),
            Some([_, _, ..]) if !is_optional => wrong.push(format!("{at} is looked for as {name}, and several volumes are that")),
            None if !is_optional => unknown.push(format!("{at} is {name}")),
            _ => {}
        }
    }
    if let Ok(Some(crypttab)) = system.text("/etc/crypttab") {
        locked(places, &crypttab, &mounts, &mut wrong, &mut evidence);
    }
    for list in [&mut wrong, &mut unknown] {
        if list.len() > MOST_NAMED {
            let more = list.len() - MOST_NAMED;
            list.truncate(MOST_NAMED);
            list.push(format!("and {more} more"));
        }
    }
    evidence.truncate(MOST_EVIDENCE);
    let link = match (wrong.is_empty(), unknown.is_empty()) {
        (false, _) => Link::broken("mounts", format!("the system waits for what is not there: {}", wrong.join("; "))),
        (true, true) => Link::holds("mounts", "all that the system mounts by itself is there"),
        _ => Link::unknown("mounts", format!("whether all that the system mounts is there is not known: {}", unknown.join("; "))),
    };
    links.push(link.with(evidence));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_read_as_the_system_reads_them() {
        let text = "# none\nLABEL=My\\040Disk /srv/a\\040b ext4 defaults,x-systemd.automount 0 2\n/dev/sda1\t/\text4\n";
        let all = mounts(text);
        assert_eq!((all.len(), all[0].name.as_str(), all[0].at.as_str()), (2, "LABEL=My Disk", "/srv/a b"));
        assert!(all[0].is_optional() && !all[1].is_optional());
    }
}
