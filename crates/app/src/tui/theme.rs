//! Colours and shapes, in true colour, in sixteen colours, and in none.

use std::env;

use ratatui::style::{Color, Modifier, Style};
use yard_step_core::{Limiter, Verdict};

/// How many colours the terminal shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// 24 bit.
    True,
    /// The sixteen named ones.
    Sixteen,
    /// None: shapes, bold and reverse only.
    None,
}

impl Depth {
    /// What the environment says: `NO_COLOR` (any value) means none, `COLORTERM` true colour.
    #[must_use]
    pub fn of_environment() -> Self {
        Self::read(|name| env::var(name).ok())
    }

    fn read(variable: impl Fn(&str) -> Option<String>) -> Self {
        if variable("NO_COLOR").is_some_and(|value| !value.is_empty())
            || variable("TERM").is_some_and(|term| term == "dumb")
        {
            return Self::None;
        }
        match variable("COLORTERM").as_deref() {
            Some("truecolor" | "24bit") => Self::True,
            _ => Self::Sixteen,
        }
    }
}

/// What a piece of the screen is, whatever colour that is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// Ordinary text.
    Text,
    /// Labels and what is less important.
    Dim,
    /// Rules and guides.
    Faint,
    /// Headings.
    Title,
    /// What can be done now.
    Accent,
    /// The clock line.
    Clock,
    /// How far a series strays from its mean.
    Envelope,
    /// The target it is held against.
    Target,
    /// A second series.
    Second,
    /// Well.
    Good,
    /// Take note.
    Warn,
    /// Ill.
    Bad,
    /// Ground of the band in which the edge lies.
    Band,
    /// Ground of a bar.
    Bar,
    /// What is selected.
    Selected,
}

/// The look.
#[derive(Debug, Clone, Copy)]
pub struct Theme {
    depth: Depth,
}

const GROUND: Color = Color::Rgb(14, 19, 24);

impl Theme {
    /// The look for a depth of colour.
    #[must_use]
    pub const fn new(depth: Depth) -> Self {
        Self { depth }
    }

    /// Depth of colour.
    #[must_use]
    pub const fn depth(self) -> Depth {
        self.depth
    }

    /// The ground everything is drawn on.
    #[must_use]
    pub fn ground(self) -> Style {
        match self.depth {
            Depth::True => Style::new().bg(GROUND).fg(Color::Rgb(212, 217, 216)),
            Depth::Sixteen | Depth::None => Style::new(),
        }
    }

    /// Style of a role.
    #[must_use]
    pub fn style(self, role: Role) -> Style {
        match self.depth {
            Depth::True => Self::true_colour(role),
            Depth::Sixteen => Self::sixteen(role),
            Depth::None => Self::colourless(role),
        }
    }

    fn true_colour(role: Role) -> Style {
        let fg = |r, g, b| Style::new().fg(Color::Rgb(r, g, b));
        match role {
            Role::Text => fg(212, 217, 216),
            Role::Dim => fg(134, 146, 150),
            Role::Faint => fg(62, 74, 80),
            Role::Title => fg(240, 236, 222).add_modifier(Modifier::BOLD),
            Role::Accent => fg(242, 193, 92),
            Role::Clock => fg(104, 214, 196),
            Role::Envelope => fg(46, 104, 98),
            Role::Target => fg(232, 138, 88),
            Role::Second => fg(226, 120, 104),
            Role::Good => fg(126, 204, 120),
            Role::Warn => fg(228, 186, 84),
            Role::Bad => fg(240, 96, 88),
            Role::Band => Style::new().bg(Color::Rgb(58, 48, 26)),
            Role::Bar => Style::new().bg(Color::Rgb(26, 35, 42)),
            Role::Selected => Style::new().bg(Color::Rgb(52, 66, 74)),
        }
    }

    fn sixteen(role: Role) -> Style {
        let fg = |colour| Style::new().fg(colour);
        match role {
            Role::Text => Style::new(),
            Role::Dim => fg(Color::Gray),
            Role::Faint | Role::Envelope => fg(Color::DarkGray),
            Role::Title => fg(Color::White).add_modifier(Modifier::BOLD),
            Role::Accent | Role::Warn => fg(Color::Yellow),
            Role::Clock => fg(Color::Cyan),
            Role::Target => fg(Color::LightRed),
            Role::Second => fg(Color::Magenta),
            Role::Good => fg(Color::Green),
            Role::Bad => fg(Color::Red),
            Role::Band | Role::Bar => Style::new(),
            Role::Selected => Style::new().add_modifier(Modifier::REVERSED),
        }
    }

