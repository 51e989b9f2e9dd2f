//! Kills and losses of power at every flush, rename, removal and change of length of every engine: the same command comes to the right end, and
//! until then nothing says that it did.

use crate::support::{Loss, MIB, Place, killed_at, path, power_lost_at, text, tool};
use rstest::rstest;
use serde_json::Value;
use std::fs;
use std::path::PathBuf;
use std::process::Command;

/// One engine at work.
struct Engine {
    /// Makes what it reads.
    make: fn(&Place),
    /// The command; what begins with `@` lies in the place.
    args: &'static [&'static str],
    /// Looks at what a kill left, before anything is resumed.
    left: fn(&Place),
    /// Looks at the end of the last run. The flag says that the run which was killed may have come to its end before.
    ended: fn(&Place, i32, &Value, bool),
}

impl Engine {
    fn args(&self, place: &Place) -> Vec<String> {
        self.args.iter().map(|arg| arg.strip_prefix('@').map_or_else(|| (*arg).to_string(), |name| path(&place.path(name)).to_string())).collect()
    }

    /// Breaks off at every `step`th call, the run after it once more somewhere, and lets the third one come to its end. `break_off` says whether
    /// the run came so far.
    fn at_every(&self, kind: &str, step: u64, break_off: &dyn Fn(&Place, u64, &[&str]) -> bool) {
        let fresh = || {
            let place = Place::new();
            (self.make)(&place);
            let args = self.args(&place);
            (place, args)
        };
        let (place, args) = fresh();
        let (killed, count) = killed_at(&place, kind, 0, &words(&args));
        assert!(!killed && count > 10, "{count}");
        // A run that meets fewer calls the next time has come to its end: that is what the last turns see.
        for at in (1..=count).step_by(step as usize) {
            let (place, args) = fresh();
            let args = words(&args);
            let mut may_be_over = false;
            for at in [at, 1 + at * 7 % count] {
                may_be_over |= !break_off(&place, at, &args);
                (self.left)(&place);
                may_be_over |= place.run(&["jobs"]).1.contains("proved");
            }
            let (code, report) = place.json(&args);
            eprintln!("{kind} {at} of {count}: {code} {} {}", report["outcome"], report["code"]);
            (self.ended)(&place, code, &report, may_be_over);
        }
    }
}

fn words(args: &[String]) -> Vec<&str> {
    args.iter().map(String::as_str).collect()
}

fn source(place: &Place) {
    place.noise("weir.img", 3 * MIB, 5);
}

/// Onto a new file, and onto one that is there.
const CLONE: Engine = Engine {
    make: source,
    args: &["clone", "@weir.img", "@copy.img", "--new-size", "4MiB", "--confirm", "copy"],
    left: |_| (),
    ended: |place, code, report, _| {
        assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
        assert!(fs::read(place.path("copy.img")).unwrap().starts_with(&fs::read(place.path("weir.img")).unwrap()));
    },
};

const CLONE_IN_USE: Engine = Engine {
    make: |place| {
        volume(place);
        place.sparse("copy.img", 16 * MIB);
    },
    args: &["clone", "@weir.img", "@copy.img", "--used", "--confirm", "copy"],
    left: |_| (),
    ended: |place, code, report, _| {
        assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
        tool(&["e2fsck", "-fn", path(&place.path("copy.img"))]);
    },
};

