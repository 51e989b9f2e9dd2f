//! The job on the screen: its five steps down the left edge, the step in hand beside them.

use super::keep::may_begin_anew;
use super::open::OpenJobs;
use super::view::JobView;
use super::{entry, hand, imaging, look, plan, prove, rescuing, run, salvaging};
use crate::draw::{cut, inset, loud, print, print_right, say};
use crate::message::{Hit, Hits};
use crate::step::{STEPS, Step};
use crate::theme::Mean;
use badger_layout::plan::Ids;
use ratatui::Frame;
use ratatui::layout::Rect;

/// From this width on the steps run down the left edge.
const SPINE: u16 = 100;

/// Draws the current job; sample drives are hurried by a factor.
pub fn draw(jobs: &mut OpenJobs, hurry: u32, frame: &mut Frame, body: Rect, hits: &mut Hits) {
    let area = inset(body, 1);
    let Some(job) = jobs.list.get_mut(jobs.current) else {
        let buf = frame.buffer_mut();
        print(buf, area.x, area.y, area.width, vec![say(Mean::Quiet, "No job is open.")]);
        print(
            buf,
            area.x,
            area.y + 2,
            area.width,
            vec![
                say(Mean::Text, "On the bench, mark a source with "),
                loud(Mean::Focus, "s"),
                say(Mean::Text, " and a target with "),
                loud(Mean::Focus, "t"),
                say(Mean::Text, ", then press "),
                loud(Mean::Focus, "j"),
                say(Mean::Text, "."),
            ],
        );
        print(
            buf,
            area.x,
            area.y + 3,
            area.width,
            vec![say(Mean::Text, "Jobs that are over, or wait to be picked up, are in the ledger: "), loud(Mean::Focus, "5"), say(Mean::Text, ".")],
        );
        return;
    };
    let buf = frame.buffer_mut();
    let (from, to) = job.title();
    let half = usize::from(area.width) / 2;
    print(buf, area.x, area.y, half as u16, vec![loud(Mean::Text, job.name()), say(Mean::Text, format!("  {}", job.customer()))]);
    print_right(
        buf,
        area,
        area.y,
        vec![
            loud(Mean::Source, format!("◂ {}", cut(&from, half / 2 - 4))),
            say(Mean::Quiet, "  →  "),
            loud(Mean::Target, format!("▸ {}", cut(&to, half / 2 - 4))),
        ],
    );
    let inner = if area.width >= SPINE { spine(job, buf, area, hits) } else { row_of_steps(job, buf, area, hits) };
    let lines = match job.step {
        Step::Look | Step::Plan if job.rescue.is_some() => rescuing::draw(job, frame, inner),
        Step::Run if job.rescue.is_some() => salvaging::draw(job, frame, inner, hits),
        Step::Look | Step::Plan if job.keep.is_some() => imaging::draw(job, frame, inner),
        Step::Look => look::draw(job, frame, inner),
        Step::Plan => plan::draw(job, frame, inner),
        Step::Run => run::draw(job, frame, inner, hurry, hits),
        Step::Prove => prove::draw(job, frame, inner),
        Step::Hand => hand::draw(job, frame, inner),
    };
    hits.extend(lines.into_iter().map(|(rect, line)| (rect, Hit::Line(line))));
    entry::draw(job, frame, inner);
}

fn spine(job: &JobView, buf: &mut ratatui::buffer::Buffer, area: Rect, hits: &mut Hits) -> Rect {
    let gap = (area.height.saturating_sub(2) / 5).clamp(2, 4);
    for (at, step) in STEPS.into_iter().enumerate() {
        let y = area.y + 2 + at as u16 * gap;
        let (mark, mean) = job.mark(step);
        let here = job.step == step;
        print(
            buf,
            area.x,
            y,
            11,
            vec![loud(mean, format!("{mark} ")), if here { loud(Mean::Focus, step.word()) } else { say(Mean::Quiet, step.word()) }],
        );
        hits.push((Rect { x: area.x, y, width: 11, height: 1 }, Hit::Step(step)));
        if at < 4 {
            (y + 1..y + gap).for_each(|y| print(buf, area.x, y, 1, vec![say(Mean::Quiet, "│")]));
        }
    }
    Rect { x: area.x + 13, y: area.y + 2, width: area.width - 13, height: area.height - 2 }
}

fn row_of_steps(job: &JobView, buf: &mut ratatui::buffer::Buffer, area: Rect, hits: &mut Hits) -> Rect {
    let mut x = area.x;
    for step in STEPS {
        let (mark, mean) = job.mark(step);
        let here = job.step == step;
        let wide = step.word().len() as u16 + 2;
        print(
            buf,
            x,
            area.y + 1,
            wide,
            vec![loud(mean, format!("{mark} ")), if here { loud(Mean::Focus, step.word()) } else { say(Mean::Quiet, step.word()) }],
        );
        hits.push((Rect { x, y: area.y + 1, width: wide, height: 1 }, Hit::Step(step)));
        x += wide + 3;
    }
    Rect { y: area.y + 3, height: area.height - 3, ..area }
}

