//! A target is started in a virtual machine: its screen is shown in the terminal while somebody watches.

use super::rehearses::{Rehearses, Running, Shown};
use super::view::JobView;
use crate::draw::{cut, loud, picture, print, print_right, say};
use crate::theme::Mean;
use badger_bench::Bench;
use badger_drive::Control;
use badger_drive::size::span;
use badger_jobs::rehearsing::{RehearseOrder, stand_in};
use badger_transfer::{Line, Outcome, Verdict};
use ratatui::Frame;
use ratatui::layout::Rect;
use std::sync::mpsc::channel;
use std::time::Duration;

/// Dots that a screen is made smaller to, before it is handed on.
const DOTS: (usize, usize) = (320, 200);
/// So long it may take.
const PATIENCE: Duration = Duration::from_secs(15 * 60);

impl JobView {
    /// Whether its target can be started now.
    pub(super) fn may_rehearse(&self) -> bool {
        let is_over = self.report.as_ref().is_some_and(|report| report.outcome != Outcome::Interrupted && report.outcome != Outcome::Refused);
        is_over && self.running.is_none() && matches!(self.rehearses, Rehearses::Nothing) && self.mends.waits().is_none()
    }

    /// Whether one goes on.
    pub(super) fn is_rehearsing(&self) -> bool {
        matches!(self.rehearses, Rehearses::Running(_))
    }

    /// Starts it.
    pub(super) fn rehearse(&mut self, bench: &Bench) {
        let Some(report) = &self.report else { return };
        let order = RehearseOrder { target: report.target.clone().into(), machine: self.order.machine.clone(), patience: PATIENCE };
        let ((tell, scenes), (give, done), control, bench) = (channel(), channel(), Control::new(), bench.clone());
        let stops = control.clone();
        let thread = std::thread::spawn(move || {
            let result = order.run(&bench, &stops, &|scene| {
                let dots = scene.picture.scaled(DOTS.0.min(scene.picture.width), DOTS.1.min(scene.picture.height));
                // Whoever left does not look any more, and ends it by the control.
                let _ = tell.send(Shown {
                    dots: dots.points.chunks_exact(3).map(|dot| [dot[0], dot[1], dot[2]]).collect(),
                    width: dots.width as u32,
                    text: scene.text.clone(),
                    serial: scene.serial.clone(),
                    seconds: scene.seconds,
                    is_accelerated: scene.is_accelerated,
                });
            });
            // As above; the ledger has it all the same.
            let _ = give.send(result);
        });
        self.rehearses = Rehearses::Running(Box::new(Running { control, scenes, now: None, done, thread }));
    }

    /// Ends it before anything is known.
    pub(super) fn stop_rehearsal(&mut self) {
        if let Rehearses::Running(running) = &self.rehearses {
            running.control.stop();
        }
    }

    /// Takes in how it stands.
    pub(super) fn rehearsal_turn(&mut self) {
        let Rehearses::Running(running) = &mut self.rehearses else { return };
        if let Some(last) = running.scenes.try_iter().last() {
            running.now = Some(last);
        }
        let Ok(result) = running.done.try_recv() else { return };
        self.rehearses = Rehearses::Nothing;
        let Some(report) = &mut self.report else { return };
        match result {
            Ok(rehearsed) => stand_in(report, &rehearsed),
            Err(refusal) => {
                let line = Line::new("boot", Verdict::NotChecked, format!("it was not rehearsed: {}", refusal.text));
                report.say_of_boot(Line { link: "rehearsal".into(), ..line });
            }
        }
        self.row = report.proof.iter().position(|line| line.link == "rehearsal").unwrap_or(self.row);
        self.ledger_changed = true;
    }
}

/// Draws what its screen shows, and what came over the serial line.
pub(super) fn draw(running: &Running, name: &str, frame: &mut Frame, area: Rect) {
    let buf = frame.buffer_mut();
    let Some(now) = &running.now else {
        return print(buf, area.x, area.y, area.width, vec![say(Mean::Focus, "○ the target is lent to a virtual machine, for reading only ...")]);
    };
    let how = if now.is_accelerated { "by this processor" } else { "emulated" };
    let head = vec![loud(Mean::Focus, "○ rehearsal "), say(Mean::Text, name.to_string()), say(Mean::Quiet, format!("  {} {how}", span(now.seconds)))];
    print(buf, area.x, area.y, area.width, head);
    print_right(buf, area, area.y, vec![say(Mean::Good, "nothing is written to the target")]);
    let below = (area.height / 4).clamp(3, 9);
    let room = Rect { y: area.y + 2, height: area.height.saturating_sub(below + 4), ..area };
    // Where it shows text, letters say more than dots.
    let rows = if now.text.is_empty() {
        picture::draw(buf, room, now.width, &now.dots)
    } else {
        let skip = now.text.len().saturating_sub(usize::from(room.height));
        let lines = now.text.iter().skip(skip);
        lines
            .clone()
            .zip(room.y..)
            .for_each(|(line, y)| print(buf, room.x, y, room.width, vec![say(Mean::Text, cut(line, usize::from(room.width)))]));
        lines.len() as u16
    };
    let y = room.y + rows.min(room.height) + 1;
    print(buf, area.x, y, area.width, vec![say(Mean::Quiet, "serial line")]);
    let left = usize::from(area.bottom().saturating_sub(y + 1));
    let said: Vec<&String> = now.serial.iter().filter(|line| !line.trim().is_empty()).collect();
    if said.is_empty() {
        print(buf, area.x, y + 1, area.width, vec![say(Mean::Quiet, "  it has said nothing yet")]);
    }
    for (line, y) in said.iter().skip(said.len().saturating_sub(left)).zip(y + 1..) {
        print(buf, area.x, y, area.width, vec![say(Mean::Quiet, "│ "), say(Mean::Text, cut(line.trim(), usize::from(area.width) - 2))]);
    }
}
