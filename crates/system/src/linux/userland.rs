//! The first program of a Linux system with all that it needs to run: loader, libraries, shell, the target that systemd starts; and what the
//! package database says these files are.

use super::option;
use super::root::{Look, Root};
use crate::archive::interpreter;
use crate::elf::{Elf, processor};
use crate::kernel::Kernel;
use crate::link::Link;
use badger_fs::tree::NodeKind;
use md5::{Digest, Md5};
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// What the kernel and the usual first scripts try where nothing is asked for.
const INIT: [&str; 4] = ["/sbin/init", "/etc/init", "/bin/init", "/bin/sh"];
/// Folders that libraries are looked for in where a program names none.
const FOLDERS: [&str; 12] = [
    "/lib64",
    "/usr/lib64",
    "/lib/x86_64-linux-gnu",
    "/usr/lib/x86_64-linux-gnu",
    "/lib/aarch64-linux-gnu",
    "/usr/lib/aarch64-linux-gnu",
    "/lib/i386-linux-gnu",
    "/usr/lib/i386-linux-gnu",
    "/lib",
    "/usr/lib",
    "/usr/local/lib",
    "/lib32",
];
/// So many files are looked at behind the first program.
const MOST_FILES: usize = 400;
/// A library is looked for in so many folders that it or those that need it name.
const MOST_FOLDERS: usize = 64;
/// Packages with files on the chain, by how their names begin.
const PACKAGES: [&str; 14] =
    ["lib", "systemd", "udev", "linux-image-", "dash", "bash", "util-linux", "login", "busybox", "init", "sysvinit", "kmod", "mount", "passwd"];
/// So many bytes of one list of checksums, and of all.
const MOST_LIST: usize = 4 << 20;
const MOST_LISTS: usize = 64 << 20;

/// Checksums of installed files, by their paths (Debian: `dpkg`, `/var/lib/dpkg/info/*.md5sums`).
#[derive(Default)]
pub(super) struct Packages {
    sums: HashMap<String, [u8; 16]>,
}

impl Packages {
    /// Those of the packages that a start goes through.
    pub(super) fn of(root: &Root) -> Self {
        let (mut out, mut total) = (Self::default(), 0);
        for name in root.names("/var/lib/dpkg/info") {
            if total > MOST_LISTS || !name.ends_with(".md5sums") || !PACKAGES.iter().any(|start| name.starts_with(start)) {
                continue;
            }
            let Some(text) = root.text(&format!("/var/lib/dpkg/info/{name}")) else { continue };
            total += text.len();
            if text.len() > MOST_LIST {
                continue;
            }
            for (sum, path) in text.lines().filter_map(|line| line.split_once("  ")) {
                let mut bytes = [0; 16];
                if hex::decode_to_slice(sum, &mut bytes).is_ok() {
                    // One name for files that moved below `/usr`.
                    out.sums.insert(path.strip_prefix("usr/").unwrap_or(path).to_string(), bytes);
                }
            }
        }
        out
    }

    /// Whether a file is as its package installed it; `None` where no package says.
    pub(super) fn is_as_installed(&self, path: &str, bytes: &[u8]) -> Option<bool> {
        let path = path.trim_start_matches('/');
        let sum = self.sums.get(path.strip_prefix("usr/").unwrap_or(path))?;
        Some(Md5::digest(bytes).as_slice() == sum)
    }
}

/// What speaks against a start.
enum Against {
    /// It fails.
    Broken(String),
    /// Nobody looked.
    Unknown(String),
}

/// Goes through programs and what they need.
struct Walk<'a, 'b> {
    root: &'b Root<'a>,
    kernel: &'b Kernel,
    packages: &'b Packages,
    /// Files that were looked at.
    seen: BTreeMap<String, Elf>,
    /// Those that are as installed, and those that no package knows.
    installed: usize,
    cache: Option<String>,
}

