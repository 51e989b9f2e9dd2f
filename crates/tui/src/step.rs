//! The five steps of a job.

/// The steps of a job.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Step {
    /// Both drives side by side.
    Look,
    /// What goes where.
    Plan,
    /// It goes on.
    Run,
    /// What holds.
    Prove,
    /// Papers and words for the customer.
    Hand,
}

/// All steps in order.
pub const STEPS: [Step; 5] = [Step::Look, Step::Plan, Step::Run, Step::Prove, Step::Hand];

impl Step {
    /// The word for a screen.
    pub fn word(self) -> &'static str {
        match self {
            Self::Look => "Look",
            Self::Plan => "Plan",
            Self::Run => "Run",
            Self::Prove => "Prove",
            Self::Hand => "Hand over",
        }
    }
}
