//! A job whose target is an image: what of the drive is kept, in which file, and what that takes.

use super::keep::Keep;
use super::lines::{hazard_lines, marked, stacked};
use super::look::{refused, side};
use super::view::{Entry, JobView};
use crate::draw::{cut, loud, pad, pad_left, print, ribbon, say};
use crate::running::Running;
use crate::step::Step;
use crate::theme::Mean;
use badger_bench::Bench;
use badger_drive::Refusal;
use badger_drive::size::{human, span};
use badger_image::Format;
use badger_jobs::{ImageOrder, Order, There};
use crossterm::event::KeyCode;
use ratatui::Frame;
use ratatui::layout::Rect;
use std::path::PathBuf;

impl JobView {
    /// A new job that keeps a drive in an image.
    pub fn image(order: ImageOrder, bench: &Bench) -> Self {
        let mut view = Self::blank(Order::new(order.source.clone(), order.file.clone()));
        (view.order.ticket, view.order.customer) = (order.ticket.clone(), order.customer.clone());
        let mut keep = Keep::new(order);
        keep.look(bench);
        view.keep = Some(keep);
        view
    }

    /// Looks once more.
    pub(super) fn look_at_image(&mut self, bench: &Bench) {
        if let Some(keep) = &mut self.keep {
            (keep.ready, keep.begins) = (None, false);
            self.order.target.clone_from(&keep.order.file);
            keep.look(bench);
        }
    }

    /// Takes in what a look brought.
    pub(super) fn image_looked(&mut self, bench: &Bench) {
        let Some(keep) = &mut self.keep else { return };
        let Some(looked) = keep.waiting.as_ref().and_then(|waiting| waiting.try_recv().ok()) else { return };
        keep.waiting = None;
        let begins = std::mem::take(&mut keep.begins);
        match looked {
            Ok(ready) => {
                let differs = keep.ready.as_ref().filter(|_| begins).and_then(|shown| shown.differs(&ready));
                keep.sight = Some(ready.sight());
                // What an unfinished image was begun with is shown, and can be changed.
                let ImageOrder { used, locked, parent, .. } = ready.order.clone();
                (keep.order.used, keep.order.locked, keep.order.parent) = (used, locked, parent);
                self.refusal = None;
                if let Some(what) = differs {
                    let text = format!("{what}; this is how it is now: read it again before you begin");
                    (self.misfit, keep.ready) = (Some(Refusal::new("shown-changed", text)), Some(ready));
                } else if begins {
                    keep.ready = None;
                    self.running = Some(Running::keep(bench.clone(), *ready));
                    (self.report, self.cursor, self.step) = (None, None, Step::Run);
                    keep.order.restart = false;
                } else {
                    keep.ready = Some(ready);
                }
            }
            Err(refusal) => (keep.ready, self.refusal) = (None, Some(refusal)),
        }
    }

    pub(super) fn keep_key(&mut self, code: KeyCode, bench: &Bench) {
        let Some(keep) = &mut self.keep else { return };
        let idle = keep.waiting.is_none() && self.running.is_none();
        let whole = keep.order.format.is_none();
        match code {
            KeyCode::Enter if self.running.is_some() => self.step = Step::Run,
            KeyCode::Enter if keep.ready.is_some() && idle => {
                self.misfit = None;
                keep.look_once_more(bench);
            }
            KeyCode::Char('o') if idle => self.entry = Some(Entry::File(keep.order.file.display().to_string())),
            KeyCode::Char('p') if idle && whole => {
                self.entry = Some(Entry::Parent(keep.order.parent.as_ref().map(|path| path.display().to_string()).unwrap_or_default()));
            }
            KeyCode::Char('u') if idle => {
                keep.order.used = !keep.order.used;
                self.look_at_image(bench);
            }
            KeyCode::Char('n') if idle && super::keep::may_begin_anew(keep, self.refusal.as_ref()) => {
                keep.order.restart = !keep.order.restart;
                self.look_at_image(bench);
            }
            KeyCode::Char('r') if idle => self.look_at_image(bench),
            _ => {}
        }
    }

