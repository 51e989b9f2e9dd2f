//! The keys of Dig.

use super::view::{Choice, Dig, Entry, choices};
use crate::message::{Message, Place};
use badger_bench::Bench;
use badger_bench::browse::rows;
use badger_bench::shelf::Item;
use badger_people::copyout::Collision;
use crossterm::event::KeyCode;
use std::path::{Path, PathBuf};

/// Takes a key of Dig.
pub fn key(dig: &mut Dig, items: &[Item], code: KeyCode, bench: &Bench) -> Option<Message> {
    if let Some(entry) = dig.entry.take() {
        dig.entry = typed(dig, bench, entry, code);
        return None;
    }
    if dig.view.is_none() {
        return choice_key(dig, items, code, bench);
    }
    view_key(dig, code, bench);
    None
}

/// Takes a key while nothing is open.
fn choice_key(dig: &mut Dig, items: &[Item], code: KeyCode, bench: &Bench) -> Option<Message> {
    let choices = choices(items, dig.only.as_deref());
    match code {
        KeyCode::Down => dig.chosen = (dig.chosen + 1).min(choices.len().saturating_sub(1)),
        KeyCode::Up => dig.chosen = dig.chosen.saturating_sub(1),
        KeyCode::Enter | KeyCode::Right => {
            if let Some(choice) = choices.get(dig.chosen) {
                dig.open(choice.clone(), bench);
            }
        }
        KeyCode::Char('o') => dig.entry = Some(Entry::Folder(String::new())),
        KeyCode::Esc => return Some(Message::Go(Place::Bench)),
        _ => {}
    }
    None
}

/// Takes a key in an opened tree.
fn view_key(dig: &mut Dig, code: KeyCode, bench: &Bench) {
    let Some(view) = &mut dig.view else { return };
    if let Some((_, answer)) = &view.clash {
        let choice = match code {
            KeyCode::Char('s') => Collision::Skip,
            KeyCode::Char('k') => Collision::KeepBoth,
            KeyCode::Char('n') => Collision::ReplaceIfNewer,
            _ => return,
        };
        // A copy that ended meanwhile needs no answer.
        let _ = answer.send(choice);
        view.clash = None;
        return;
    }
    match code {
        KeyCode::Down => view.step(1),
        KeyCode::Up => view.step(-1),
        KeyCode::PageDown => view.step(20),
        KeyCode::PageUp => view.step(-20),
        KeyCode::Home => view.step(isize::MIN + 1),
        KeyCode::End => view.step(isize::MAX),
        KeyCode::Enter => view.open_row(),
        KeyCode::Right if view.search.is_some() || view.row().is_some_and(|row| !row.open) => view.open_row(),
        KeyCode::Left if view.search.is_none() => {
            view.shut_row();
            view.wish(false);
        }
        KeyCode::Char(' ') => view.pick(),
        KeyCode::Char('p') => {
            view.mode = view.mode.next();
            view.scroll = 0;
        }
        KeyCode::Char(']') => view.scroll(1),
        KeyCode::Char('[') => view.scroll(-1),
        KeyCode::Char('r') => view.wish(true),
        KeyCode::Char('s') => {
            view.sort = view.sort.next();
            view.rows = rows::sorted(std::mem::take(&mut view.rows), view.sort);
            let sort = view.sort;
            if let Some(search) = &mut view.search {
                search.rows.sort_by_cached_key(|row| sort.key(&row.entry));
            }
            view.wish(false);
        }
        KeyCode::Char('f') => dig.entry = Some(Entry::Find(view.search.as_ref().map(|search| search.text.clone()).unwrap_or_default())),
        KeyCode::Char('v') => {
            let earlier = view.earlier.as_ref().map(|earlier| earlier.display().to_string());
            dig.entry = Some(Entry::Earlier(earlier.unwrap_or_default()));
        }
        KeyCode::Char('w') if view.opened.is_salvaged => view.want(),
        KeyCode::Char('o') => {
            let into = view.into.as_ref().map(|into| into.display().to_string()).unwrap_or_default();
            dig.entry = Some(Entry::Into(into));
        }
        KeyCode::Char('m') => {
            view.collision = match view.collision {
                Collision::Skip => Collision::KeepBoth,
                Collision::KeepBoth => Collision::ReplaceIfNewer,
                Collision::ReplaceIfNewer => Collision::Ask,
                Collision::Ask => Collision::Skip,
            }
        }
        KeyCode::Char('c') => dig.entry = view.copy(bench),
        KeyCode::Char('x') => {
            if let Some(copying) = &view.copying {
                copying.control.stop();
            } else {
                view.tray.clear();
            }
        }
        KeyCode::Esc if view.search.is_some() => view.end_search(),
        KeyCode::Esc if view.said.is_some() => view.said = None,
        KeyCode::Esc if view.copying.is_none() => {
            dig.close();
            dig.view = None;
        }
        _ => {}
    }
}

