//! The card, its settings, sensors and baseline.

pub(crate) mod draw;

pub(crate) use draw::draw;
