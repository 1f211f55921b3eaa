//! The card, its settings, sensors and baseline.

pub(crate) mod draw;
pub(crate) mod keys;

pub(crate) use draw::draw;
