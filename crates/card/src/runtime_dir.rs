//! The directory of sockets and locks: one per user and machine, closed to everybody else.
//!
//! | looked for | as |
//! |---|---|
//! | `$XDG_RUNTIME_DIR`, where it is a directory | `yard-step` in it |
//! | `/run/user/UID`, where it is a directory | `yard-step` in it |
//! | else | `yard-step-UID` in the directory for temporary files |
//!
//! It has mode 0700 and belongs to the user who runs Yard Step; anything else is an error, never
//! mended in silence: whoever could write there could take the place of a card.

use std::env;
use std::fs::{self, DirBuilder};
use std::io;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};

use nix::sys::socket::{getsockopt, sockopt::PeerCredentials};
use nix::unistd::geteuid;
use thiserror::Error;

/// Why there is no safe place for sockets and locks.
#[derive(Debug, Error)]
pub enum RuntimeDirError {
    /// It cannot be made or looked at.
    #[error(
        "cannot use {path} for sockets and locks: {cause}. Set XDG_RUNTIME_DIR to a directory of yours."
    )]
    Unusable {
        /// The directory.
        path: PathBuf,
        /// Why.
        cause: io::Error,
    },
    /// Somebody else made it.
    #[error(
        "{path} belongs to user {owner}, not to you (user {own}): whoever owns it could take the place of a card. Remove it, or set XDG_RUNTIME_DIR to a directory of yours."
    )]
    NotOwned {
        /// The directory.
        path: PathBuf,
        /// Number of its owner.
        owner: u32,
        /// Number of this user.
        own: u32,
    },
    /// Others can get in.
    #[error(
        "{path} is open to other users (mode {mode:04o}): close it with chmod 700, after a look at what lies in it."
    )]
    Open {
        /// The directory.
        path: PathBuf,
        /// Its mode.
        mode: u32,
    },
    /// It is a file or a link.
    #[error(
        "{path} is not a directory: remove it, or set XDG_RUNTIME_DIR to a directory of yours."
    )]
    NoDirectory {
        /// The path.
        path: PathBuf,
    },
}

/// A directory that only this user can reach.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RuntimeDir {
    path: PathBuf,
}

impl RuntimeDir {
    /// The directory of this user on this machine, made where it is missing.
    ///
    /// # Errors
    /// It cannot be made, belongs to somebody else, or is open to others.
    pub fn of_user() -> Result<Self, RuntimeDirError> {
        let own = geteuid().as_raw();
        let is_directory = |path: &PathBuf| path.is_absolute() && path.is_dir();
        let named = env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from);
        let usual = PathBuf::from(format!("/run/user/{own}"));
        let base = named.into_iter().chain([usual]).find(is_directory);
        Self::at(&base.map_or_else(
            || env::temp_dir().join(format!("yard-step-{own}")),
            |base| base.join("yard-step"),
        ))
    }

    /// The directory at this path, made where it is missing.
    ///
    /// # Errors
    /// It cannot be made, belongs to somebody else, or is open to others.
    pub fn at(path: &Path) -> Result<Self, RuntimeDirError> {
        let unusable = |cause| RuntimeDirError::Unusable { path: path.to_owned(), cause };
        match DirBuilder::new().mode(0o700).create(path) {
            Ok(()) => {}
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            Err(error) => return Err(unusable(error)),
        }
        // Not following a link: where it leads is for its owner to change.
        let found = fs::symlink_metadata(path).map_err(unusable)?;
        let path = path.to_owned();
        if !found.is_dir() {
            return Err(RuntimeDirError::NoDirectory { path });
        }
        let own = geteuid().as_raw();
        if found.uid() != own {
            return Err(RuntimeDirError::NotOwned { path, owner: found.uid(), own });
        }
        let mode = found.permissions().mode() & 0o777;
        if mode & 0o077 != 0 {
            return Err(RuntimeDirError::Open { path, mode });
        }
        Ok(Self { path })
    }

    /// Where it lies.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }
}

/// A card's key as it may stand in the name of a file.
#[must_use]
pub fn file_name(key: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() || "-_".contains(c) { c } else { '_' };
    key.chars().map(plain).collect()
}

/// Makes sure that the process at the other end of a socket runs as this user.
///
/// # Errors
/// It runs as another one, or the system does not tell.
pub(crate) fn check_peer(stream: &UnixStream) -> io::Result<()> {
    check_peer_is(stream, geteuid().as_raw())
}

fn check_peer_is(stream: &UnixStream, own: u32) -> io::Result<()> {
    let peer = getsockopt(stream, PeerCredentials)?.uid();
    if peer == own {
        return Ok(());
    }
    let text = format!("the process at the other end runs as user {peer}, not as user {own}");
    Err(io::Error::new(io::ErrorKind::PermissionDenied, text))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn it_is_made_closed_to_others_and_found_again() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yard-step");
        let made = RuntimeDir::at(&path).unwrap();
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o700);
        assert_eq!(RuntimeDir::at(&path).unwrap(), made);
    }

    #[rstest]
    #[case::readable(0o740)]
    #[case::reachable(0o701)]
    #[case::writable(0o777)]
    fn one_that_is_open_to_others_is_refused_by_name(#[case] mode: u32) {
        let dir = tempfile::tempdir().unwrap();
        fs::set_permissions(dir.path(), fs::Permissions::from_mode(mode)).unwrap();
        let error = RuntimeDir::at(dir.path()).unwrap_err().to_string();
        assert!(error.contains(&format!("mode {mode:04o}")), "{error}");
        assert!(error.contains(dir.path().to_str().unwrap()), "{error}");
    }

    #[rstest]
    fn a_link_or_a_file_in_its_place_is_refused(#[values(true, false)] is_link: bool) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yard-step");
        if is_link {
            std::os::unix::fs::symlink(dir.path(), &path).unwrap();
        } else {
            fs::write(&path, "").unwrap();
        }
        let error = RuntimeDir::at(&path).unwrap_err();
        assert!(matches!(error, RuntimeDirError::NoDirectory { .. }), "{error}");
    }

    #[test]
    fn a_peer_of_another_user_is_refused_with_both_named() {
        let (one, _other) = UnixStream::pair().unwrap();
        check_peer(&one).unwrap();
        let own = geteuid().as_raw();
        let error = check_peer_is(&one, own + 1).unwrap_err();
        assert_eq!(error.kind(), io::ErrorKind::PermissionDenied);
        assert!(error.to_string().contains(&format!("user {own}, not as user {}", own + 1)));
    }

    #[test]
    fn names_of_cards_become_plain_file_names() {
        assert_eq!(file_name("standin:tarn-310#7"), "standin_tarn-310_7");
        assert_eq!(file_name("../../etc/x"), "______etc_x");
    }
}
