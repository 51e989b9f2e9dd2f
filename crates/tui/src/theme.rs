//! Colours by meaning. Every meaning has a glyph and a word besides, so the screens read in 16 colours and in none.

use badger_bench::config::Theme;
use ratatui::style::{Color, Modifier, Style};
use std::sync::OnceLock;

/// What a colour stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mean {
    /// Plain words.
    Text,
    /// Less important words.
    Quiet,
    /// The source.
    Source,
    /// The target.
    Target,
    /// What is chosen.
    Focus,
    /// As it should be.
    Good,
    /// Needs a thought.
    Mind,
    /// Refused.
    Stop,
    /// Cannot be read.
    Lost,
}

static LIGHT: OnceLock<bool> = OnceLock::new();

/// Settles the ground that the colours are for, before anything is drawn.
pub fn settle(theme: Theme) {
    let _ = LIGHT.set(theme == Theme::Light);
}

fn is_light() -> bool {
    LIGHT.get().copied().unwrap_or(false)
}

enum Depth {
    Full,
    Sixteen,
    None,
}

fn depth() -> &'static Depth {
    static DEPTH: OnceLock<Depth> = OnceLock::new();
    DEPTH.get_or_init(|| {
        let set = |name: &str| std::env::var(name).unwrap_or_default();
        if !set("NO_COLOR").is_empty() {
            Depth::None
        } else if matches!(set("COLORTERM").as_str(), "truecolor" | "24bit") {
            Depth::Full
        } else {
            Depth::Sixteen
        }
    })
}

/// Whether pictures can be shown in their own colours.
pub fn has_all_colours() -> bool {
    matches!(depth(), Depth::Full)
}

/// The style of a meaning.
pub fn style(mean: Mean) -> Style {
    let rgb = |r, g, b| Style::new().fg(Color::Rgb(r, g, b));
    match depth() {
        Depth::Full if is_light() => match mean {
            Mean::Text => rgb(43, 39, 34),
            Mean::Quiet => rgb(112, 103, 92),
            Mean::Source => rgb(38, 84, 138),
            Mean::Target => rgb(148, 70, 22),
            Mean::Focus => rgb(128, 82, 0),
            Mean::Good => rgb(64, 98, 22),
            Mean::Mind => rgb(112, 94, 0),
            Mean::Stop => rgb(166, 40, 26),
            Mean::Lost => rgb(116, 50, 110),
        },
        Depth::Full => match mean {
            Mean::Text => rgb(217, 211, 197),
            Mean::Quiet => rgb(139, 131, 119),
            Mean::Source => rgb(124, 156, 194),
            Mean::Target => rgb(208, 138, 98),
            Mean::Focus => rgb(236, 178, 76),
            Mean::Good => rgb(143, 168, 101),
            Mean::Mind => rgb(219, 199, 124),
            Mean::Stop => rgb(211, 92, 74),
            Mean::Lost => rgb(178, 114, 170),
        },
        Depth::Sixteen if is_light() => match mean {
            Mean::Text => Style::new(),
            Mean::Quiet => Style::new().fg(Color::DarkGray),
            Mean::Source => Style::new().fg(Color::Blue),
            Mean::Target | Mean::Stop => Style::new().fg(Color::Red),
            Mean::Focus => Style::new().fg(Color::Cyan),
            Mean::Good => Style::new().fg(Color::Green),
            // Yellow cannot be read on white.
            Mean::Mind => Style::new().add_modifier(Modifier::BOLD),
            Mean::Lost => Style::new().fg(Color::Magenta),
        },
        Depth::Sixteen => match mean {
            Mean::Text => Style::new(),
            Mean::Quiet => Style::new().fg(Color::DarkGray),
            Mean::Source => Style::new().fg(Color::LightBlue),
            Mean::Target => Style::new().fg(Color::LightRed),
            Mean::Focus => Style::new().fg(Color::LightYellow),
            Mean::Good => Style::new().fg(Color::Green),
            Mean::Mind => Style::new().fg(Color::Yellow),
            Mean::Stop => Style::new().fg(Color::Red),
            Mean::Lost => Style::new().fg(Color::Magenta),
        },
        Depth::None => match mean {
            Mean::Focus | Mean::Stop => Style::new().add_modifier(Modifier::BOLD),
            Mean::Quiet => Style::new().add_modifier(Modifier::DIM),
            _ => Style::new(),
        },
    }
}

/// A meaning, in bold.
pub fn bold(mean: Mean) -> Style {
    style(mean).add_modifier(Modifier::BOLD)
}

/// The ground everything stands on: warm, near black or near white, where the terminal can.
pub fn ground() -> Style {
    match depth() {
        Depth::Full if is_light() => style(Mean::Text).bg(Color::Rgb(248, 244, 235)),
        Depth::Full => style(Mean::Text).bg(Color::Rgb(22, 20, 18)),
        _ => Style::new(),
    }
}

/// What stands out of the ground: the line of a dialogue, the cell under the head.
pub fn raised(mean: Mean) -> Style {
    match depth() {
        Depth::Full if is_light() => style(mean).bg(Color::Rgb(228, 219, 202)),
        Depth::Full => style(mean).bg(Color::Rgb(48, 43, 37)),
        _ => style(mean).add_modifier(Modifier::REVERSED),
    }
}
