//! Registry files built here, judged by an independent reader, read as they are, half written, with their logs, and damaged.

use badger_system::registry::{Bytes, Edit, Hive, Kind, Value, log};
use proptest::prelude::*;
use rstest::rstest;
use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};

/// What the independent reader says to some commands.
fn hivexsh(options: &[&str], path: &Path, commands: &str) -> String {
    let mut child =
        Command::new("hivexsh").args(options).arg(path).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(commands.as_bytes()).unwrap();
    let out = child.wait_with_output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8(out.stdout).unwrap()
}

/// The whole file as the independent reader writes it as XML: it goes over every key and every value.
fn hivexml(bytes: &[u8]) -> String {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("hive");
    std::fs::write(&path, bytes).unwrap();
    let out = Command::new("hivexml").arg(&path).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8(out.stdout).unwrap()
}

/// A file of many shapes: names of one and two bytes a character, data of all lengths, a key with thousands below it.
fn rich() -> Vec<u8> {
    let mut edit = Edit::new("ROOT");
    edit.set("Select", &Value::of_number("Current", 1)).unwrap();
    edit.set(r"ControlSet001\Services\stornvme", &Value::of_number("Start", 0)).unwrap();
    edit.set(r"ControlSet001\Services\stornvme", &Value::of_text("ImagePath", r"System32\drivers\stornvme.sys")).unwrap();
    edit.set(r"ControlSet001\Control", &Value::of_texts("Order", &["Boot", "Lähtö", "System"])).unwrap();
    edit.set(r"Wide\Żółw\Ω", &Value::of_text("Ω value", "πάντα")).unwrap();
    edit.set("", &Value::of_text("", "of the root")).unwrap();
    for len in [0usize, 1, 4, 5, 16_343, 16_344, 16_345, 40_000, 300_000] {
        edit.set("Lengths", &Value::of_bytes(&format!("of {len}"), &(0..len).map(|at| (at * 7) as u8).collect::<Vec<_>>())).unwrap();
    }
    edit.set("Lengths", &Value { name: "long".into(), kind: Kind::Long, data: 77u64.to_le_bytes().to_vec() }).unwrap();
    for number in 0..1300 {
        edit.make(&format!(r"Many\key {number:04}")).unwrap();
    }
    edit.bytes()
}

#[test]
fn what_is_written_is_read_by_others_and_by_us() {
    let bytes = rich();
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("hive");
    std::fs::write(&path, &bytes).unwrap();
    let said = hivexsh(&[], &path, "cd \\ControlSet001\\Services\\stornvme\nlsval ImagePath\nlsval Start\ncd \\Many\nls\n");
    assert!(said.contains(r"System32\drivers\stornvme.sys") && said.contains("\n0\n") || said.contains("dword:00000000"), "{said}");
    assert_eq!(said.lines().filter(|line| line.starts_with("key ")).count(), 1300);
    let all = hivexml(&bytes);
    for name in ["Żółw", "Ω value", "of 300000"] {
        assert!(all.contains(name), "{name}");
    }
    let hive = Hive::open(bytes, &[]).unwrap();
    assert!(hive.remarks().is_empty(), "{:?}", hive.remarks());
    let text = |path: &str, name: &str| hive.find(path, name).unwrap().and_then(|value| value.text());
    assert_eq!(text(r"controlset001\SERVICES\Stornvme", "imagepath").as_deref(), Some(r"System32\drivers\stornvme.sys"));
    assert_eq!(text(r"wide\żółw\ω", "ω VALUE").as_deref(), Some("πάντα"));
    assert_eq!(text("", "").as_deref(), Some("of the root"));
    assert_eq!(hive.find(r"ControlSet001\Control", "Order").unwrap().unwrap().texts().unwrap(), ["Boot", "Lähtö", "System"]);
    assert_eq!(hive.find("Lengths", "long").unwrap().unwrap().long(), Some(77));
    for len in [0usize, 1, 4, 5, 16_343, 16_344, 16_345, 40_000, 300_000] {
        let value = hive.find("Lengths", &format!("of {len}")).unwrap().unwrap();
        assert!(value.data == (0..len).map(|at| (at * 7) as u8).collect::<Vec<_>>(), "{len}");
    }
    let (many, wrong) = hive.subkeys(&hive.key("Many").unwrap().unwrap());
    assert!(wrong.is_empty() && many.len() == 1300 && many[7].name == "key 0007");
    assert!(hive.key(r"Many\key 1299").unwrap().is_some() && hive.key(r"Many\key 1300").unwrap().is_none());
}