/// A partition that grows while it is copied: the table, the resized metadata and the copy are three things that a kill comes between.
const CLONE_FIT: Engine = Engine {
    make: |place| {
        let (folder, drive) = (folder(place), place.sparse("weir.img", 24 * MIB));
        tool(&["bash", "-c", &format!("echo 'start=1MiB, size=20MiB' | sfdisk -q -X gpt {}", path(&drive))]);
        tool(&["mke2fs", "-q", "-F", "-t", "ext4", "-E", "offset=1048576", "-d", path(&folder), path(&drive), "20M"]);
    },
    args: &["clone", "@weir.img", "@copy.img", "--fit", "auto", "--new-size", "40MiB", "--confirm", "copy"],
    left: |_| (),
    ended: |place, code, report, _| {
        assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
        let copy = place.path("copy.img");
        tool(&["sgdisk", "-v", path(&copy)]);
        let volume = place.path("volume.img");
        let bytes = fs::read(&copy).unwrap();
        // Up to the second partition table at the end.
        fs::write(&volume, &bytes[MIB as usize..bytes.len() - MIB as usize]).unwrap();
        tool(&["e2fsck", "-fn", path(&volume)]);
        assert!(text(&tool(&["dumpe2fs", "-h", path(&volume)]).stdout).contains("clean"));
    },
};

const CLONE_NTFS: Engine = Engine {
    make: |place| {
        let (folder, drive) = (folder(place), place.sparse("weir.img", 16 * MIB));
        tool(&["mkntfs", "-q", "-F", "-Q", "-p", "0", "-s", "512", path(&drive)]);
        for number in 0..4 {
            tool(&["ntfscp", "-q", path(&drive), path(&folder.join(format!("scores/{number}.pdf"))), &format!("{number}.pdf")]);
        }
        place.sparse("copy.img", 16 * MIB);
    },
    ended: |place, code, report, _| {
        assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
        tool(&["ntfsfix", "-n", path(&place.path("copy.img"))]);
        for number in 0..4 {
            let there = tool(&["ntfscat", path(&place.path("copy.img")), &format!("{number}.pdf")]).stdout;
            assert!(there == fs::read(place.path("folder").join(format!("scores/{number}.pdf"))).unwrap(), "{number}");
        }
    },
    ..CLONE_IN_USE
};

const CLONE_BTRFS: Engine = Engine {
    make: |place| {
        let (folder, drive) = (folder(place), place.sparse("weir.img", 128 * MIB));
        tool(&["mkfs.btrfs", "-q", "--mixed", "--rootdir", path(&folder), path(&drive)]);
        place.sparse("copy.img", 128 * MIB);
    },
    ended: |place, code, report, _| {
        assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
        tool(&["btrfs", "check", "--check-data-csum", path(&place.path("copy.img"))]);
    },
    ..CLONE_IN_USE
};

/// In volumes, so that kills come between them too.
const IMAGE: Engine = Engine {
    make: source,
    args: &["image", "@weir.img", "@weir.zbi", "--split", "1MiB"],
    left: |place| {
        if !place.path("weir.zbi").exists() {
            return;
        }
        // Whoever calls it whole is right.
        let (code, said) = place.json(&["verify", path(&place.path("weir.zbi"))]);
        if code == 0 {
            assert_eq!(place.run(&["verify", path(&place.path("weir.img")), path(&place.path("weir.zbi"))]).0, 0, "{said}");
        }
    },
    ended: |place, code, report, may_be_over| {
        let (drive, image) = (place.path("weir.img"), place.path("weir.zbi"));
        match report["code"].as_str() {
            // Nobody takes away what a run left that was killed before its first page.
            Some("image-unbegun") => {
                let (code, report) = place.json(&["image", path(&drive), path(&image), "--split", "1MiB", "--restart"]);
                assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
            }
            Some("image-exists") => assert!(may_be_over, "{report}"),
            _ => assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}"),
        }
        for pair in [&[path(&image)][..], &[path(&drive), path(&image)]] {
            let (code, verified) = place.json(&[&["verify"], pair].concat());
            assert_eq!(code, 0, "{verified} {report}");
        }
        assert!(!place.run(&["jobs"]).1.contains("unfinished"));
    },
};

