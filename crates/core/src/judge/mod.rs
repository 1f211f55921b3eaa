//! What was seen means: a verdict on a trial, and the alarms of the user.

pub mod alarm;
pub mod verdict;