    /// Takes the name of the file that was typed; its ending says the format.
    pub(super) fn typed_file(&mut self, text: &str, bench: &Bench) {
        let Some(keep) = &mut self.keep else { return };
        let file = PathBuf::from(text.trim());
        match Format::of_name(&file) {
            Some(format) => (keep.order.file, keep.order.format, self.misfit) = (file, format, None),
            None => {
                let text = "the name ends in .zbi for an image of our own, or in .qcow2, .vhd, .vhdx, .vmdk, .vdi for programs that run virtual machines, or in .raw for the bytes as they are";
                self.misfit = Some(Refusal::new("usage", text));
                return;
            }
        }
        if keep.order.format.is_some() {
            keep.order.parent = None;
        }
        self.look_at_image(bench);
    }

    pub(super) fn typed_parent(&mut self, text: &str, bench: &Bench) {
        if let Some(keep) = &mut self.keep {
            keep.order.parent = Some(text.trim()).filter(|text| !text.is_empty()).map(PathBuf::from);
            self.look_at_image(bench);
        }
    }

    /// Ticket, customer and who does it, into the order.
    pub(super) fn name_image(&mut self) {
        if let Some(keep) = &mut self.keep {
            (keep.order.ticket, keep.order.customer) = (self.order.ticket.clone(), self.order.customer.clone());
        }
    }
}

fn format_word(format: Option<Format>) -> &'static str {
    format.map_or("our own, packed, each chunk with its hash", Format::word)
}

/// Draws the step: Look or Plan.
pub(super) fn draw(job: &JobView, frame: &mut Frame, area: Rect) -> Vec<(Rect, usize)> {
    if let Some(keep) = &job.keep {
        let draw = if job.step == Step::Look { draw_look } else { draw_plan };
        draw(job, keep, frame, area);
    }
    Vec::new()
}

/// Draws Look: the drive, and where it goes.
fn draw_look(job: &JobView, keep: &Keep, frame: &mut Frame, area: Rect) {
    let buf = frame.buffer_mut();
    let Some(sight) = &keep.sight else {
        match &job.refusal {
            Some(refusal) => refused(buf, area, &refusal.text, refusal.code),
            None => print(buf, area.x, area.y, area.width, vec![say(Mean::Quiet, job.wait_text())]),
        }
        return;
    };
    let half = (area.width - 3) / 2;
    let (left, right) = (Rect { width: half, ..area }, Rect { x: area.x + half + 3, width: half, ..area });
    let low = side(buf, left, "◂ source, only read", Mean::Source, &sight.source);
    let width = usize::from(half);
    let dir = keep.order.file.parent().map(|dir| dir.display().to_string()).unwrap_or_default();
    let name = keep.order.file.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let field = |name: &str, text: &str| vec![say(Mean::Quiet, format!("{} ", pad(name, 10))), say(Mean::Text, cut(text, width.saturating_sub(11)))];
    let mut lines = vec![
        vec![loud(Mean::Target, "▸ image, a new file")],
        vec![loud(Mean::Text, cut(&name, width))],
        vec![],
        vec![],
        vec![],
        field("in", &dir),
        field("free there", &sight.free.map_or_else(|| "not told".into(), human)),
        field("format", format_word(keep.order.format)),
    ];
    match sight.there {
        There::Nothing => {}
        There::Unfinished => lines.push(vec![loud(Mean::Good, "● goes on  "), say(Mean::Text, "an unfinished image of this drive is there")]),
        There::GivenUp => lines.push(vec![loud(Mean::Mind, "▲ anew  "), say(Mean::Text, "the unfinished image there is given up")]),
        There::Unproved => {
            lines.push(vec![loud(Mean::Good, "● proof left  "), say(Mean::Text, "the image is whole; the run that made it ended early")])
        }
    }
    for (spans, y) in lines.into_iter().zip(right.y..right.bottom()) {
        print(buf, right.x, y, right.width, spans);
    }
    stacked(buf, Rect { y: low + 1, height: area.bottom().saturating_sub(low + 1), ..area }, hazard_lines(&sight.hazards, usize::from(area.width)));
}

/// A bar of what something is of a whole.
fn share_bar(of: u64, whole: u64, width: u16, mean: Mean) -> [ratatui::text::Span<'static>; 2] {
    let full = (u128::from(of.min(whole)) * u128::from(width) / u128::from(whole.max(1))) as usize;
    let full = if of > 0 { full.max(1) } else { 0 };
    [say(mean, "█".repeat(full)), say(Mean::Quiet, "░".repeat(usize::from(width) - full))]
}

