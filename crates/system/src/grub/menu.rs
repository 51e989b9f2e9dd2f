//! The menu of a GRUB configuration: what `grub.cfg` shows and starts by itself, found by running it over the volumes of one drive.

use super::script::{Command, Piece, Script, Word, parse};
use crate::link::Firmware;
use crate::linux::Entry;
use crate::places::{Place, Places};
use crate::version;
use badger_layout::types::TypeCode;
use std::collections::BTreeMap;

/// So many commands are run for one menu, and so deep.
const MOST_STEPS: usize = 200_000;
const MOST_DEPTH: usize = 24;
/// Entries of a menu at most, bytes of a value, and words of a command.
const MOST_ITEMS: usize = 2000;
const MOST_VALUE: usize = 64 << 10;
const MOST_WORDS: usize = 4096;
/// Bytes of a configuration at most; and bytes that are parsed, or that variables become, count as a command each so many.
const MOST_TEXT: usize = 1 << 20;
const BYTES_A_STEP: usize = 256;

/// An item of a menu.
#[derive(Clone, Debug)]
struct Item {
    title: String,
    id: String,
    is_submenu: bool,
    /// `$1` and so on of its block.
    arguments: Vec<String>,
    block: Script,
}

/// Where a configuration leads when nobody chooses.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Chosen {
    /// A Linux kernel.
    Linux(Entry),
    /// Another loader: the path as it stands there (`/EFI/...`, or `+1` for the first sector), and the volume, where it is known which.
    Chain { title: String, path: String, on: Option<u32> },
    /// An entry that starts nothing that is known here, by its title.
    Other(String),
    /// There is no entry.
    Nothing,
}

/// What a configuration does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Outcome {
    /// What starts by itself.
    pub chosen: Chosen,
    /// What starts if that cannot be loaded, as `fallback` names it.
    pub fallback: Vec<Chosen>,
    /// Titles of all entries, those of submenus behind the titles of these, as the evidence.
    pub titles: Vec<String>,
    /// The last configuration that it went on with.
    pub next: Option<Next>,
    /// What it looked for last, and did not find as one volume of this drive.
    pub missed: Option<String>,
    /// It has more commands than are followed here.
    pub is_beyond: bool,
}

/// A configuration that another one goes on with.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Next {
    /// The partition; `None` where it is named by a device that is none of this drive.
    pub on: Option<u32>,
    pub path: String,
    /// Whether it could be read.
    pub is_read: bool,
}

/// What running a block came to.
#[derive(Clone, Debug, Default)]
struct Loaded {
    entry: Entry,
    chain: Option<String>,
}

struct Runner<'a> {
    places: &'a Places,
    /// The volume that the configuration lies on.
    home: Option<&'a Place>,
    variables: BTreeMap<String, String>,
    arguments: Vec<String>,
    functions: BTreeMap<String, Script>,
    items: Vec<Item>,
    loaded: Loaded,
    /// What `search` looked for last, for `root`.
    searched: String,
    titles: Vec<String>,
    next: Option<Next>,
    missed: Option<String>,
    steps: usize,
    is_beyond: bool,
    /// `return`, `break` and `exit` end what runs.
    is_over: bool,
    /// How the last command ended (`$?`).
    is_ok: bool,
}

/// How GRUB names a partition of the drive it was started from.
fn device_of(place: &Place) -> String {
    let table = if matches!(place.partition.type_code, TypeCode::Gpt(_)) { "gpt" } else { "msdos" };
    format!("hd0,{table}{}", place.partition.number)
}