impl Walk<'_, '_> {
    /// A program that is started by its path: its own path without links, where nothing speaks against it.
    fn program(&mut self, path: &str, depth: usize) -> Result<String, Against> {
        let (place, node, real) = match self.root.look(path) {
            Look::There(place, node, real) => (place, node, real),
            Look::Missing => return Err(Against::Broken(format!("{path} is not there"))),
            Look::Unknown(why) => return Err(Against::Unknown(format!("{path} was not looked at: {why}"))),
        };
        if node.kind != NodeKind::File {
            return Err(Against::Broken(format!("{path} is no file")));
        }
        if node.size == 0 {
            return Err(Against::Broken(format!("{path} is empty")));
        }
        if node.mode.is_some_and(|mode| mode & 0o111 == 0) {
            return Err(Against::Broken(format!("{path} is not executable")));
        }
        if self.seen.contains_key(&real) {
            return Ok(real);
        }
        if depth > 4 || self.seen.len() >= MOST_FILES {
            return Err(Against::Unknown(format!("{path} has more programs behind it than are looked at")));
        }
        let bytes = self.root.bytes(place, &node).map_err(|why| Against::Broken(format!("{path} cannot be read: {why}")))?;
        let script = interpreter(&bytes);
        if !script.is_empty() {
            self.seen.insert(real.clone(), Elf::default());
            return self.program(&script, depth + 1).map(|_| real);
        }
        let elf = self.file(&real, &bytes)?;
        self.seen.insert(real.clone(), elf.clone());
        if !elf.interpreter.is_empty() {
            self.program(&elf.interpreter.clone(), depth + 1)?;
        }
        self.libraries(&real, &elf)?;
        Ok(real)
    }

    /// The bytes of a program or library.
    fn file(&mut self, path: &str, bytes: &[u8]) -> Result<Elf, Against> {
        let elf = Elf::read(bytes).map_err(|why| Against::Broken(format!("{path}: {why}")))?;
        match self.packages.is_as_installed(path, bytes) {
            Some(false) => return Err(Against::Broken(format!("{path} is not as its package installed it: its checksum differs"))),
            Some(true) => self.installed += 1,
            None => {}
        }
        let kernel = self.kernel.processor;
        // A kernel of 64 bits runs programs of 32.
        if kernel != 0 && elf.machine != kernel && (kernel, elf.machine) != (62, 3) {
            return Err(Against::Broken(format!("{path} is for {}, and the kernel for {}", processor(elf.machine), processor(kernel))));
        }
        Ok(elf)
    }

    /// Everything that a program needs, itself and through others.
    fn libraries(&mut self, program: &str, elf: &Elf) -> Result<(), Against> {
        let folder = |path: &str| path.rsplit_once('/').map_or("", |(folder, _)| folder).to_string();
        let own =
            |path: &str, elf: &Elf| elf.folders.iter().map(|one| one.replace("$ORIGIN", &folder(path)).replace("${ORIGIN}", &folder(path))).collect();
        let mut wanted: Vec<(String, Vec<String>)> = elf.needed.iter().map(|name| (name.clone(), own(program, elf))).collect();
        let mut names: BTreeSet<String> = elf.needed.iter().cloned().collect();
        while let Some((name, folders)) = wanted.pop() {
            if self.seen.len() >= MOST_FILES {
                return Err(Against::Unknown(format!("{program} needs more libraries than are looked at")));
            }
            let Some((path, found)) = self.library(&name, &folders, elf)? else {
                return Err(Against::Broken(format!("{name}, which {program} needs, is not there")));
            };
            if self.seen.contains_key(&path) {
                continue;
            }
            let more = found.needed.iter().filter(|name| names.insert((*name).clone()));
            let inner: Vec<String> = own(&path, &found).into_iter().chain(folders).take(MOST_FOLDERS).collect();
            wanted.extend(more.map(|name| (name.clone(), inner.clone())).collect::<Vec<_>>());
            self.seen.insert(path, found);
        }
        Ok(())
    }