    fn colourless(role: Role) -> Style {
        match role {
            Role::Title | Role::Accent | Role::Bad => Style::new().add_modifier(Modifier::BOLD),
            Role::Dim | Role::Faint | Role::Envelope => Style::new().add_modifier(Modifier::DIM),
            Role::Selected => Style::new().add_modifier(Modifier::REVERSED),
            _ => Style::new(),
        }
    }

    /// Style of a verdict; its [shape](glyph) tells it as well.
    #[must_use]
    pub fn verdict(self, verdict: Verdict) -> Style {
        if self.depth != Depth::True {
            return self.style(match verdict {
                Verdict::Clean => Role::Good,
                Verdict::Slower | Verdict::Throttled => Role::Warn,
                Verdict::Void | Verdict::NotTaken => Role::Dim,
                _ => Role::Bad,
            });
        }
        let (r, g, b) = match verdict {
            Verdict::Clean => (126, 204, 120),
            Verdict::Slower => (196, 196, 110),
            Verdict::Throttled => (228, 186, 84),
            Verdict::Void | Verdict::NotTaken => (150, 160, 166),
            Verdict::Artifacts => (236, 126, 196),
            Verdict::LoadDied => (242, 142, 72),
            Verdict::DriverReset => (244, 104, 84),
            Verdict::MachineDown => (236, 64, 84),
        };
        Style::new().fg(Color::Rgb(r, g, b))
    }

    /// Style of a limiter in the lane: its ground.
    #[must_use]
    pub fn limiter(self, limiter: Limiter) -> Style {
        let (true_colour, named) = match limiter {
            Limiter::Load => ((96, 90, 128), Color::Blue),
            Limiter::Heat => ((196, 74, 56), Color::Red),
            Limiter::Power => ((206, 158, 52), Color::Yellow),
            Limiter::Voltage => ((60, 128, 184), Color::Cyan),
            Limiter::Unknown => ((44, 54, 60), Color::DarkGray),
            Limiter::Current => ((150, 96, 190), Color::Magenta),
            Limiter::Window => ((84, 156, 112), Color::Green),
            Limiter::FrameCap => ((120, 132, 146), Color::Gray),
        };
        match self.depth {
            Depth::True => {
                let (r, g, b) = true_colour;
                let ink = if limiter == Limiter::Unknown {
                    Color::Rgb(134, 146, 150)
                } else {
                    Color::Rgb(14, 19, 24)
                };
                Style::new().bg(Color::Rgb(r, g, b)).fg(ink)
            }
            Depth::Sixteen => Style::new().bg(named).fg(Color::Black),
            Depth::None => Style::new(),
        }
    }
}

/// Shape of a verdict, one cell wide.
#[must_use]
pub const fn glyph(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Clean => "●",
        Verdict::Slower => "▽",
        Verdict::Throttled => "◐",
        Verdict::Void => "○",
        Verdict::NotTaken => "◇",
        Verdict::Artifacts => "▦",
        Verdict::LoadDied => "▲",
        Verdict::DriverReset => "◆",
        Verdict::MachineDown => "■",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::collections::BTreeSet;

    #[rstest]
    #[case(&[("NO_COLOR", "1"), ("COLORTERM", "truecolor")], Depth::None)]
    #[case(&[("COLORTERM", "truecolor")], Depth::True)]
    #[case(&[("COLORTERM", "24bit")], Depth::True)]
    #[case(&[("TERM", "xterm")], Depth::Sixteen)]
    #[case(&[("TERM", "dumb")], Depth::None)]
    #[case(&[("NO_COLOR", "")], Depth::Sixteen)]
    fn the_environment_decides_how_many_colours(
        #[case] variables: &[(&str, &str)],
        #[case] depth: Depth,
    ) {
        let find = |name: &str| {
            variables.iter().find(|(n, _)| *n == name).map(|(_, value)| (*value).to_owned())
        };
        assert_eq!(Depth::read(find), depth);
    }

    #[test]
    fn every_verdict_has_a_shape_of_its_own() {
        let shapes: BTreeSet<&str> = Verdict::ALL.into_iter().map(glyph).collect();
        assert_eq!(shapes.len(), Verdict::ALL.len());
    }

    #[test]
    fn without_colour_nothing_is_coloured() {
        let theme = Theme::new(Depth::None);
        for verdict in Verdict::ALL {
            assert_eq!(theme.verdict(verdict).fg, None);
        }
        for limiter in Limiter::ALL {
            assert_eq!(theme.limiter(limiter).bg, None);
        }
    }
}
