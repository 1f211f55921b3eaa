//! The interface as a whole: which view is shown, what lies over it, and where keys and clicks go.

pub(crate) mod act;
pub(crate) mod mouse;
pub(crate) mod outcome;
pub(crate) mod overlay_keys;
pub(crate) mod profiles;
#[cfg(test)]
mod real_states;
pub mod screen;
pub mod state;
#[cfg(test)]
mod tests;
