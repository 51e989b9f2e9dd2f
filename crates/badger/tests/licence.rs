//! The move of a licence, against the simulated service as it is started on a bench: what the proof says, and what of it is the verdict.

use crate::support::{Place, path, tool};
use badger_licences::{Book, identifier};
use badger_system::licence::kept;
use badger_system::registry::{Edit, Value};
use std::fs;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

/// A drive with one system, whose registry keeps a key of fifteen bytes.
fn drive(place: &Place, name: &str, key: [u8; 15], channel: &str) -> PathBuf {
    let (disk, part, mount) = (place.path(name), place.path("part.img"), place.path("mnt"));
    let at = r"Microsoft\Windows NT\CurrentVersion";
    let mut edit = Edit::new("ROOT");
    for (name, text) in [("ProductName", "System 10 Pro"), ("EditionID", "Professional"), ("CurrentBuild", "19045")] {
        edit.set(at, &Value::of_text(name, text)).unwrap();
    }
    edit.set(at, &Value::of_bytes("DigitalProductId4", &kept(&key, channel))).unwrap();
    fs::File::create(&part).unwrap().set_len(16 << 20).unwrap();
    tool(&["mkntfs", "-q", "-Q", "-F", "-L", "System", "-p", "2048", path(&part)]);
    fs::create_dir_all(&mount).unwrap();
    tool(&["ntfs-3g", path(&part), path(&mount)]);
    let config = mount.join("Windows/System32/config");
    fs::create_dir_all(&config).unwrap();
    fs::write(config.join("SOFTWARE"), edit.bytes()).unwrap();
    tool(&["umount", path(&mount)]);
    fs::File::create(&disk).unwrap().set_len(18 << 20).unwrap();
    tool(&[
        "bash",
        "-c",
        &format!("echo 'start=2048, type=7' | sfdisk -q {0} && dd if={1} of={0} bs=1M seek=1 conv=notrunc status=none", path(&disk), path(&part)),
    ]);
    disk
}

struct Serving(Child, String);

impl Drop for Serving {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn serving(book: &Path) -> Serving {
    let mut child = Command::new(env!("CARGO_BIN_EXE_badger"))
        .args(["licence-service", path(book), "--listen", "127.0.0.1:0", "--json"])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let said: serde_json::Value = serde_json::from_str(&line).unwrap();
    Serving(child, said["service"].as_str().unwrap().to_string())
}

#[test]
fn what_becomes_of_a_licence_belongs_to_the_proof() {
    let place = Place::new();
    let (free, bound) = ([7; 15], [9; 15]);
    let key = |kept: [u8; 15]| badger_system::licence::decoded(&kept).unwrap();
    let book = place.path("book.toml");
    let text = format!(
        "[[licence]]\nlicence = \"{}\"\nkind = \"transferable\"\nactive = [\"Old desk\"]\nmost = 1\n[[licence]]\nlicence = \"{}\"\nkind = \"device-bound\"\nactive = [\"Old desk\"]\n",
        key(free),
        key(bound)
    );
    fs::write(&book, text).unwrap();
    // What lies beside the book is somebody's.
    let beside = place.path("book.part");
    fs::write(&beside, "kept").unwrap();
    let serving = serving(&book);
    let service = serving.1.clone();
    let machine = |name: &str| {
        let file = place.path(&format!("{name}.toml"));
        fs::write(&file, format!("name = \"{name}\"\n")).unwrap();
        file
    };
    let (old, new) = (machine("Old desk"), machine("New desk"));
    let (one, two) = (drive(&place, "one.img", free, "Retail"), drive(&place, "two.img", bound, "OEM:DM"));
    let cloned = |from: &Path, name: &str| {
        let target = place.path(name);
        let args = ["clone", path(from), path(&target), "--new-size", "18MiB", "--confirm", "rget", "--licence-service", &service];
        let (_, report) = place.json(&[&args[..], &["--machine", path(&new)]].concat());
        let line =
            report["proof"].as_array().unwrap().iter().find(|line| line["link"] == "activation").cloned().unwrap_or_else(|| panic!("{report}"));
        (report["outcome"].as_str().unwrap().to_string(), line["result"].as_str().unwrap().to_string(), report["reason"].to_string(), target)
    };
    let (outcome, result, _, target) = cloned(&one, "one-target.img");
    assert_eq!((outcome.as_str(), result.as_str()), ("proved", "differs"));
    let (outcome, result, reason, _) = cloned(&two, "two-target.img");
    assert_eq!((outcome.as_str(), result.as_str()), ("finished", "fails"));
    assert!(reason.contains("belongs to another device"), "{reason}");
    let licence = |machine: &Path, more: &[&str]| {
        let args = ["licence", path(&target), "--machine", path(machine), "--licence-service", &service];
        place.json(&[&args[..], more].concat()).1["systems"][0]["service"]["text"].as_str().unwrap_or_default().to_string()
    };
    assert!(licence(&new, &["--activate"]).contains("take it off there first"));
    assert!(licence(&old, &["--release"]).contains("not activated"));
    assert!(licence(&new, &["--activate"]).contains("active on"));
    let (_, checked) = place.json(&["check", path(&target), "--machine", path(&new), "--licence-service", &service]);
    let line = checked["proof"].as_array().unwrap().iter().find(|line| line["link"] == "activation").unwrap();
    assert_eq!(line["result"], "holds", "{line}");
    // What it keeps names nobody.
    let now = fs::read_to_string(&book).unwrap();
    assert!(!now.contains("desk") && now.contains(&identifier("device", "New desk")), "{now}");
    assert_eq!(Book::parse(&now).unwrap().licences[0].most, 0);
    assert_eq!(fs::read_to_string(&beside).unwrap(), "kept");
    let (code, _, said) = place.run(&["licence-service", "/dev/zero", "--listen", "127.0.0.1:0"]);
    assert!(code != 0 && said.contains("no file"), "{said}");
    // Without the service nothing is known, and that is no failure of the copy.
    drop(serving);
    let (outcome, result, ..) = cloned(&one, "third-target.img");
    assert_eq!((outcome.as_str(), result.as_str()), ("proved", "not-checked"));
}
