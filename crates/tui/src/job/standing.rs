//! How a job stands, for its marks, its tab and the list of jobs.

use super::keep::Keep;
use super::rescue::Rescue;
use super::view::JobView;
use crate::draw::say;
use crate::step::Step;
use crate::theme::Mean;
use badger_drive::size::span;
use badger_inspect::Level;
use badger_transfer::Outcome;
use ratatui::text::Span;

impl JobView {
    /// Its number in the ledger.
    pub fn number(&self) -> Option<i64> {
        self.job
    }

    /// Its ticket, or whatever else names it.
    pub fn name(&self) -> String {
        match self.job {
            _ if !self.order.ticket.is_empty() => self.order.ticket.clone(),
            Some(number) => format!("job {number}"),
            None => "new job".into(),
        }
    }

    /// The customer.
    pub fn customer(&self) -> String {
        self.order.customer.clone()
    }

    /// Whether a run goes on.
    pub fn is_running(&self) -> bool {
        self.running.as_ref().is_some_and(|running| !running.is_over())
    }

    /// Whether it still has something to do with its drives.
    pub fn is_live(&self) -> bool {
        self.report.as_ref().is_none_or(|report| report.outcome == Outcome::Interrupted)
    }

    /// Whether keys are letters.
    pub fn is_typing(&self) -> bool {
        self.entry.is_some() || self.again.is_some()
    }

    /// Whether a thread works for it, so that the screen may change at any moment.
    pub fn is_busy(&self) -> bool {
        self.is_running()
            || self.waiting.is_some()
            || self.again.is_some()
            || self.keep.as_ref().is_some_and(Keep::is_waiting)
            || self.rescue.as_ref().is_some_and(Rescue::is_waiting)
            || self.mends.waits().is_some()
            || self.is_rehearsing()
    }

    /// The furthest step that has something to show.
    pub(super) fn reached(&self) -> Step {
        match &self.report {
            Some(report) if report.outcome != Outcome::Interrupted => Step::Hand,
            _ if self.running.is_some() => Step::Run,
            _ => Step::Plan,
        }
    }

    /// The mark of a step.
    pub fn mark(&self, step: Step) -> (&'static str, Mean) {
        let done = ("●", Mean::Good);
        let hand = ("◐", Mean::Focus);
        let not = ("○", Mean::Quiet);
        let over = self.report.as_ref().filter(|report| report.outcome != Outcome::Interrupted);
        match step {
            Step::Look => {
                if self.has_sight() || over.is_some() {
                    done
                } else {
                    hand
                }
            }
            Step::Plan => {
                if self.running.is_some() || over.is_some() {
                    done
                } else if self.step == Step::Plan {
                    hand
                } else {
                    not
                }
            }
            Step::Run => match &self.report {
                _ if self.running.is_some() => hand,
                _ if over.is_some() => done,
                Some(_) => hand,
                None => not,
            },
            Step::Prove => match over.map(|report| report.outcome) {
                Some(Outcome::Proved) => done,
                Some(Outcome::Incomplete) => ("╳", Mean::Lost),
                Some(_) => ("◆", Mean::Stop),
                None => not,
            },
            Step::Hand => {
                if self.handed {
                    done
                } else {
                    not
                }
            }
        }
    }

    /// Share done and a short text for a running job.
    pub fn progress_text(&self) -> (f64, String) {
        let Some(running) = &self.running else { return (0.0, String::new()) };
        let paused = running.control.is_paused();
        running.look(|progress| {
            let share = progress.meter.share();
            let left = progress.meter.left(progress.now).map(span).unwrap_or_default();
            let what = match progress.phase {
                Some(phase) if !paused => phase.word(),
                _ if paused => "held",
                _ => "begins",
            };
            (share, format!("{what} {:.0} %  {left}", share * 100.0))
        })
    }

    /// What is waited for before there is anything to show, and for how long where that is long.
    pub fn wait_text(&self) -> String {
        match self.waits_since.elapsed().as_secs() {
            seconds if self.keep.is_some() => format!("○ looking at the drive, and reading a sample of it ... {seconds} s"),
            0 => "○ looking at both drives ...".into(),
            seconds => format!("○ looking at both drives, and going over their volumes ... {seconds} s"),
        }
    }

    /// How it stands, for the list of jobs.
    pub fn state_text(&self) -> Span<'static> {
        match (&self.report, &self.refusal) {
            (_, Some(refusal)) => say(Mean::Stop, format!("◆ {}", refusal.text)),
            (Some(report), _) if report.outcome == Outcome::Proved => say(Mean::Good, "● proved"),
            (Some(report), _) if report.outcome == Outcome::Interrupted => say(Mean::Mind, "◐ interrupted, can go on"),
            (Some(report), _) => say(Mean::Stop, format!("◆ {}", report.outcome.word())),
            _ if self.waiting.is_some() => say(Mean::Quiet, "○ looking at both drives"),
            _ if self.keep.is_some() || self.rescue.is_some() => say(Mean::Quiet, "○ planned, not begun"),
            _ => say(Mean::Quiet, "○ planned, not released"),
        }
    }

    pub(super) fn stops(&self) -> usize {
        self.sight.iter().flat_map(|sight| &sight.hazards).filter(|hazard| hazard.level == Level::Stop).count()
    }

    /// Whether a system sleeps on the source, so that it can be asked to start afresh.
    pub(super) fn may_wake(&self) -> bool {
        self.order.wishes.afresh || self.sight.as_ref().is_some_and(|sight| sight.hazards.iter().any(|hazard| hazard.code == "volume-asleep"))
    }

    pub(super) fn title(&self) -> (String, String) {
        let file = |path: &std::path::Path| path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        if let Some((keep, sight)) = self.keep.as_ref().and_then(|keep| Some((keep, keep.sight.as_ref()?))) {
            return (sight.source.model.clone(), file(&keep.order.file));
        }
        if let Some(sight) = self.rescue.as_ref().and_then(|rescue| rescue.sight.as_ref()) {
            return (sight.source.0.clone(), sight.target.0.clone());
        }
        let (from, to) = match (&self.sight, &self.sheet) {
            (Some(sight), _) => (sight.source.model.clone(), sight.before.model.clone()),
            (_, Some(sheet)) => (sheet.source.model.clone(), sheet.target.model.clone()),
            _ => (file(&self.order.source), file(&self.order.target)),
        };
        (from, to)
    }
}
