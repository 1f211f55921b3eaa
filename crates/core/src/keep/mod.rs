//! What is kept: profiles with what proves them, and settings of others made milder.

pub(crate) mod cut_back;
pub(crate) mod profile;