/// Runs a configuration that lies on `home` (`None`: within a core image), with `prefix` as the folder of GRUB there, for a GRUB that UEFI
/// firmware started, or BIOS. One that is built into GRUB (`is_built`) is followed by the `grub.cfg` in `prefix`.
pub(crate) fn run<'a>(places: &'a Places, home: Option<&'a Place>, text: &str, prefix: &str, (firmware, is_built): (Firmware, bool)) -> Outcome {
    let mut runner = Runner {
        places,
        home,
        variables: BTreeMap::new(),
        arguments: Vec::new(),
        functions: BTreeMap::new(),
        items: Vec::new(),
        loaded: Loaded::default(),
        searched: String::new(),
        titles: Vec::new(),
        next: None,
        missed: None,
        steps: 0,
        is_beyond: false,
        is_over: false,
        is_ok: true,
    };
    let root = home.map(device_of).unwrap_or_default();
    let platform = if firmware == Firmware::Uefi { "efi" } else { "pc" };
    let start = [
        ("root", root.clone()),
        ("prefix", if prefix.starts_with('(') { prefix.to_string() } else { format!("({root}){prefix}") }),
        ("grub_platform", platform.into()),
        ("grub_cpu", if platform == "efi" { "x86_64" } else { "i386" }.into()),
        ("feature_menuentry_id", "y".into()),
        ("feature_menuentry_options", "y".into()),
        ("feature_timeout_style", "y".into()),
        ("feature_platform_search_hint", "y".into()),
        ("feature_default_font_path", "y".into()),
        ("feature_all_video_module", "y".into()),
        ("feature_chainloader_bpb", "y".into()),
        ("feature_ntldr", "y".into()),
        ("feature_nativedisk_cmd", "y".into()),
        ("menuentry_id_option", "--id".into()),
    ];
    runner.variables.extend(start.map(|(name, value)| (name.to_string(), value)));
    runner.text(text, 0);
    if is_built && runner.items.is_empty() && runner.next.is_none() {
        runner.is_over = false;
        runner.simple("normal", &[], None, 0);
    }
    let (next, missed) = (runner.next.take(), runner.missed.take());
    // A configuration may load a kernel itself, without a menu.
    let chosen = match runner.items.is_empty() {
        true if !runner.loaded.entry.kernel.is_empty() || runner.loaded.chain.is_some() => runner.outcome("at once"),
        _ => runner.choose(&runner.variable("default"), 0),
    };
    let fallback = runner.variable("fallback");
    let fallback = fallback.split_whitespace().filter(|name| runner.item(name).is_some()).map(str::to_string).collect::<Vec<_>>();
    let fallback = fallback.iter().map(|name| runner.choose(name, 0)).collect();
    Outcome { chosen, fallback, titles: runner.titles, next, missed, is_beyond: runner.is_beyond }
}

impl<'a> Runner<'a> {
    fn variable(&self, name: &str) -> String {
        match name {
            "?" => if self.is_ok { "0" } else { "1" }.into(),
            "#" => self.arguments.len().to_string(),
            "@" | "*" => self.arguments.join(" "),
            _ => match name.parse::<usize>() {
                Ok(number) => number.checked_sub(1).and_then(|at| self.arguments.get(at)).cloned().unwrap_or_default(),
                Err(_) => self.variables.get(name).cloned().unwrap_or_default(),
            },
        }
    }

    /// Counts work; whether there may be more of it.
    fn works(&mut self, steps: usize) -> bool {
        self.steps = self.steps.saturating_add(steps);
        if self.steps > MOST_STEPS {
            (self.is_beyond, self.is_over) = (true, true);
        }
        self.steps <= MOST_STEPS
    }

    /// Words with the values of their variables.
    fn expand(&mut self, words: &[Word]) -> Vec<String> {
        let mut out = Vec::new();
        for word in words {
            let (mut now, mut is_word) = (String::new(), false);
            for piece in word {
                match piece {
                    Piece::Text(text) => {
                        now.push_str(text);
                        is_word = true;
                    }
                    Piece::Variable { name, is_quoted: true } => {
                        now.push_str(&self.variable(name));
                        is_word = true;
                    }
                    Piece::Variable { name, is_quoted: false } => {
                        let value = self.variable(name);
                        let mut parts = value.split(char::is_whitespace).filter(|part| !part.is_empty()).peekable();
                        while let Some(part) = parts.next() {
                            now.push_str(part);
                            is_word = true;
                            if parts.peek().is_some() {
                                out.push(std::mem::take(&mut now));
                            }
                        }
                    }
                }
                now.truncate(now.floor_char_boundary(MOST_VALUE));
            }
            let is_done = !self.works(now.len() / BYTES_A_STEP);
            if is_word {
                out.push(now);
            }
            if is_done || out.len() >= MOST_WORDS {
                out.truncate(MOST_WORDS);
                break;
            }
        }
        out
    }

