//! The fuzzer: reads what it is given by the target that `BADGER_TARGET` names. `run` starts it.

#![no_main]

use badger_fuzz::{TARGETS, keep, kept, target};
use libfuzzer_sys::fuzz_target;
use std::path::Path;
use std::sync::OnceLock;

static READ: OnceLock<fn(&[u8])> = OnceLock::new();

/// Chooses the target; does what else is asked instead of fuzzing, and ends then.
fn chosen() -> fn(&[u8]) {
    let name = std::env::var("BADGER_TARGET").unwrap_or_default();
    let Some(target) = target(&name) else {
        TARGETS.iter().for_each(|target| println!("{}", target.name));
        std::process::exit(i32::from(!name.is_empty()));
    };
    let folder = |name: &str| std::env::var_os(name);
    if let Some(folder) = folder("BADGER_UNPACK") {
        let inputs = kept(target.name).expect("the kept inputs").into_iter().chain((target.samples)());
        for (number, bytes) in inputs.enumerate() {
            std::fs::write(Path::new(&folder).join(format!("kept-{number}")), bytes).expect("an input");
        }
        std::process::exit(0);
    }
    if let Some(folder) = folder("BADGER_KEEP") {
        println!("{} inputs kept", keep(target.name, Path::new(&folder)).expect("they are kept"));
        std::process::exit(0);
    }
    target.read
}

fuzz_target!(init: READ.set(chosen()).expect("it is chosen once"), |input: &[u8]| READ.get().expect("the target is chosen first")(input));