/// What is in use, locked.
const IMAGE_LOCKED: Engine = Engine {
    make: |place| {
        volume(place);
        fs::write(place.path("key"), "green weir under the lantern\n").unwrap();
    },
    args: &["image", "@weir.img", "@weir.zbi", "--used", "--lock", "--passphrase-file", "@key"],
    left: |_| (),
    ended: |place, code, report, may_be_over| {
        let [drive, image, key] = ["weir.img", "weir.zbi", "key"].map(|name| path(&place.path(name)).to_string());
        match report["code"].as_str() {
            Some("image-unbegun") => {
                let args = ["image", &drive, &image, "--used", "--lock", "--passphrase-file", &key, "--restart"];
                let (code, report) = place.json(&args);
                assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
            }
            Some("image-exists") => assert!(may_be_over, "{report}"),
            _ => assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}"),
        }
        let (code, restored) =
            place.json(&["restore", &image, path(&place.path("back.img")), "--new-size", "16MiB", "--confirm", "back", "--passphrase-file", &key]);
        assert_eq!((code, restored["outcome"].as_str()), (0, Some("proved")), "{restored}");
        tool(&["e2fsck", "-fn", path(&place.path("back.img"))]);
    },
};

/// A clone with fresh identifiers, whose corrections were taken back and are made again.
const MEND: Engine = Engine {
    make: |place| {
        let [disk, target] = ["disk.img", "weir-target.img"].map(|name| path(&place.path(name)).to_string());
        let system = place.path("system");
        fs::create_dir_all(system.join("etc")).unwrap();
        fs::write(system.join("etc/fstab"), format!("PARTUUID=5a1c2f0e-01 / ext4 defaults 0 1\n# {}\n", "organ ".repeat(900))).unwrap();
        fs::write(system.join("etc/os-release"), "NAME=Station\n").unwrap();
        place.sparse("disk.img", 16 * MIB);
        tool(&["bash", "-c", &format!("printf 'label: dos\\nlabel-id: 0x5a1c2f0e\\nstart=2048, type=83, bootable\\n' | sfdisk -q {disk}")]);
        tool(&["mke2fs", "-q", "-F", "-d", path(&system), "-E", "offset=1048576", &disk, "15360k"]);
        let (_, cloned) = place.json(&["clone", &disk, &target, "--new-size", "16MiB", "--confirm", "rget", "--ids", "fresh"]);
        assert_eq!(cloned["outcome"], "finished", "{cloned}");
        place.json(&["mend", &target, "--confirm", "rget"]);
        fs::copy(&target, place.path("mended")).unwrap();
        while place.json(&["mend", &target, "--confirm", "rget", "--undo"]).1["outcome"] == "undone" {}
        fs::copy(&target, place.path("unmended")).unwrap();
        assert!(fs::read(place.path("mended")).unwrap() != fs::read(place.path("unmended")).unwrap());
    },
    args: &["mend", "@weir-target.img", "--confirm", "rget"],
    left: |_| (),
    ended: |place, code, report, _| {
        // A kill behind the last patch leaves nothing to do.
        assert!(report["outcome"] == "mended" || report["repairs"].as_array().is_some_and(Vec::is_empty), "{code} {report}");
        let target = place.path("weir-target.img");
        let is = |name: &str| fs::read(&target).unwrap() == fs::read(place.path(name)).unwrap();
        assert!(is("mended"), "{report}");
        let undo = || place.json(&["mend", path(&target), "--confirm", "rget", "--undo"]).1;
        let last = std::iter::repeat_with(undo).take(5).find(|undone| undone["outcome"] != "undone").unwrap();
        assert_eq!(last["code"], "nothing-to-undo", "{last}");
        assert!(is("unmended"), "{report}");
    },
};

const BAD: std::ops::Range<usize> = 1000..1008;

