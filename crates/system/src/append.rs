//! Drivers for an initial RAM file system: an archive of the kind `newc` behind what is there, with modules out of the system's own folder.

use crate::archive::{Archive, LIST, module, plain_name};
use crate::places::Place;
use std::collections::{BTreeMap, BTreeSet};

/// The lists by which modules are found; they are the system's own.
const LISTS: [&str; 8] = [
    "modules.dep",
    "modules.dep.bin",
    "modules.alias",
    "modules.alias.bin",
    "modules.symbols",
    "modules.symbols.bin",
    "modules.softdep",
    "modules.builtin.bin",
];
/// Bytes of an archive at the most.
const MOST: usize = 64 << 20;

/// One entry: what it is and may, and its content.
fn entry(out: &mut Vec<u8>, number: usize, name: &str, mode: u32, content: &[u8]) {
    let links = if mode & 0o170_000 == 0o040_000 { 2 } else { 1 };
    let head = format!(
        "070701{number:08X}{mode:08X}{0:08X}{0:08X}{links:08X}{0:08X}{1:08X}{0:08X}{0:08X}{0:08X}{0:08X}{2:08X}{0:08X}",
        0,
        content.len(),
        name.len() + 1
    );
    out.extend(head.as_bytes());
    out.extend(name.as_bytes());
    out.push(0);
    out.resize(out.len().next_multiple_of(4), 0);
    out.extend(content);
    out.resize(out.len().next_multiple_of(4), 0);
}

/// Files as an archive that is laid behind others; folders that are in none of these come along.
pub fn packed(files: &BTreeMap<String, Vec<u8>>, there: &[String]) -> Vec<u8> {
    let there: BTreeSet<&str> = there.iter().map(|name| name.trim_start_matches("./")).collect();
    let mut folders: BTreeSet<&str> = BTreeSet::new();
    for name in files.keys() {
        folders.extend(name.match_indices('/').map(|(at, _)| &name[..at]).filter(|folder| !folder.is_empty() && !there.contains(folder)));
    }
    let (mut out, mut number) = (Vec::new(), 0x7b00_0000);
    for folder in folders {
        number += 1;
        entry(&mut out, number, folder, 0o040_755, &[]);
    }
    for (name, content) in files {
        number += 1;
        entry(&mut out, number, name, 0o100_644, content);
    }
    entry(&mut out, 0, "TRAILER!!!", 0, &[]);
    out
}

/// An archive, and the modules that it was made for.
pub(crate) type Addition = (Vec<u8>, Vec<String>);