/// What is changed in a file that others made is read by them again; what is taken away leaves room that is used again.
#[test]
fn files_of_others_are_changed() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("hive");
    std::fs::write(&path, Edit::new("ROOT").bytes()).unwrap();
    let mut script = "cd \\\nadd Objects\ncd Objects\n".to_string();
    for number in 0..40 {
        let element = vec![format!("{number:02x}"); number * 30].join(",");
        script.push_str(&format!("add {{{number:08}-0000-0000-0000-000000000000}}\ncd {{{number:08}-0000-0000-0000-000000000000}}\n"));
        script.push_str(&format!("setval 2\nElement\nhex:3:{element}\nText\nstring:text {number}\ncd ..\n"));
    }
    script.push_str("commit\n");
    hivexsh(&["-w"], &path, &script);
    let theirs = std::fs::read(&path).unwrap();
    let hive = Hive::open(theirs.clone(), &[]).unwrap();
    let name = |number: u32| format!(r"Objects\{{{number:08}-0000-0000-0000-000000000000}}");
    assert_eq!(hive.find(&name(17), "Element").unwrap().unwrap().data, [17; 510]);
    let mut edit = Edit::of(&hive).unwrap();
    for number in 10..30 {
        assert!(edit.remove_key(&name(number)).unwrap());
    }
    assert!(!edit.remove_key(&name(10)).unwrap() && edit.remove_key("").is_err());
    assert!(edit.remove(&name(5), "text").unwrap() && !edit.remove(&name(5), "text").unwrap());
    edit.set(&name(5), &Value::of_bytes("Element", &[9; 70])).unwrap();
    for number in 100..118 {
        edit.set(&name(number), &Value::of_bytes("Element", &[1; 500])).unwrap();
    }
    let ours = edit.bytes();
    assert!(ours.len() <= theirs.len() + 4096, "what was given back is used again: {} and {}", ours.len(), theirs.len());
    let all = hivexml(&ours);
    assert_eq!(all.matches("<node name=\"{").count(), 38, "{all}");
    let hive = Hive::open(ours, &[]).unwrap();
    assert_eq!(hive.find(&name(5), "Element").unwrap().unwrap().data, [9; 70]);
    assert_eq!(hive.find(&name(5), "Text").unwrap(), None);
    assert_eq!(hive.find(&name(31), "Text").unwrap().unwrap().text().unwrap(), "text 31");
    let (keys, wrong) = hive.subkeys(&hive.key("Objects").unwrap().unwrap());
    assert_eq!((keys.len(), wrong), (38, Vec::new()));
}

/// A file that was not written to its end, and the log that has the rest.
#[rstest]
#[case::base_is_sound(true)]
#[case::base_is_torn(false)]
fn a_log_gives_what_was_not_written(#[case] base_is_sound: bool) {
    let old = {
        let mut edit = Edit::new("ROOT");
        edit.set("Select", &Value::of_number("Current", 1)).unwrap();
        edit.bytes()
    };
    let new = {
        let mut edit = Edit::of(&Hive::open(old.clone(), &[]).unwrap()).unwrap();
        edit.set("Select", &Value::of_number("Current", 2)).unwrap();
        edit.set(r"New\Key", &Value::of_bytes("big", &[3; 50_000])).unwrap();
        edit.bytes()
    };
    // The base block says that writing began; of the bins nothing is there yet.
    let mut half = old.clone();
    let sequence = u32::from_le_bytes(half[4..8].try_into().unwrap());
    half[4..8].copy_from_slice(&(sequence + 1).to_le_bytes());
    let sum = badger_system::registry::base::sum(&half);
    half[508..512].copy_from_slice(&sum.to_le_bytes());
    let pages: Vec<(u32, &[u8])> = new[4096..].chunks(4096).enumerate().map(|(at, page)| (at as u32 * 4096, page)).collect();
    let log = log::written(&half, sequence, (new.len() - 4096) as u32, &pages);
    if !base_is_sound {
        half[100] ^= 0xff;
    }
    let alone = Hive::open(half.clone(), &[]);
    if base_is_sound {
        let alone = alone.unwrap();
        assert_eq!(alone.find("Select", "Current").unwrap().unwrap().number(), Some(1));
        assert_eq!(alone.remarks()[0].code, "registry-dirty");
    }
    let hive = Hive::open(half.clone(), &[&log]).unwrap();
    assert_eq!(hive.remarks()[0].code, "registry-recovered");
    assert_eq!(hive.find("Select", "Current").unwrap().unwrap().number(), Some(2));
    assert_eq!(hive.find(r"New\Key", "big").unwrap().unwrap().data, [3; 50_000]);
    // Written back it is whole, for others too.
    let whole = Edit::of(&hive).unwrap().bytes();
    assert!(hivexml(&whole).contains("New"));
    // A log of which something is torn is not taken.
    let mut torn = log.clone();
    let last = torn.len() - 600;
    torn[last] ^= 1;
    let hive = Hive::open(half, &[&torn]);
    assert!(hive.is_err() || hive.unwrap().remarks().iter().all(|remark| remark.code != "registry-recovered"));
}