    fn text(&mut self, text: &str, depth: usize) -> bool {
        match Some(text).filter(|text| text.len() <= MOST_TEXT && self.works(text.len() / BYTES_A_STEP)).and_then(parse) {
            Some(script) => self.script(&script, depth),
            None => {
                self.is_beyond = true;
                false
            }
        }
    }

    fn script(&mut self, script: &Script, depth: usize) -> bool {
        if depth == MOST_DEPTH {
            self.is_beyond = true;
            return false;
        }
        for command in script.iter() {
            if self.is_over {
                break;
            }
            if !self.works(1) {
                break;
            }
            self.is_ok = self.command(command, depth + 1);
        }
        self.is_ok
    }

    fn command(&mut self, command: &Command, depth: usize) -> bool {
        match command {
            Command::If { arms, otherwise } => {
                for (condition, body) in arms {
                    if self.script(condition, depth) && !condition.is_empty() {
                        self.is_ok = true;
                        return self.script(body, depth);
                    }
                }
                self.is_ok = true;
                self.script(otherwise, depth)
            }
            Command::While { is_until, condition, body } => {
                while self.works(1) && !self.is_over && self.script(condition, depth) != *is_until {
                    self.script(body, depth);
                }
                true
            }
            Command::For { name, words, body } => {
                for value in self.expand(words) {
                    if !self.works(1) {
                        break;
                    }
                    self.variables.insert(name.clone(), value);
                    self.script(body, depth);
                }
                true
            }
            Command::Function { name, body } => {
                self.functions.insert(name.clone(), body.clone());
                true
            }
            Command::Simple { words, block } => {
                let words = self.expand(words);
                let Some((name, arguments)) = words.split_first() else { return true };
                self.simple(name, arguments, block.as_ref(), depth)
            }
        }
    }

    fn simple(&mut self, name: &str, arguments: &[String], block: Option<&Script>, depth: usize) -> bool {
        if let Some(body) = self.functions.get(name).cloned() {
            let before = std::mem::replace(&mut self.arguments, arguments.to_vec());
            let result = self.script(&body, depth);
            self.arguments = before;
            self.is_over &= self.steps > MOST_STEPS;
            return result;
        }
        let first = arguments.first().map(String::as_str).unwrap_or_default();
        match name {
            "[" => self.test(arguments.strip_suffix(&["]".to_string()]).unwrap_or(arguments)),
            "test" => self.test(arguments),
            "set" => {
                for (name, value) in arguments.iter().filter_map(|word| word.split_once('=')) {
                    let mut value = value;
                    if name == "root" {
                        self.searched.clear();
                        value = value.trim_start_matches('(').trim_end_matches(')');
                    }
                    self.variables.insert(name.into(), value.into());
                }
                true
            }
            "!" => match arguments.split_first() {
                Some((name, arguments)) => !self.simple(name, arguments, block, depth),
                None => false,
            },
            "unset" => arguments.iter().map(|name| self.variables.remove(name)).fold(true, |_, _| true),
            "setparams" => {
                self.arguments = arguments.to_vec();
                true
            }
            "menuentry" | "submenu" => {
                if let Some(block) = block.filter(|_| self.items.len() < MOST_ITEMS) {
                    self.items.push(item(name == "submenu", arguments, block));
                }
                true
            }
            "load_env" => self.load_env(arguments),
            "search" | "search.fs_uuid" | "search.fs_label" | "search.file" | "search.fs_file" => self.search(name, arguments),
            "source" | "." => match self.file(first) {
                Some(text) => self.text(&text, depth),
                None => false,
            },
            "configfile" | "extract_entries_configfile" => self.configfile(first, depth),
            "normal" => {
                let path = if first.is_empty() { format!("{}/grub.cfg", self.variable("prefix")) } else { first.to_string() };
                self.configfile(&path, depth)
            }
            "blscfg" => self.entries_of_files(first),
            "eval" => self.text(&arguments.join(" "), depth),
            "linux" | "linux16" | "linuxefi" => self.kernel(arguments),
            "initrd" | "initrd16" | "initrdefi" => {
                let paths = arguments.iter().map(|word| self.path(word).1).collect();
                self.loaded.entry.initrds = paths;
                true
            }
            "chainloader" => {
                self.loaded.chain = arguments.iter().find(|word| !word.starts_with('-')).cloned();
                true
            }
            "return" | "exit" | "break" => {
                self.is_over = true;
                true
            }
            "false" | "regexp" | "smbios" | "probe" | "read" | "sleep" | "keystatus" | "increment" | "cmp" | "cpuid" => false,
            // Modules, fonts, screens and the like are taken to be there: the menu does not depend on them.
            _ => true,
        }
    }

