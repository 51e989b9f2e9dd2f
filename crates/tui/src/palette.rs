//! One field that finds any drive, partition, job or action by typing.

use crate::draw::{loud, say, sheet};
use crate::job::OpenJobs;
use crate::message::{PLACES, Place};
use crate::theme::Mean;
use badger_bench::ledger::JobRow;
use badger_bench::shelf::Item;
use crossterm::event::KeyCode;
use ratatui::Frame;
use ratatui::layout::Rect;
use std::path::PathBuf;

/// What choosing a line does.
#[derive(Clone)]
pub enum Action {
    /// Go to a place.
    Go(Place),
    /// Show a drive.
    Drive(PathBuf),
    /// Go to its files.
    Dig(PathBuf),
    /// Mark it as source.
    Source(PathBuf),
    /// Mark it as target.
    Target(PathBuf),
    /// Show an open job.
    OpenJob(usize),
    /// Open a job of the ledger.
    PastJob(Box<JobRow>),
    /// Make a job of the marked drives.
    NewJob,
    /// Help.
    Help,
    /// Leave.
    Leave,
}

/// What became of a key.
pub enum Answer {
    /// Goes on.
    Open,
    /// Shut without a choice.
    Closed,
    /// A line was chosen.
    Chosen(Action),
}

/// The field and the chosen line.
#[derive(Default)]
pub struct Palette {
    typed: String,
    chosen: usize,
}

const SHOWN: usize = 12;

/// What is searched.
#[derive(Clone, Copy)]
pub struct Field<'a> {
    /// The drives.
    pub items: &'a [Item],
    /// The jobs.
    pub jobs: &'a OpenJobs,
}

fn all(field: Field) -> Vec<(String, Action)> {
    let mut out = Vec::new();
    for item in field.items {
        let identity = &item.found.identity;
        let name = format!("{} {}", identity.model, identity.serial);
        out.push((format!("drive      {name}"), Action::Drive(item.path().clone())));
        for part in &item.ribbon.parts {
            out.push((
                format!("partition  {} {} {} on {}", part.number, part.name, part.content, identity.model),
                Action::Drive(item.path().clone()),
            ));
        }
        out.push((format!("dig        files of {name}"), Action::Dig(item.path().clone())));
        out.push((format!("source     take {name} as source"), Action::Source(item.path().clone())));
        out.push((format!("target     take {name} as target"), Action::Target(item.path().clone())));
    }
    for (at, job) in field.jobs.list.iter().enumerate() {
        out.push((format!("job        {} {}", job.name(), job.customer()), Action::OpenJob(at)));
    }
    for row in &field.jobs.past {
        let name = if row.ticket.is_empty() { format!("job {}", row.id) } else { row.ticket.clone() };
        out.push((
            format!("ledger     {name} {} of {}", row.customer, badger_bench::ledger::day(row.created)),
            Action::PastJob(Box::new(row.clone())),
        ));
    }
    out.push(("action     new job of the marked drives".into(), Action::NewJob));
    out.extend(PLACES.iter().map(|(place, key, name)| (format!("place      {name} ({key})"), Action::Go(*place))));
    out.push(("action     help".into(), Action::Help));
    out.push(("action     leave".into(), Action::Leave));
    out
}

impl Palette {
    fn matches(&self, field: Field) -> Vec<(String, Action)> {
        let typed = self.typed.to_lowercase();
        let words: Vec<&str> = typed.split_whitespace().collect();
        all(field).into_iter().filter(|(text, _)| words.iter().all(|word| text.to_lowercase().contains(word))).collect()
    }

    /// Takes a key.
    pub fn key(&mut self, code: KeyCode, field: Field) -> Answer {
        let matches = self.matches(field);
        match code {
            KeyCode::Esc => return Answer::Closed,
            KeyCode::Enter => return matches.into_iter().nth(self.chosen).map_or(Answer::Open, |(_, action)| Answer::Chosen(action)),
            KeyCode::Down => self.chosen = (self.chosen + 1).min(matches.len().saturating_sub(1)),
            KeyCode::Up => self.chosen = self.chosen.saturating_sub(1),
            KeyCode::Backspace => {
                self.typed.pop();
                self.chosen = 0;
            }
            KeyCode::Char(c) => {
                self.typed.push(c);
                self.chosen = 0;
            }
            _ => {}
        }
        Answer::Open
    }

    /// Draws the field and what it finds.
    pub fn draw(&self, field: Field, frame: &mut Frame, body: Rect) {
        let matches = self.matches(field);
        let count = format!("{} found", matches.len());
        let mut lines = vec![
            vec![loud(Mean::Focus, "find  "), loud(Mean::Text, self.typed.clone()), loud(Mean::Focus, "▏"), say(Mean::Quiet, format!("  {count}"))],
            vec![],
        ];
        let skip = self.chosen.saturating_sub(SHOWN - 1);
        for (at, (text, _)) in matches.iter().enumerate().skip(skip).take(SHOWN) {
            let (kind, rest) = text.split_at(11.min(text.len()));
            let chosen = at == self.chosen;
            lines.push(vec![
                loud(Mean::Focus, if chosen { "▸ " } else { "  " }),
                say(Mean::Quiet, kind.to_string()),
                if chosen { loud(Mean::Focus, rest.to_string()) } else { say(Mean::Text, rest.to_string()) },
            ]);
        }
        if matches.is_empty() {
            lines.push(vec![say(Mean::Quiet, "nothing by that name; Backspace takes letters back")]);
        }
        sheet(frame, body, 76, lines);
    }
}
