//! Names of the users of this machine.

use nix::unistd::{Uid, User, geteuid};
use yard_step_core::printable;

/// The name of a user, or the number where the system knows none.
pub(crate) fn name_of(user: Uid) -> String {
    let known = User::from_uid(user).ok().flatten();
    known.map_or_else(|| format!("user {user}"), |known| printable(&known.name))
}

/// The name of the user of this process.
#[must_use]
pub fn this_user() -> String {
    name_of(geteuid())
}