    /// `test`: one condition, or several joined by `-a` and `-o`.
    fn test(&self, words: &[String]) -> bool {
        words.split(|word| word == "-o").any(|all| all.split(|word| word == "-a").all(|one| self.condition(one)))
    }

    fn condition(&self, words: &[String]) -> bool {
        let words: Vec<&str> = words.iter().map(String::as_str).filter(|word| !matches!(*word, "(" | ")")).collect();
        let number = |word: &str| word.trim().parse::<i64>().unwrap_or(0);
        match &words[..] {
            ["!", rest @ ..] => !self.condition(&rest.iter().map(|word| word.to_string()).collect::<Vec<_>>()),
            [] => false,
            [one] => !one.is_empty(),
            ["-n", text] => !text.is_empty(),
            ["-z", text] => text.is_empty(),
            ["-f" | "-e", path] => matches!(self.path(path), (Some(place), path) if place.has(&path)),
            ["-s", path] => matches!(self.path(path), (Some(place), path) if place.node(&path).ok().flatten().is_some_and(|node| node.size > 0)),
            ["-d", path] => matches!(self.path(path), (Some(place), path) if place.has_folder(&path) && place.files.is_ok()),
            [one, "=" | "==", other] => one == other,
            [one, "!=", other] => one != other,
            [one, "-eq", other] => number(one) == number(other),
            [one, "-ne", other] => number(one) != number(other),
            [one, "-lt", other] => number(one) < number(other),
            [one, "-le", other] => number(one) <= number(other),
            [one, "-gt", other] => number(one) > number(other),
            [one, "-ge", other] => number(one) >= number(other),
            _ => false,
        }
    }

    /// The volume and the path that a word names; `None` where the device is not one of this drive.
    fn path(&self, word: &str) -> (Option<&'a Place>, String) {
        match word.strip_prefix('(').and_then(|rest| rest.split_once(')')) {
            Some((device, path)) => (self.device(device), path.to_string()),
            None => (self.device(&self.variable("root")), word.to_string()),
        }
    }

