//! Fans: how they are driven.

pub(crate) mod fan;