const SALVAGE: Engine = Engine {
    make: |place| {
        source(place);
        place.drive("slate", "weir.img", "[[fault]]\nkind = \"unreadable\"\nlba = 1000\nsectors = 8\nms = 1\n");
    },
    args: &["salvage", "@slate.drive.toml", "@out.img", "--map", "@out.map"],
    left: |place| {
        // What the map calls saved is on the target; later lines count over earlier ones.
        let (Ok(map), Ok(there)) = (fs::read_to_string(place.path("out.map")), fs::read(place.path("out.img"))) else { return };
        let good = fs::read(place.path("weir.img")).unwrap();
        let mut saved = vec![false; good.len() / 512];
        for line in map.lines() {
            let words: Vec<&str> = line.split(' ').collect();
            let (Some(state @ ("saved" | "lost" | "deferred" | "unread")), [_, start, len, ..]) = (words.first().copied(), &words[..]) else {
                continue;
            };
            let (start, len): (usize, usize) = (start.parse().unwrap(), len.parse().unwrap());
            saved[start / 512..(start + len) / 512].fill(state == "saved");
        }
        let wrong = (0..saved.len()).filter(|at| saved[*at] && good[at * 512..(at + 1) * 512] != there[at * 512..(at + 1) * 512]);
        assert_eq!(wrong.count(), 0, "{map}");
        assert!(BAD.clone().all(|at| !saved[at]), "{map}");
    },
    ended: |place, code, report, _| {
        let (mut code, mut report) = (code, report.clone());
        // A kill while the mark of the last look stood on the target left it there: then the target is not empty any more.
        if report["code"] == "no-tail" {
            let [drive, out, map] = ["slate.drive.toml", "out.img", "out.map"].map(|name| path(&place.path(name)).to_string());
            (code, report) = place.json(&["salvage", &drive, &out, "--map", &map, "--confirm", "out"]);
        }
        assert_eq!((code, report["outcome"].as_str()), (1, Some("incomplete")), "{report}");
        let blocks = report["proof"].as_array().unwrap().iter().find(|line| line["what"] == "blocks").unwrap();
        assert_eq!(blocks["result"], "holds", "{report}");
        let (good, there) = (fs::read(place.path("weir.img")).unwrap(), fs::read(place.path("out.img")).unwrap());
        assert!((0..good.len() / 512).all(|at| BAD.contains(&at) || good[at * 512..(at + 1) * 512] == there[at * 512..(at + 1) * 512]));
    },
};

/// Onto an image of our own, whose chunks the map vouches for.
const SALVAGE_IMAGE: Engine = Engine {
    args: &["salvage", "@slate.drive.toml", "@out.zbi", "--map", "@out.map"],
    left: |_| (),
    ended: |place, code, report, _| {
        let (mut code, mut report) = (code, report.clone());
        // An image that a kill left is nothing that the next run takes away by itself.
        if report["code"] == "image-exists" {
            fs::remove_file(place.path("out.zbi")).unwrap();
            let [drive, out, map] = ["slate.drive.toml", "out.zbi", "out.map"].map(|name| path(&place.path(name)).to_string());
            (code, report) = place.json(&["salvage", &drive, &out, "--map", &map]);
        }
        // What it gathered before may have lost its mark to the kill: then it is asked for the tail.
        if report["code"] == "no-tail" {
            let [drive, out, map] = ["slate.drive.toml", "out.zbi", "out.map"].map(|name| path(&place.path(name)).to_string());
            (code, report) = place.json(&["salvage", &drive, &out, "--map", &map, "--confirm", "out"]);
        }
        assert_eq!((code, report["outcome"].as_str()), (1, Some("incomplete")), "{report}");
        let [image, raw] = ["out.zbi", "raw.img"].map(|name| path(&place.path(name)).to_string());
        place.json(&["restore", &image, &raw, "--new-size", "3MiB", "--confirm", "raw"]);
        let (good, there) = (fs::read(place.path("weir.img")).unwrap(), fs::read(&raw).unwrap());
        let wrong = (0..good.len() / 512).filter(|at| !BAD.contains(at) && good[at * 512..(at + 1) * 512] != there[at * 512..(at + 1) * 512]);
        assert_eq!(wrong.count(), 0, "{report}");
    },
    ..SALVAGE
};