    /// A partition by GRUB's name. Numbers of disks are as firmware counts them on one machine: whichever it is, this drive is meant.
    fn device(&self, name: &str) -> Option<&'a Place> {
        if name.is_empty() {
            return self.home;
        }
        let (disk, part) = name.split_once(',')?;
        disk.strip_prefix("hd").or(disk.strip_prefix("ahci")).or(disk.strip_prefix("ata"))?.parse::<u32>().ok()?;
        let number = part.rsplit(',').next()?.trim_start_matches(|letter: char| !letter.is_ascii_digit()).parse::<u32>().ok()?;
        self.places.all.iter().find(|place| place.partition.number == number)
    }

    fn file(&mut self, word: &str) -> Option<String> {
        let (place, path) = self.path(word);
        if !self.works(MOST_STEPS / MOST_ITEMS) {
            return None;
        }
        // GRUB sees paths from the top of a volume on, not from the system's root.
        place.filter(|place| place.hidden_in(&path).is_none())?.text(&path).ok()?
    }

    /// A configuration of its own: its menu takes the place of this one, its variables stay.
    fn configfile(&mut self, word: &str, depth: usize) -> bool {
        let (place, path) = self.path(word);
        let text = self.file(word);
        self.next = Some(Next { on: place.map(|place| place.partition.number), path, is_read: text.is_some() });
        let Some(text) = text else { return false };
        let before = std::mem::take(&mut self.items);
        let is_ok = self.text(&text, depth);
        if self.items.is_empty() {
            self.items = before;
        }
        is_ok
    }

    /// Variables of an environment block (GNU GRUB manual, "The GRUB environment block").
    fn load_env(&mut self, arguments: &[String]) -> bool {
        let mut words = arguments.iter().filter(|word| *word != "--skip-sig").peekable();
        let mut file = format!("{}/grubenv", self.variable("prefix"));
        if let Some(flag) = words.next_if(|word| *word == "-f" || word.starts_with("--file")) {
            file = flag.strip_prefix("--file=").map(str::to_string).or_else(|| words.next().cloned()).unwrap_or_default();
        }
        let wanted: Vec<&String> = words.collect();
        let Some(text) = self.file(&file).filter(|text| text.starts_with("# GRUB Environment Block\n")) else { return false };
        for (name, value) in text.lines().filter(|line| !line.starts_with('#')).filter_map(|line| line.split_once('=')) {
            if wanted.is_empty() || wanted.iter().any(|wanted| *wanted == name) {
                self.variables.insert(name.into(), value.into());
            }
        }
        true
    }

    fn search(&mut self, command: &str, arguments: &[String]) -> bool {
        let mut kind = command.strip_prefix("search.").map(|kind| kind.trim_start_matches("fs_"));
        let (mut variable, mut value) = (None, None);
        let mut words = arguments.iter().map(String::as_str).peekable();
        while let Some(word) = words.next() {
            match word {
                "--fs-uuid" | "-u" => kind = Some("uuid"),
                "--label" | "-l" | "--fs-label" => kind = Some("label"),
                "--file" | "-f" => kind = Some("file"),
                "--set" | "-s" => {
                    // Without a name it is `root`; a name never looks like an identifier.
                    variable = Some(words.next_if(|word| words_may_name(word)).unwrap_or("root").to_string());
                }
                "--hint" | "-h" | "--hint-bios" | "--hint-efi" | "--hint-baremetal" | "--hint-ieee1275" | "--hint-arc" => drop(words.next()),
                _ if word.starts_with("--set=") => variable = Some(word["--set=".len()..].to_string()),
                _ if word.starts_with("--") => {}
                _ if value.is_none() => value = Some(word),
                // `search.fs_uuid UUID root hd0,gpt2`.
                _ if command != "search" && variable.is_none() => variable = Some(word.to_string()),
                _ => {}
            }
        }
        // `--set` takes a name or none: what stands behind it may be what is looked for.
        let (variable, value) = match (variable, value) {
            (variable, Some(value)) => (variable.unwrap_or_else(|| "root".into()), value.to_string()),
            (Some(value), None) => ("root".to_string(), value),
            (None, None) => return false,
        };
        let (kind, value) = (kind.unwrap_or("label"), value.as_str());
        let name = format!("{}={value}", kind.to_uppercase());
        let found = match kind {
            // The first that has it.
            "file" => self.places.all.iter().filter(|place| place.has(value)).take(1).collect(),
            _ => self.places.named(&name).unwrap_or_default(),
        };
        if variable == "root" {
            self.searched = if kind == "file" && !found.is_empty() { String::new() } else { name.clone() };
        }
        self.missed = (found.len() != 1).then(|| name.clone());
        if let Some(place) = found.first() {
            self.variables.insert(variable, device_of(place));
        }
        !found.is_empty()
    }

    fn kernel(&mut self, arguments: &[String]) -> bool {
        let Some((kernel, options)) = arguments.split_first() else { return false };
        let (place, path) = self.path(kernel);
        // `($root)/vmlinuz` names no other device than `/vmlinuz`.
        let device = kernel.strip_prefix('(').and_then(|rest| rest.split_once(')')).map(|(device, _)| device);
        let is_named = device.is_some_and(|device| device != self.variable("root"));
        let search = if is_named { String::new() } else { self.searched.clone() };
        let on = place.map(|place| place.partition.number);
        let unknown = on.is_none().then(|| if is_named { kernel.clone() } else { self.variable("root") });
        let entry = Entry { search, on, device: unknown, kernel: path, options: options.to_vec(), ..Entry::default() };
        self.loaded.entry = entry;
        true
    }

    /// Entries of the Boot Loader Specification, as GRUB's `blscfg` takes them: the newest first, by the names of their files.
    fn entries_of_files(&mut self, folder: &str) -> bool {
        let usual = ["/loader/entries", "/boot/loader/entries"];
        let folders: Vec<&str> = if folder.is_empty() || folder.starts_with('-') { usual.to_vec() } else { vec![folder] };
        for folder in folders {
            let (Some(place), path) = self.path(folder) else { continue };
            let mut names: Vec<String> = place.list(&path).into_iter().map(|(name, _)| name).filter(|name| name.ends_with(".conf")).collect();
            names.sort_by(|one, other| version::compare(other.trim_end_matches(".conf"), one.trim_end_matches(".conf")));
            for name in names.iter().take(MOST_ITEMS - self.items.len().min(MOST_ITEMS)) {
                let Some(text) = place.text(&format!("{path}/{name}")).ok().flatten() else { continue };
                self.items.push(bls_item(name.trim_end_matches(".conf"), &text));
            }
            if !names.is_empty() {
                return true;
            }
        }
        false
    }

    /// An item of the present menu by its number, id or title.
    fn item(&self, name: &str) -> Option<&Item> {
        if let Ok(number) = name.trim().parse::<usize>() {
            return self.items.get(number);
        }
        self.items.iter().find(|item| item.id == name || item.title == name)
    }

    /// What a name of the menu leads to; the first item where it names none. `1>2` is the third of the second, a submenu.
    fn choose(&mut self, name: &str, depth: usize) -> Chosen {
        if depth == 0 {
            let titles: Vec<String> = self.items.iter().map(|item| item.title.clone()).collect();
            if self.titles.is_empty() {
                self.titles = titles;
            }
        }
        let (here, rest) = match self.item(name) {
            Some(_) => (name, ""),
            None => name.split_once('>').unwrap_or((name, "")),
        };
        let Some(item) = self.item(here).or(self.items.first()).cloned() else { return Chosen::Nothing };
        let kept = (self.variables.clone(), self.items.clone(), self.searched.clone());
        self.arguments = std::iter::once(item.title.clone()).chain(item.arguments.iter().cloned()).collect();
        (self.loaded, self.is_over) = (Loaded::default(), false);
        self.items.clear();
        self.script(&item.block, depth + 1);
        let chosen = match () {
            () if depth == MOST_DEPTH => Chosen::Nothing,
            // A submenu, or a configuration that an entry goes on with.
            () if !self.items.is_empty() => {
                let name = if item.is_submenu { rest.to_string() } else { self.variable("default") };
                let chosen = self.choose(&name, depth + 1);
                if item.is_submenu {
                    self.titles.push(format!("{}: {} entries", item.title, self.items.len()));
                }
                chosen
            }
            () if item.is_submenu => Chosen::Nothing,
            () => self.outcome(&item.title),
        };
        (self.variables, self.items, self.searched) = kept;
        chosen
    }

    fn outcome(&self, title: &str) -> Chosen {
        match &self.loaded.chain {
            Some(path) => {
                let (place, path) = self.path(path);
                let on = place.map(|place| place.partition.number);
                // A volume that was looked for and is not on this drive.
                let on = on.filter(|_| self.searched.is_empty() || self.places.named(&self.searched).is_none_or(|found| !found.is_empty()));
                Chosen::Chain { title: title.into(), path, on }
            }
            None if self.loaded.entry.kernel.is_empty() => Chosen::Other(title.into()),
            None => Chosen::Linux(Entry { title: title.into(), ..self.loaded.entry.clone() }),
        }
    }
}

