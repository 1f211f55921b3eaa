//! Why the machine should be restarted.

/// Why the machine should be restarted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Restart {
    /// It is down.
    Down,
    /// The card is gone, or does not answer.
    CardGone,
    /// Boost is odd since the driver reset in this trial.
    AfterReset(u32),
}

impl std::fmt::Display for Restart {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Down => f.write_str("The machine is down."),
            Self::CardGone => f.write_str("The card is gone, or does not answer."),
            Self::AfterReset(trial) => write!(
                f,
                "Boost is odd since the driver reset in trial {trial}: what runs until the restart \
                 counts only where it fails."
            ),
        }
    }
}
