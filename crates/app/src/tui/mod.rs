//! The terminal interface.
use yard_step_engine::{Engine, Pace};
pub(crate) fn run(_engine: Engine, _pace: Pace, _told: Vec<String>) -> std::io::Result<()> {
    Ok(())
}
