//! What comes after all files of a copy: links, and the times and attributes of folders.

use crate::beneath::Beneath;
use crate::digest;
use crate::journal::{Journal, Kept, Line, Way};
use crate::order::{Break, Lost, Report, push};
use crate::walker::{Folder, Hard, Soft};
use crate::write;
use badger_drive::Control;
use rustix::fs::{Mode, XattrFlags};
use std::ffi::OsStr;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

/// What comes after all files.
pub(crate) struct Last<'a> {
    pub(crate) beneath: &'a Beneath,
    pub(crate) parts: &'a Path,
    pub(crate) control: &'a Control,
    pub(crate) as_root: bool,
}

fn not_held(journal: &mut Journal, report: &mut Report, from: Way, what: String) -> io::Result<()> {
    push(&mut report.not_held, format!("{from}: {what}"));
    journal.add(&Line::NotHeld { from, what })
}

impl Last<'_> {
    /// Links come when their files are there, and folders get their times when nothing changes in them any more.
    pub(crate) fn links_and_times(
        &self,
        folders: &[Folder],
        soft: Vec<Soft>,
        hard: Vec<Hard>,
        journal: &mut Journal,
        report: &mut Report,
    ) -> Result<(), Break> {
        for (way, to, target, node) in soft {
            self.go_on()?;
            match self.beneath.symlink(&target, &to) {
                Ok(()) => {
                    write::link_times(self.beneath, &to, node.modified, node.accessed);
                    report.links += 1;
                }
                Err(_) if self.beneath.link(&to).is_ok_and(|there| there == target) => report.links += 1,
                Err(error) => not_held(journal, report, way, format!("a link to {}: {error}", String::from_utf8_lossy(&target)))?,
            }
        }
        if !hard.is_empty() {
            // Where the first name of each went stands in the journal.
            let done = journal.places(self.beneath)?;
            for (way, to, first) in hard {
                self.go_on()?;
                match done.get(&first) {
                    Some(kept) => self.further_name(way, &to, &first, kept, journal, report)?,
                    None => not_held(journal, report, way, format!("a further name of {first}, which was not copied"))?,
                }
            }
        }
        for folder in folders.iter().rev() {
            for what in self.folder(folder) {
                not_held(journal, report, folder.from.clone(), what)?;
            }
        }
        Ok(())
    }

    fn go_on(&self) -> Result<(), Break> {
        if self.control.is_stopped() { Err(Break::Stopped) } else { Ok(()) }
    }

    fn further_name(&self, way: Way, to: &Path, first: &Way, kept: &Kept, journal: &mut Journal, report: &mut Report) -> io::Result<()> {
        let there = Path::new(OsStr::from_bytes(kept.to.bytes()));
        let Kept { size, modified, sha256, missing, .. } = kept.clone();
        let line = Line::File { from: way.clone(), to: Way::new(to.as_os_str().as_bytes()), size, modified, sha256 };
        // What is missing of the file is missing by each of its names.
        let named = |journal: &mut Journal, report: &mut Report| {
            report.links += 1;
            journal.add(&line)?;
            if missing.is_empty() {
                return Ok(());
            }
            let (from, why) = (way.clone(), format!("it is the same file as {first}"));
            report.lost_count += 1;
            push(&mut report.lost, Lost { path: from.to_string(), why: why.clone(), stretches: missing.clone() });
            journal.add(&Line::Lost { from, why, stretches: missing.clone() })
        };
        match self.beneath.hard_link(there, to) {
            Ok(()) => named(journal, report),
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                let node = |path| self.beneath.stat(path).map(|stat| (stat.st_dev, stat.st_ino));
                if node(there)? == node(to)? {
                    return named(journal, report);
                }
                report.skipped_count += 1;
                push(&mut report.skipped, format!("{way}: {} is there already", to.display()));
                journal.add(&Line::Skipped { from: way, why: format!("{} is there already", to.display()) })
            }
            // A destination without links gets a copy of the copy, which was proved; it is proved as well.
            Err(_) => match self.second(there, to) {
                Ok(()) => {
                    named(journal, report)?;
                    not_held(journal, report, way, format!("the same file as {first}; it is there twice"))
                }
                Err(error) => not_held(journal, report, way, format!("a further name of {first}: {error}")),
            },
        }
    }

    /// Copies a file of the destination, and reads the copy back.
    fn second(&self, there: &Path, to: &Path) -> io::Result<()> {
        let part = self.parts.join("second");
        if self.beneath.has(&part) {
            self.beneath.remove(&part)?;
        }
        let (mut from, mut copy) = (self.beneath.read(there)?, self.beneath.create(&part)?);
        io::copy(&mut from, &mut copy)?;
        copy.sync_all()?;
        if digest::of_file(&copy, self.control)? != digest::of_file(&from, self.control)? {
            return Err(io::Error::other("the destination gives other bytes than were written"));
        }
        let meta = from.metadata()?;
        copy.set_permissions(meta.permissions())?;
        copy.set_modified(meta.modified()?)?;
        self.beneath.rename(&part, to, false)
    }

    /// Gives a folder what it had; what it has to go without is told.
    fn folder(&self, folder: &Folder) -> Vec<String> {
        let Folder { to, node, attributes, .. } = folder;
        let Ok(dir) = self.beneath.dir(to) else { return Vec::new() };
        let mut out = Vec::new();
        for (name, value) in attributes {
            if let Err(error) = rustix::fs::fsetxattr(&*dir, name.as_str(), value, XattrFlags::empty()) {
                out.push(format!("its attribute {name}: {error}"));
            }
        }
        // The destination itself keeps its own owner and times.
        if to.as_os_str().is_empty() {
            return out;
        }
        if let Some((user, group)) = node.owner.filter(|_| self.as_root) {
            let _ = std::os::unix::fs::fchown(&*dir, Some(user), Some(group));
        }
        if let Some(mode) = node.mode {
            let _ = rustix::fs::fchmod(&*dir, Mode::from(mode & 0o777));
        }
        write::link_times(self.beneath, to, node.modified, node.accessed);
        out
    }
}