/// Whether a word behind `--set` is the name of a variable.
fn words_may_name(word: &str) -> bool {
    !word.starts_with('-') && word.chars().all(|letter| letter.is_ascii_alphabetic() || letter == '_')
}

fn item(is_submenu: bool, arguments: &[String], block: &Script) -> Item {
    let (mut id, mut rest, mut words) = (String::new(), Vec::new(), arguments.iter());
    while let Some(word) = words.next() {
        match word.as_str() {
            "--id" | "--class" | "--users" | "--hotkey" | "--source" => {
                let value = words.next().cloned().unwrap_or_default();
                if word == "--id" {
                    id = value;
                }
            }
            _ if word.starts_with("--id=") => id = word["--id=".len()..].to_string(),
            _ if word.starts_with("--") => {}
            _ => rest.push(word.clone()),
        }
    }
    let title = if rest.is_empty() { String::new() } else { rest.remove(0) };
    Item { title, id, is_submenu, arguments: rest, block: block.clone() }
}

/// An entry of the Boot Loader Specification as an item: its keys as the commands that they are for GRUB.
fn bls_item(id: &str, text: &str) -> Item {
    let (mut title, mut commands) = (id.to_string(), String::new());
    let (mut linux, mut options, mut initrds, mut efi) = (String::new(), String::new(), String::new(), String::new());
    for line in text.lines().map(str::trim).filter(|line| !line.starts_with('#')) {
        let Some((key, value)) = line.split_once(char::is_whitespace) else { continue };
        match key {
            "title" => title = value.trim().into(),
            "linux" => linux = value.trim().into(),
            "options" => options = format!("{options} {}", value.trim()),
            "initrd" => initrds = format!("{initrds} {}", value.trim()),
            "efi" => efi = value.trim().into(),
            _ => {}
        }
    }
    if !linux.is_empty() {
        commands.push_str(&format!("linux {linux}{options}\n"));
    }
    if !initrds.is_empty() {
        commands.push_str(&format!("initrd{initrds}\n"));
    }
    if !efi.is_empty() {
        commands.push_str(&format!("chainloader {efi}\n"));
    }
    Item { title, id: id.into(), is_submenu: false, arguments: Vec::new(), block: parse(&commands).unwrap_or_default() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn started(text: &str) -> Outcome {
        run(&Places::none(), None, text, "/boot/grub", (Firmware::Uefi, false))
    }

    fn kernel(chosen: &Chosen) -> (&str, &str) {
        match chosen {
            Chosen::Linux(entry) => (entry.title.as_str(), entry.kernel.as_str()),
            Chosen::Chain { title, path, .. } => (title, path),
            Chosen::Other(title) => (title, ""),
            Chosen::Nothing => ("", ""),
        }
    }

    /// As `grub-mkconfig` writes it, with what it puts in front.
    const MENU: &str = r#"
function savedefault { saved_entry="${chosen}" ; save_env saved_entry }
if [ x"${feature_menuentry_id}" = xy ]; then
  menuentry_id_option="--id"
else
  menuentry_id_option=""
fi
set timeout=5 # not read
search --no-floppy --fs-uuid --set=root 1111-2222
menuentry 'A "first"' --class gnu-linux $menuentry_id_option 'gnulinux-simple-11' {
	load_video
	if [ x$grub_platform = xxen ]; then insmod xzio; insmod lzopio; fi
	linux	($root)/vmlinuz-1 root=/dev/sda1 quiet # not this
	initrd /a.img /b.img
}
submenu 'More' $menuentry_id_option 'gnulinux-advanced-11' {
  menuentry 'Newest' --class x $menuentry_id_option 'new' { linux /vmlinuz-2 root=UUID=1234 ro; initrd /c.img
  }
  menuentry "Older $x" --id old {
    linux /vmlinuz-3 ${options}
  }
}
menuentry 'Other system' --class windows --id osprober-efi-AAAA-BBBB {
	insmod part_gpt
	search --no-floppy --fs-uuid --set=root AAAA-BBBB
	chainloader /EFI/Microsoft/Boot/bootmgfw.efi
}
"#;

    #[rstest]
    #[case::nothing_said("", ("A \"first\"", "/vmlinuz-1"))]
    #[case::number("set default=0", ("A \"first\"", "/vmlinuz-1"))]
    #[case::path_of_numbers("set default=\"1>1\"", ("Older ", "/vmlinuz-3"))]
    #[case::path_of_ids("set default='gnulinux-advanced-11>old'", ("Older ", "/vmlinuz-3"))]
    #[case::path_of_titles("set default='More>Newest'", ("Newest", "/vmlinuz-2"))]
    #[case::submenu("set default=1", ("Newest", "/vmlinuz-2"))]
    #[case::none_of_that_name("set default=gone", ("A \"first\"", "/vmlinuz-1"))]
    #[case::a_variable("set saved_entry=2\nif [ -n \"${saved_entry}\" ]; then set default=\"${saved_entry}\"; fi", ("Other system", "/EFI/Microsoft/Boot/bootmgfw.efi"))]
    #[case::next_entry("set next_entry=new\nif [ \"${next_entry}\" ] ; then\n set default=\"gnulinux-advanced-11>${next_entry}\"\n set next_entry=\nelse set default=2\nfi", ("Newest", "/vmlinuz-2"))]
    fn the_entry_that_starts_is_found(#[case] before: &str, #[case] expected: (&str, &str)) {
        let outcome = started(&format!("{before}\n{MENU}"));
        assert_eq!(kernel(&outcome.chosen), expected, "{outcome:?}");
        assert_eq!(outcome.titles.len(), 3 + usize::from(outcome.titles.iter().any(|title| title.starts_with("More:"))));
    }

    #[test]
    fn words_are_taken_apart_as_the_loader_does() {
        let outcome = started(MENU);
        let Chosen::Linux(entry) = &outcome.chosen else { panic!("{outcome:?}") };
        assert_eq!(entry.initrds, ["/a.img", "/b.img"]);
        assert_eq!(entry.options, ["root=/dev/sda1", "quiet"]);
        assert_eq!(entry.search, "UUID=1111-2222");
        let text = "set a='x y'\nset b=\nmenuentry t { linux /k $a \"$a\" $b \"$b\" c\\ d 'e'f}g $# ; initrd (hd0,gpt9)/i }\nset fallback='0 7'";
        let Outcome { chosen: Chosen::Linux(entry), fallback, .. } = started(text) else { panic!() };
        assert_eq!(entry.options, ["x", "y", "x y", "", "c d", "ef}g", "1"]);
        assert_eq!((fallback.len(), entry.initrds), (1, vec!["/i".to_string()]));
    }

    #[rstest]
    #[case("if true; then set x=1; elif true; then set x=2; else set x=3; fi", "1")]
    #[case("if false; then set x=1; elif ! false; then set x=2; else set x=3; fi", "2")]
    #[case("if [ a = b -o ! -z \"\" ]; then set x=1; else set x=3; fi", "3")]
    #[case("for i in 1 2 3; do set x=$i$x; done", "321")]
    #[case("function f { set x=$2; }\nf a b c", "b")]
    #[case("while [ \"$x\" != aaa ]; do set x=a$x; done", "aaa")]
    #[case("eval \"set x=4\"", "4")]
    fn conditions_and_loops_are_run(#[case] script: &str, #[case] expected: &str) {
        let outcome = started(&format!("{script}\nmenuentry $x {{ linux /k }}"));
        assert_eq!(kernel(&outcome.chosen), (expected, "/k"));
    }

    #[rstest]
    #[case::for_ever("while true; do set x=1; done")]
    #[case::for_ever_with_nothing("while ; do ; done")]
    #[case::loops_of_loops(&format!("set w='{}'\nfor a in $w; do for b in $w; do for c in $w; do done; done; done", "x ".repeat(4000)))]
    #[case::many_long_values(&format!("set x={}\nfor i in {}; do for j in {}; do set v$i$j=$x; done; done", "a".repeat(60_000), "1 2 3 4 5 6 7 8 9 ".repeat(40), "1 2 3 4 5 6 7 8 9 ".repeat(40)))]
    #[case::into_itself("function f { f; }\nf")]
    #[case::too_deep(&"if true; then ".repeat(5000))]
    #[case::twice_as_long(&format!("set x=aaaaaaaa\n{}", "set x=$x$x$x$x\n".repeat(60)))]
    #[case::words_of_words(&format!("set x='a b'\n{}", "set x=\"$x $x $x $x\"\n".repeat(20)))]
    fn what_never_ends_does(#[case] script: &str) {
        let outcome = started(&format!("{script}\nmenuentry y {{ linux /k $x $x $x $x }}"));
        assert!(outcome.is_beyond || kernel(&outcome.chosen).1 == "/k" || script.starts_with("if"));
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]
        #[test]
        fn any_text_is_survived(text in "([a-z '\"{}\\\\\n$()=#;/>-]|if |then |fi|menuentry |submenu |set |for |in |do |done|function |search |configfile ){0,200}") {
            let _ = started(&format!("{text}\n{MENU}\n{text}"));
        }
    }
}
