//! The house as `docs/architecture.md` draws it: no crate takes from one above it, and no files of a crate take from each
//! other in a circle.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// The floors, the lowest first.
const FLOORS: [&[&str]; 9] = [
    &["drive"],
    &["layout", "image", "network", "licences"],
    &["fs"],
    &["inspect"],
    &["people", "transfer", "salvage", "system"],
    &["bench", "rehearsal"],
    &["jobs"],
    &["tui", "fuzz"],
    &["badger"],
];
/// Crates whose files still go in circles: a list that may only become shorter.
const STILL_IN_CIRCLES: [&str; 0] = [];

type Arrows = BTreeMap<String, BTreeSet<String>>;

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().to_path_buf()
}

/// Every file below a directory: the name of its module, and its text without its tests.
fn modules(dir: &Path, above: &str, out: &mut BTreeMap<String, String>) {
    for entry in fs::read_dir(dir).unwrap().map(Result::unwrap) {
        let (path, name) = (entry.path(), entry.file_name().into_string().unwrap());
        let stem = name.trim_end_matches(".rs");
        let full = match (stem, above) {
            ("mod" | "lib" | "main", _) => above.to_string(),
            (_, "") => stem.to_string(),
            _ => format!("{above}::{stem}"),
        };
        if path.is_dir() {
            modules(&path, &full, out);
        } else if name.ends_with(".rs") {
            let text = fs::read_to_string(&path).unwrap();
            out.insert(full, text.split("#[cfg(test)]\nmod tests").next().unwrap().to_string());
        }
    }
}

/// The paths behind each `crate::` or `super::`, those within braces too.
fn taken(text: &str, from: &str) -> Vec<String> {
    let mut out = Vec::new();
    for rest in text.split(from).skip(1) {
        let (inside, ends): (&str, &str) = match rest.strip_prefix('{') {
            Some(inside) => (inside.split("};").next().unwrap(), ","),
            None => (rest, ""),
        };
        let parts = if ends.is_empty() { vec![inside] } else { inside.split(ends).collect() };
        for part in parts {
            let path: String =
                part.trim_start().chars().take_while(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '_' | ':')).collect();
            out.push(path.trim_end_matches(':').to_string());
        }
    }
    out
}

fn arrows(modules: &BTreeMap<String, String>) -> Arrows {
    let mut out = Arrows::new();
    for (name, text) in modules {
        let parent = name.rsplit_once("::").map_or("", |(parent, _)| parent);
        let beside = taken(text, "super::").into_iter().map(|path| format!("{parent}::{path}").trim_start_matches(':').to_string());
        let beside = beside.map(|path| (path, true));
        for (path, beside) in taken(text, "crate::").into_iter().map(|path| (path, false)).chain(beside) {
            // The longest beginning that is a module of its own; the root is where everything is named, and no room.
            let parts: Vec<&str> = path.split("::").collect();
            let target = (1..=parts.len()).rev().map(|len| parts[..len].join("::")).find(|target| modules.contains_key(target));
            // What stands right above its files is what they are parts of.
            let counts = |target: &String| target != name && !name.is_empty() && !(beside && target == parent);
            if let Some(target) = target.filter(counts) {
                out.entry(name.clone()).or_default().insert(target);
            }
        }
    }
    out
}

/// A way from a module back to itself.
fn circle(arrows: &Arrows) -> Option<Vec<String>> {
    for start in arrows.keys() {
        let mut ways = vec![vec![start.clone()]];
        let mut seen = BTreeSet::new();
        while let Some(way) = ways.pop() {
            for next in arrows.get(way.last().unwrap()).into_iter().flatten() {
                if next == start {
                    return Some(way);
                }
                if seen.insert(next.clone()) {
                    ways.push([&way[..], std::slice::from_ref(next)].concat());
                }
            }
        }
    }
    None
}

#[test]
fn no_crate_takes_from_one_above_it() {
    let floor = |name: &str| FLOORS.iter().position(|floor| floor.contains(&name));
    for entry in fs::read_dir(crates()).unwrap().map(Result::unwrap) {
        let name = entry.file_name().into_string().unwrap();
        let here = floor(&name).unwrap_or_else(|| panic!("{name} stands on no floor"));
        let text = fs::read_to_string(entry.path().join("Cargo.toml")).unwrap();
        let below = text.lines().filter_map(|line| line.strip_prefix("badger-")?.split(['.', ' ']).next()).filter(|other| *other != name);
        for other in below {
            assert!(floor(other).is_some_and(|there| there < here), "{name} takes from {other}");
        }
    }
}

#[test]
fn no_files_go_in_circles() {
    for name in FLOORS.concat() {
        let mut found = BTreeMap::new();
        modules(&crates().join(name).join("src"), "", &mut found);
        assert!(!found.is_empty(), "{name}");
        let circle = circle(&arrows(&found));
        assert_eq!(circle.is_some(), STILL_IN_CIRCLES.contains(&name), "{name}: {circle:?}");
    }
}

#[test]
fn a_circle_is_seen() {
    let text = |a: &str, b: &str, c: &str| [("a", a), ("a::b", b), ("c", c)].map(|(name, text)| (name.to_string(), text.to_string())).into();
    let closed = arrows(&text("use crate::{c::Thing, x};", "", "fn f() { crate::a::b::g() }"));
    assert_eq!(circle(&closed), None, "{closed:?}");
    let closed = arrows(&text("use crate::c::Thing;", "use crate::a::Other;", "use crate::a::b;"));
    assert!(circle(&closed).is_some(), "{closed:?}");
    let beside = [("a::b", "use super::{c::Thing, x};"), ("a::c", "fn f() { super::b::g() }")];
    let closed = arrows(&beside.map(|(name, text)| (name.to_string(), text.to_string())).into());
    assert!(circle(&closed).is_some(), "{closed:?}");
}