/// Files, a link, a second name and a folder without anything.
fn volume(place: &Place) {
    let folder = folder(place);
    tool(&["mke2fs", "-q", "-F", "-t", "ext4", "-d", path(&folder), path(&place.path("weir.img")), "16M"]);
}

fn folder(place: &Place) -> PathBuf {
    let folder = place.path("folder");
    fs::create_dir_all(folder.join("scores/old")).unwrap();
    for number in 0..4 {
        fs::write(folder.join(format!("scores/{number}.pdf")), vec![b'a' + number; 90_000 + usize::from(number)]).unwrap();
    }
    fs::hard_link(folder.join("scores/1.pdf"), folder.join("scores/same.pdf")).unwrap();
    std::os::unix::fs::symlink("1.pdf", folder.join("scores/link.pdf")).unwrap();
    folder
}

const FETCH: Engine = Engine {
    make: volume,
    args: &["fetch", "@weir.img", "/scores", "--into", "@out"],
    left: |place| {
        // A file that has its name is whole.
        for name in ["0.pdf", "1.pdf", "2.pdf", "3.pdf", "same.pdf"] {
            if let Ok(there) = fs::read(place.path("out").join("scores").join(name)) {
                assert!(there == fs::read(place.path("folder").join("scores").join(name)).unwrap(), "{name}");
            }
        }
    },
    ended: |place, code, report, _| {
        assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
        let same = Command::new("diff").arg("-r").args([place.path("folder/scores"), place.path("out/scores")]).output().unwrap();
        assert!(same.status.success(), "{}", text(&same.stdout));
        let listed = Command::new("sha256sum").args(["-c", "--quiet", "fetched.sha256"]).current_dir(place.path("out")).status().unwrap();
        assert!(listed.success());
        let left = Command::new("find").arg(place.path("out")).args(["-name", ".badger*", "-ls"]).output().unwrap();
        assert_eq!(text(&left.stdout), "", "nothing of the copy's own is left");
    },
};

#[rstest]
#[case::clone(&CLONE, "flush", 1)]
#[case::clone_between_writes(&CLONE, "write", 31)]
#[case::clone_of_what_is_in_use(&CLONE_IN_USE, "flush", 1)]
#[case::clone_that_fits(&CLONE_FIT, "flush", 1)]
#[case::clone_of_ntfs(&CLONE_NTFS, "flush", 2)]
#[case::clone_of_btrfs(&CLONE_BTRFS, "flush", 2)]
#[case::image(&IMAGE, "flush", 1)]
#[case::image_between_writes(&IMAGE, "write", 31)]
#[case::locked_image(&IMAGE_LOCKED, "flush", 2)]
#[case::salvage(&SALVAGE, "flush", 1)]
#[case::salvage_onto_an_image(&SALVAGE_IMAGE, "flush", 1)]
#[case::salvage_between_writes(&SALVAGE, "write", 13)]
#[case::mend(&MEND, "flush", 1)]
#[case::mend_between_writes(&MEND, "write", 1)]
#[case::fetch(&FETCH, "flush", 1)]
#[case::fetch_between_writes(&FETCH, "write", 3)]
fn killed_anywhere_it_comes_to_the_right_end(#[case] engine: &Engine, #[case] kind: &str, #[case] step: u64) {
    engine.at_every(kind, step, &|place, at, args| killed_at(place, kind, at, args).0);
}

#[rstest]
fn without_power_it_comes_to_the_right_end(
    #[values(&CLONE, &CLONE_IN_USE, &CLONE_FIT, &IMAGE, &IMAGE_LOCKED, &MEND, &SALVAGE, &SALVAGE_IMAGE, &FETCH)] engine: &Engine,
    #[values(Loss { names: true, some: false }, Loss { names: true, some: true }, Loss { names: false, some: false }, Loss { names: false, some: true })]
    loss: Loss,
) {
    engine.at_every("flush", 3, &|place, at, args| power_lost_at(place, &loss, at, args));
}