/// Draws Plan: the drive above; what is read of it, what that becomes, and the room there, to one scale.
fn draw_plan(job: &JobView, keep: &Keep, frame: &mut Frame, area: Rect) {
    let Some(sight) = &keep.sight else { return draw_look(job, keep, frame, area) };
    let label = 10;
    let room = area.width.saturating_sub(label);
    let size = sight.source.size_bytes;
    // What stands beside the bars has room too; all are to one scale.
    let wide = ribbon::length(size, room).min(room.saturating_sub(34)).max(10);
    let buf = frame.buffer_mut();
    let thick = if area.height >= 26 { 2 } else { 1 };
    print(buf, area.x, area.y, label, vec![say(Mean::Source, human(size))]);
    ribbon::draw_thick(buf, area.x + label, area.y, wide, thick, &sight.source.ribbon, ribbon::Look { mean: Mean::Source, chosen: None });
    let mut y = area.y + thick + 1;
    let about = sight.estimate.stored.min(size);
    let rows = [
        ("reads", sight.bytes, Mean::Source, if sight.sparing { "only what is in use".to_string() } else { "everything, as it is".into() }),
        ("image", about, Mean::Target, "about, by a sample".into()),
    ];
    for (name, bytes, mean, says) in rows {
        let mut spans = vec![say(Mean::Quiet, pad(name, usize::from(label)))];
        spans.extend(share_bar(bytes, size, wide, mean));
        spans.push(say(Mean::Text, format!(" {}", pad_left(&human(bytes), 8))));
        spans.push(say(Mean::Quiet, format!("  {says}")));
        print(buf, area.x, y, area.width, spans);
        y += 1;
    }
    y += 1;
    let format = format_word(keep.order.format);
    let parent = keep
        .order
        .parent
        .as_ref()
        .map_or_else(|| "nothing: it stands alone".into(), |path| format!("{}: only what changed since is stored", path.display()));
    let free = sight.free.map_or_else(|| "not told".into(), human);
    let mut fields = vec![("into", keep.order.file.display().to_string()), ("free", format!("{free} there")), ("format", format.to_string())];
    if keep.order.format.is_none() {
        fields.push(("goes on", parent));
    }
    for (name, text) in fields {
        print(buf, area.x, y, area.width, vec![say(Mean::Quiet, pad(name, usize::from(label))), say(Mean::Text, cut(&text, usize::from(room)))]);
        y += 1;
    }
    y += 1;
    let width = usize::from(area.width);
    let mut more = Vec::new();
    if let Some(misfit) = &job.misfit {
        more.extend(marked(Mean::Mind, "▲ not taken  ", &misfit.text, width));
    }
    if let Some(refusal) = &job.refusal {
        more.extend(marked(Mean::Stop, "◆ stop  ", &refusal.text, width));
    }
    if let Some(report) = job.report.as_ref().filter(|report| !report.reason.is_empty()) {
        more.push(vec![loud(Mean::Mind, "◐ broken off  "), say(Mean::Text, report.reason.clone())]);
    }
    match sight.there {
        There::Nothing => {}
        There::Unfinished => {
            more.push(vec![loud(Mean::Good, "● goes on  "), say(Mean::Text, "behind what the unfinished image there holds already")])
        }
        There::GivenUp => more.push(vec![loud(Mean::Mind, "▲ anew  "), say(Mean::Text, "Enter gives up the unfinished image that is there")]),
        There::Unproved => {
            more.push(vec![loud(Mean::Good, "● proof left  "), say(Mean::Text, "Enter reads the image back; nothing is copied again")])
        }
    }
    more.extend(hazard_lines(&sight.hazards, width));
    // The last line says what it comes to.
    let y = stacked(buf, Rect { y, height: area.bottom().saturating_sub(y + 1), ..area }, more);
    let time = if sight.estimate.seconds >= 1.0 {
        format!(" · reading takes at least {}, then the image is read back", span(sight.estimate.seconds))
    } else {
        String::new()
    };
    let state = match () {
        () if keep.begins => "looking at the drive once more ... ",
        () if keep.is_waiting() => "looking ... ",
        () => "",
    };
    let last = vec![say(Mean::Mind, state), say(Mean::Text, format!("{} to read", human(sight.bytes))), say(Mean::Quiet, time)];
    print(buf, area.x, (y + 1).min(area.bottom().saturating_sub(1)), area.width, last);
}