    /// A library by its name: the first of the right kind in the folders that are searched.
    fn library(&mut self, name: &str, folders: &[String], program: &Elf) -> Result<Option<(String, Elf)>, Against> {
        let paths: Vec<String> = match name.contains('/') {
            true => vec![name.to_string()],
            false => {
                let cached = self.cached(name);
                folders.iter().map(String::as_str).chain(FOLDERS).map(|folder| format!("{folder}/{name}")).chain(cached).collect()
            }
        };
        let mut unknown = None;
        for path in paths {
            let (place, node, real) = match self.root.look(&path) {
                Look::There(place, node, real) if node.kind == NodeKind::File => (place, node, real),
                Look::Unknown(why) => {
                    unknown = Some(format!("{path} was not looked at: {why}"));
                    continue;
                }
                _ => continue,
            };
            if let Some(elf) = self.seen.get(&real) {
                return Ok(Some((real, elf.clone())));
            }
            let bytes = self.root.bytes(place, &node).map_err(|why| Against::Broken(format!("{path} cannot be read: {why}")))?;
            // Another processor's is passed over.
            if Elf::read(&bytes).is_ok_and(|elf| elf.machine != program.machine || elf.is_wide != program.is_wide) {
                continue;
            }
            return self.file(&real, &bytes).map(|elf| Some((real, elf)));
        }
        unknown.map_or(Ok(None), |why| Err(Against::Unknown(why)))
    }

    /// Where the system's own list of libraries has one.
    fn cached(&mut self, name: &str) -> Vec<String> {
        let root = self.root;
        let cache = self.cache.get_or_insert_with(|| root.text("/etc/ld.so.cache").unwrap_or_default());
        let ending = format!("/{name}");
        cache.split('\0').filter(|path| path.starts_with('/') && path.ends_with(&ending)).take(8).map(str::to_string).collect()
    }

    /// What systemd starts: the target by its link or file, and not masked.
    fn target(&self, options: &[String]) -> Result<(), Against> {
        let asked = option(options, "systemd.unit");
        let name = asked.unwrap_or("default.target");
        for folder in ["/etc/systemd/system", "/run/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system"] {
            match self.root.look(&format!("{folder}/{name}")) {
                Look::There(_, node, _) if node.kind == NodeKind::File && node.size > 0 => return Ok(()),
                Look::There(_, _, real) if real == "/dev/null" => return Err(Against::Broken(format!("{name}, which systemd starts, is masked"))),
                Look::Unknown(why) => return Err(Against::Unknown(format!("{name} was not looked at: {why}"))),
                _ => {}
            }
        }
        Err(Against::Broken(format!("systemd finds no {name}: its link leads nowhere, or it is not there")))
    }
}

/// From the root of the system to its login.
pub(super) fn follow(root: &Root, kernel: &Kernel, packages: &Packages, options: &[String], has_initial: bool) -> Link {
    let mut walk = Walk { root, kernel, packages, seen: BTreeMap::new(), installed: 0, cache: None };
    let asked = option(options, "init").filter(|path| path.starts_with('/'));
    let first = match asked {
        Some(path) => walk.program(path, 0),
        None => {
            let there = INIT.iter().find(|path| !matches!(root.look(path), Look::Missing)).unwrap_or(&INIT[0]);
            // Only a shell: somebody took the first program away.
            if *there == INIT[3] && has_initial { Err(Against::Broken(format!("{} is not there", INIT[0]))) } else { walk.program(there, 0) }
        }
    };
    let is_single = options.iter().any(|option| matches!(option.as_str(), "single" | "s" | "S" | "1" | "emergency" | "rescue"));
    let whole = first.and_then(|first| {
        walk.program("/bin/sh", 0)?;
        if first.ends_with("/systemd") && !is_single {
            walk.target(options)?;
        }
        Ok(first)
    });
    let evidence = format!("{} programs and libraries looked at, {} of them as their packages installed them", walk.seen.len(), walk.installed);
    match whole {
        Ok(first) => Link::holds("init", format!("the system's first program is {first}, with all that it needs")).with([evidence]),
        Err(Against::Broken(why)) => Link::broken("init", format!("the system's first program does not run: {why}")).with([evidence]),
        Err(Against::Unknown(why)) => Link::unknown("init", format!("whether the system's first program runs is not known: {why}")).with([evidence]),
    }
}