/// A file of 200 MB is opened, and a value found, without reading most of it.
#[test]
fn little_of_a_large_file_is_read() {
    use std::sync::atomic::{AtomicU64, Ordering};
    struct Counted(Vec<u8>, AtomicU64);
    impl Bytes for &Counted {
        fn len(&self) -> u64 {
            self.0.len() as u64
        }
        fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), String> {
            self.1.fetch_add(buf.len() as u64, Ordering::Relaxed);
            self.0.read_at(offset, buf)
        }
    }
    let mut edit = Edit::new("ROOT");
    for number in 0..40 {
        edit.set(&format!(r"Software\Vendor {number}"), &Value::of_bytes("data", &vec![number as u8; 500_000])).unwrap();
    }
    edit.set(r"Software\Vendor 7\Deep", &Value::of_text("wanted", "here")).unwrap();
    let counted = Counted(edit.bytes(), AtomicU64::new(0));
    assert!(counted.0.len() > 20_000_000);
    let hive = Hive::open(&counted, &[]).unwrap();
    assert_eq!(hive.find(r"Software\Vendor 7\Deep", "wanted").unwrap().unwrap().text().unwrap(), "here");
    assert!(counted.1.load(Ordering::Relaxed) < 1 << 20, "{:?}", counted.1);
}

/// Goes over everything that can be reached.
fn walk(hive: &Hive, most: usize) -> usize {
    let mut waiting: Vec<_> = hive.root().into_iter().collect();
    let mut seen = 0;
    while let Some(key) = waiting.pop() {
        seen += 1;
        if seen > most {
            break;
        }
        let _ = (hive.values(&key), hive.class(&key), hive.subkey(&key, "Control"));
        waiting.extend(hive.subkeys(&key).0);
    }
    seen
}

/// A list that notes a name wrongly hides it: what is set goes into the key that is there, not into a second one, and it is taken away with it.
#[test]
fn a_key_that_a_list_hides_is_not_made_twice() {
    let mut edit = Edit::new("ROOT");
    edit.set(r"Set\Old", &Value::of_text("o", "old")).unwrap();
    let mut bytes = edit.bytes();
    // The lists of the root and of its key have one entry each: mark, count, place, hash.
    let lists: Vec<usize> = bytes.windows(4).enumerate().filter(|(_, window)| *window == b"lh\x01\0").map(|(at, _)| at).collect();
    assert_eq!(lists.len(), 2);
    lists.into_iter().for_each(|at| bytes[at + 8] ^= 0xff);
    let hidden = Hive::open(bytes, &[]).unwrap();
    assert!(hidden.key("Set").unwrap().is_none());
    let mut edit = Edit::of(&hidden).unwrap();
    edit.set(r"Set\New", &Value::of_text("t", "text")).unwrap();
    let after = Hive::open(edit.bytes(), &[]).unwrap();
    let text = |path: &str, name: &str| after.find(path, name).unwrap().and_then(|value| value.text());
    assert_eq!((text(r"Set\New", "t").as_deref(), text(r"Set\Old", "o").as_deref()), (Some("text"), Some("old")));
    assert_eq!(after.subkeys(&after.root().unwrap()).0.len(), 1);
    let mut edit = Edit::of(&hidden).unwrap();
    assert!(edit.remove_key(r"Set\Old").unwrap());
    assert!(edit.remove_key("Set").unwrap() && !edit.remove_key("Set").unwrap());
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    /// Damage costs what it hits; nothing panics, nothing goes round for ever, and what is changed stays readable.
    #[test]
    fn damage_is_survived(places in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..30)) {
        use std::sync::OnceLock;
        static SMALL: OnceLock<Vec<u8>> = OnceLock::new();
        let small = SMALL.get_or_init(|| {
            let mut edit = Edit::new("ROOT");
            for number in 0..30 {
                edit.set(&format!(r"Set\Control\k{number}"), &Value::of_bytes("v", &vec![1; number * 1500])).unwrap();
            }
            edit.bytes()
        });
        let mut bytes = small.clone();
        for (place, byte) in places {
            let at = place.index(bytes.len());
            bytes[at] = byte;
        }
        if let Ok(hive) = Hive::open(bytes, &[]) {
            walk(&hive, 2000);
            if let Ok(mut edit) = Edit::of(&hive) {
                let _ = edit.remove_key(r"Set\Control\k3");
                let set = edit.set(r"Set\New", &Value::of_text("t", "text"));
                let after = Hive::open(edit.bytes(), &[]);
                if set.is_ok() && let Ok(after) = after {
                    let found = after.find(r"Set\New", "t");
                    prop_assert!(found.is_err() || found.unwrap().and_then(|value| value.text()).as_deref() == Some("text"));
                }
            }
        }
    }

    /// What is set is there, whatever the names and the order.
    #[test]
    fn what_is_set_is_found(names in prop::collection::vec("[a-zA-Zäöß日 ]{1,12}", 1..40)) {
        let mut edit = Edit::new("ROOT");
        for (number, name) in names.iter().enumerate() {
            edit.set(name, &Value::of_number(name, number as u32)).unwrap();
        }
        let hive = Hive::open(edit.bytes(), &[]).unwrap();
        for name in &names {
            prop_assert!(hive.find(name, name).unwrap().is_some(), "{}", name);
        }
        prop_assert!(hive.subkeys(&hive.root().unwrap()).1.is_empty());
    }
}
