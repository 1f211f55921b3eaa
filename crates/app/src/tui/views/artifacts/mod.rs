//! Spoilt frames beside what they should have been.

pub(crate) mod draw;
pub(crate) mod keys;
pub(crate) mod picture;
pub(crate) mod state;

pub(crate) use draw::draw;