/// The keys at the bottom.
pub fn hints(jobs: &OpenJobs) -> Vec<(&'static str, &'static str)> {
    let Some(job) = jobs.list.get(jobs.current) else { return Vec::new() };
    match job.step {
        _ if job.entry.is_some() => vec![("Esc", "back")],
        Step::Look => vec![("Enter", "plan"), ("e", "ticket")],
        Step::Plan if job.running.is_some() => vec![("Enter", "to the run")],
        Step::Plan if job.rescue.is_some() => rescue_hints(job),
        Step::Plan if job.keep.is_some() => keep_hints(job),
        Step::Plan => clone_hints(job),
        Step::Run if job.rescue.is_some() => {
            let held = job.running.as_ref().is_some_and(|running| running.control.is_paused());
            let mut hints = vec![("Space", if held { "go on" } else { "hold" }), ("x", "stop"), ("arrows", "cursor")];
            if job.cursor.is_some() {
                hints.extend([("g", "go here"), ("p", "this first"), ("n", "leave this out")]);
            }
            hints.extend([("d", "dig"), ("b", "other way"), ("z", "rest 2 min"), ("l", "limit"), ("h", "hurry")]);
            hints
        }
        Step::Run => {
            let held = job.running.as_ref().is_some_and(|running| running.control.is_paused());
            vec![("Space", if held { "go on" } else { "hold" }), ("x", "stop"), ("l", "limit"), ("arrows", "cursor"), ("h", "hurry")]
        }
        Step::Prove if job.is_rehearsing() => vec![("x", "stop the rehearsal"), ("Esc", "back")],
        Step::Prove => {
            let mut hints = vec![("↑↓", "choose"), ("Enter", "evidence")];
            if job.keep.is_some() {
                hints.push(("d", "dig into the image"));
            }
            if job.may_mend() {
                hints.push(("m", "mend"));
            }
            if job.may_rehearse() {
                hints.push(("h", "rehearse"));
            }
            hints.extend([("Esc", "back"), ("o", "hand over")]);
            hints
        }
        Step::Hand => vec![("w", "write papers"), ("←→", "keep until"), ("Enter", "handed over"), ("Esc", "back")],
    }
}

type Hints = Vec<(&'static str, &'static str)>;

/// Of the plan of a salvage.
fn rescue_hints(job: &JobView) -> Hints {
    let Some(rescue) = &job.rescue else { return Vec::new() };
    let mut hints = Vec::new();
    if rescue.ready.is_some() {
        hints.push(("Enter", if rescue.sight.as_ref().is_some_and(|sight| sight.known) { "begin" } else { "release" }));
    }
    hints.extend([
        ("o", "onto"),
        ("f", "what first"),
        ("l", "limits"),
        ("u", if rescue.order.used.unwrap_or_default() { "free space too" } else { "only what is in use" }),
    ]);
    if rescue.sight.as_ref().is_some_and(|sight| sight.begun) {
        hints.push(("n", if rescue.order.again { "go on" } else { "begin anew" }));
    }
    hints.extend([("r", "look again"), ("e", "ticket"), ("Esc", "back")]);
    hints
}

/// Of the plan of an image.
fn keep_hints(job: &JobView) -> Hints {
    let Some(keep) = &job.keep else { return Vec::new() };
    let mut hints = Vec::new();
    if keep.ready.is_some() && !keep.begins {
        hints.push(("Enter", "begin"));
    }
    hints.push(("o", "file"));
    hints.push(("u", if keep.order.used { "everything" } else { "only what is in use" }));
    if keep.order.format.is_none() {
        hints.push(("p", "go on from"));
    }
    if may_begin_anew(keep, job.refusal.as_ref()) {
        hints.push(("n", if keep.order.restart { "go on" } else { "begin anew" }));
    }
    hints.extend([("r", "look again"), ("e", "ticket"), ("Esc", "back")]);
    hints
}

/// Of the plan of a clone.
fn clone_hints(job: &JobView) -> Hints {
    let mut hints = Vec::new();
    if job.prepared.is_some() && job.stops() == 0 {
        hints.push(("Enter", "release"));
    }
    if job.sight.as_ref().is_some_and(|sight| sight.done_before.is_some()) {
        hints.push(("n", "begin anew"));
    } else {
        if job.order.fit.is_some() {
            hints.extend([("↑↓", "partition"), ("←→", "its end"), ("< >", "its start"), ("s", "size"), ("o", "leave out"), ("p", "proposal")]);
            hints.extend([("m", "table"), ("f", "as it is")]);
            return hints;
        }
        hints.push(("i", if job.order.ids == Ids::Keep { "fresh ids" } else { "keep ids" }));
        hints.push(("u", if job.order.used.is_none() { "only what is in use" } else { "what of the rest" }));
        hints.push(("f", "fit to the target"));
        hints.push(("w", "what machine"));
        if job.may_wake() {
            hints.push(("z", if job.order.wishes.afresh { "leave it asleep" } else { "start afresh" }));
        }
    }
    hints.extend([("a", "second reading"), ("r", "look again"), ("Esc", "back")]);
    hints
}
