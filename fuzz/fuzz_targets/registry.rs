#![no_main]

use badger_system::registry::{Edit, Hive, Key, Value};
use libfuzzer_sys::fuzz_target;
use std::sync::OnceLock;

static SOUND: OnceLock<Vec<u8>> = OnceLock::new();

fn sound() -> Vec<u8> {
    let mut edit = Edit::new("ROOT");
    for number in 0..60u32 {
        let path = format!(r"Control\Set {:02}\Service {number:03}", number % 7);
        edit.set(&path, &Value::of_number("Start", number)).expect("it is set");
        edit.set(&path, &Value::of_text("ImagePath", r"System32\drivers\one.sys")).expect("it is set");
        edit.set(&path, &Value::of_bytes("data", &vec![number as u8; number as usize * 400])).expect("it is set");
    }
    edit.bytes()
}

// What is damaged costs what is damaged: everything is walked, and what can be changed can be read again.
fuzz_target!(|input: &[u8]| {
    let bytes = badger_fuzz::broken(SOUND.get_or_init(sound), input);
    let Ok(hive) = Hive::open(bytes, &[]) else { return };
    let mut left = 10_000;
    let mut below: Vec<Key> = hive.root().into_iter().collect();
    while let Some(key) = below.pop() {
        left -= 1;
        if left == 0 {
            break;
        }
        let _ = (hive.values(&key), hive.class(&key));
        below.extend(hive.subkeys(&key).0);
    }
    let Ok(mut edit) = Edit::of(&hive) else { return };
    if edit.set(r"Control\New", &Value::of_text("word", "here")).is_ok() {
        let again = Hive::open(edit.bytes(), &[]).expect("what was written opens");
        let _ = again.find(r"Control\New", "word");
    }
});