/// Takes a letter of what is being typed; gives what is still open.
fn typed(dig: &mut Dig, bench: &Bench, entry: Entry, code: KeyCode) -> Option<Entry> {
    let edit = |mut text: String| match code {
        KeyCode::Backspace => {
            text.pop();
            text
        }
        KeyCode::Char(c) => {
            text.push(c);
            text
        }
        _ => text,
    };
    match (entry, code) {
        (_, KeyCode::Esc) => None,
        (Entry::Folder(text), KeyCode::Enter) => {
            if !text.trim().is_empty() {
                dig.open(folder(Path::new(text.trim())), bench);
            }
            None
        }
        (Entry::Find(text), KeyCode::Enter) => {
            dig.view.as_mut()?.begin_search(text);
            None
        }
        (Entry::Into(text), KeyCode::Enter) => {
            let view = dig.view.as_mut()?;
            view.into = (!text.trim().is_empty()).then(|| PathBuf::from(text.trim()));
            view.measure();
            None
        }
        (Entry::Earlier(text), KeyCode::Enter) => {
            dig.view.as_mut()?.compare(text.trim(), bench);
            None
        }
        (Entry::Earlier(text), _) => Some(Entry::Earlier(edit(text))),
        (Entry::Find(text), _) => Some(Entry::Find(edit(text))),
        (Entry::Into(text), _) => Some(Entry::Into(edit(text))),
        (Entry::Folder(text), _) => Some(Entry::Folder(edit(text))),
    }
}

/// The keys at the bottom.
pub fn hints(dig: &Dig) -> Vec<(&'static str, &'static str)> {
    match (&dig.entry, &dig.view) {
        (Some(_), _) => vec![("Enter", "take it"), ("Esc", "leave it")],
        (None, None) => vec![("↑↓", "choose"), ("Enter", "dig into it"), ("o", "a folder of this machine"), ("Esc", "bench")],
        (None, Some(view)) if view.clash.is_some() => vec![("s", "skip"), ("k", "keep both"), ("n", "replace if newer")],
        (None, Some(view)) => {
            let mut hints = vec![
                ("Enter", "open"),
                ("Space", "to the tray"),
                ("p", "preview"),
                ("[ ]", "scroll"),
                ("f", "find"),
                ("v", "what changed"),
                ("s", "sort"),
            ];
            if view.copying.is_some() {
                hints.insert(0, ("x", "stop the copy"));
            } else if !view.tray.is_empty() {
                hints.insert(0, ("c", if view.into.is_some() { "copy out" } else { "copy out to ..." }));
            }
            if view.opened.is_salvaged {
                hints.insert(0, ("w", "read it next"));
            }
            hints.extend([("o", "where to"), ("m", "clashes"), ("r", "read through"), ("Esc", "back")]);
            hints
        }
    }
}

/// A folder of this machine as a choice.
fn folder(path: &Path) -> Choice {
    let name = path.display().to_string();
    Choice { path: path.to_path_buf(), number: None, drive: "this machine".into(), name, content: "folder".into(), len: 0, used: None }
}