/// What has to be laid behind an initial RAM file system so that it takes these modules; nothing where it does, or the kernel has them.
///
/// # Errors
/// Why that cannot be.
pub(crate) fn drivers(system: &Place, version: &str, archive: &Archive, wanted: &[&str]) -> Result<Option<Addition>, String> {
    if archive.packed.contains(&"LZ4") {
        return Err("behind one that is packed with LZ4 the kernel looks for more of that: nothing is laid behind it".into());
    }
    let folder = ["/lib/modules", "/usr/lib/modules"].iter().map(|folder| format!("{folder}/{version}")).find(|folder| system.has(folder));
    let folder = folder.ok_or_else(|| format!("{} has no modules for {version}", system.name()))?;
    let within =
        archive.names.iter().find_map(|name| name.trim_start_matches("./").strip_suffix("/modules.dep")).filter(|within| within.ends_with(version));
    let within = within.ok_or("where modules lie in it is not known")?;
    let text = system.text(&format!("{folder}/modules.dep"))?.ok_or("there is no list of modules")?;
    let all: BTreeMap<String, (&str, Vec<&str>)> = text
        .lines()
        .filter_map(|line| {
            let (path, needs) = line.split_once(':')?;
            Some((plain_name(module(path)?), (path, needs.split_whitespace().collect())))
        })
        .collect();
    let names = |modules: Vec<&str>| -> BTreeSet<String> { modules.into_iter().map(plain_name).collect() };
    if archive.list.is_none() && !archive.waits() {
        return Err("nothing in it says which drivers it takes: it has no list of them, and nobody in it waits for devices".into());
    }
    let (have, taken) = (names(archive.modules()), names(archive.taken()));
    let (mut files, mut told): (BTreeMap<String, Vec<u8>>, Vec<String>) = (BTreeMap::new(), Vec::new());
    for name in wanted.iter().map(|name| plain_name(name)) {
        // What is in no list the kernel has itself, or nobody has.
        let Some((path, needs)) = all.get(&name).filter(|_| !taken.contains(&name)) else { continue };
        for path in std::iter::once(path).chain(needs) {
            if module(path).is_some_and(|name| have.contains(&plain_name(name))) {
                continue;
            }
            let bytes = system.read(&format!("{folder}/{path}"))?.ok_or_else(|| format!("{path} is in the list of modules, and not there"))?;
            files.insert(format!("{within}/{path}"), bytes);
        }
        told.push(name);
    }
    if told.is_empty() {
        return Ok(None);
    }
    // Where nobody waits for devices, only what is listed is taken.
    if let Some(list) = &archive.list {
        let more: String = told.iter().map(|name| format!("\n{name}")).collect();
        files.insert(LIST.into(), [list.trim_ascii_end(), more.as_bytes(), b"\n"].concat());
    }
    // The lists then name what is in both; modules that are kept in another way would not be found by them.
    let ending = |name: &str| name.rsplit_once(".ko").map(|(_, ending)| ending.to_string());
    let endings: BTreeSet<String> =
        archive.names.iter().filter(|name| module(name).is_some()).chain(files.keys()).filter_map(|name| ending(name)).collect();
    if endings.len() > 1 {
        return Err("its modules are packed in another way than the system's".into());
    }
    for list in LISTS {
        if let Some(bytes) = system.read(&format!("{folder}/{list}"))? {
            files.insert(format!("{within}/{list}"), bytes);
        }
    }
    let out = packed(&files, &archive.names);
    if out.len() > MOST {
        return Err(format!("{} bytes are more than is laid behind it", out.len()));
    }
    Ok(Some((out, told)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::archive;
    use rstest::rstest;
    use std::io::Write;
    use std::process::{Command, Stdio};

    /// The system's own tool unpacks what is packed here.
    #[test]
    fn an_archive_is_unpacked_by_the_system() {
        let files: BTreeMap<String, Vec<u8>> =
            [("usr/lib/a.ko".to_string(), vec![7; 5001]), ("usr/lib/deep/er/b.ko".into(), Vec::new())].into_iter().collect();
        let bytes = packed(&files, &["usr".into(), "./usr/lib".into()]);
        let names = archive::read(&bytes).unwrap().names;
        assert_eq!(names, ["usr/lib/deep", "usr/lib/deep/er", "usr/lib/a.ko", "usr/lib/deep/er/b.ko"]);
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(dir.path().join("usr/lib")).unwrap();
        let mut child = Command::new("cpio").args(["-i", "--quiet"]).current_dir(dir.path()).stdin(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(&bytes).unwrap();
        assert!(child.wait().unwrap().success());
        assert_eq!(std::fs::read(dir.path().join("usr/lib/a.ko")).unwrap(), vec![7; 5001]);
        assert!(dir.path().join("usr/lib/deep/er/b.ko").is_file());
    }

    #[rstest]
    #[case::nobody_waits(&[("conf/modules", "# few\nahci\nxhci-pci\n")], &["ahci", "xhci_pci"])]
    #[case::somebody_waits(&[("conf/modules", "ahci\n"), ("usr/lib/systemd/systemd-udevd", "")], &["ahci", "nvme", "xhci_pci"])]
    #[case::nobody_waits_or_lists(&[], &[])]
    #[case::somebody_waits_without_a_list(&[("bin/mdev", "")], &["ahci", "nvme", "xhci_pci"])]
    #[case::a_later_list_behind_it(&[("conf/modules", "ahci\nnvme\n")], &["ahci", "nvme"])]
    fn where_nobody_waits_for_devices_only_what_is_listed_is_taken(#[case] more: &[(&str, &str)], #[case] wanted: &[&str]) {
        let modules = ["ahci.ko", "nvme.ko.xz", "xhci_pci.ko"].map(|name| (format!("lib/modules/6/{name}"), Vec::new()));
        let more = more.iter().map(|(name, text)| (name.to_string(), text.as_bytes().to_vec()));
        let files: BTreeMap<String, Vec<u8>> = modules.into_iter().chain(more).collect();
        let earlier = packed(&[(LIST.to_string(), b"xhci_pci\n".to_vec())].into(), &[]);
        let earlier = if files.contains_key(LIST) { earlier } else { Vec::new() };
        assert_eq!(archive::read(&[earlier, packed(&files, &[])].concat()).unwrap().taken(), wanted);
    }
}
