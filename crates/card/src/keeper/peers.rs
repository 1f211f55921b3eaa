//! Who may reach the keeper.

use std::io;
use std::os::unix::net::UnixStream;

use nix::sys::socket::{getsockopt, sockopt::PeerCredentials};
use nix::unistd::{Gid, Group, Uid, User, geteuid, getgrouplist};

/// The users whose processes may control a card: root, the user who started the keeper, and the members of a group.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Peers {
    users: Vec<Uid>,
    group: Option<Gid>,
}

/// A process at the other end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Peer {
    pub process: i32,
    pub user: Uid,
    group: Gid,
}

impl Peers {
    /// Root and the user of this process; the user who ran `sudo`, by the number that it leaves in the environment; and
    /// the members of a group.
    ///
    /// # Errors
    /// There is no such group, or the number is none.
    pub fn of(sudo_user: Option<&str>, group: Option<&str>) -> Result<Self, String> {
        let mut users = vec![Uid::from_raw(0), geteuid()];
        if let Some(number) = sudo_user {
            let number = number.parse().map_err(|_| format!("SUDO_UID is \"{number}\""))?;
            users.push(Uid::from_raw(number));
        }
        let group = match group {
            None => None,
            Some(name) => {
                let found = Group::from_name(name).map_err(|error| error.to_string())?;
                Some(found.ok_or_else(|| format!("there is no group \"{name}\""))?.gid)
            }
        };
        Ok(Self { users, group })
    }

    /// Whether a process may come in.
    pub(super) fn admit(&self, peer: Peer) -> bool {
        self.users.contains(&peer.user) || self.group.is_some_and(|group| is_in(peer, group))
    }
}

impl Peer {
    /// The process at the other end of a socket.
    pub(super) fn of(stream: &UnixStream) -> io::Result<Self> {
        let peer = getsockopt(stream, PeerCredentials)?;
        let (user, group) = (Uid::from_raw(peer.uid()), Gid::from_raw(peer.gid()));
        Ok(Self { process: peer.pid(), user, group })
    }
}

fn is_in(peer: Peer, group: Gid) -> bool {
    if peer.group == group {
        return true;
    }
    let user = User::from_uid(peer.user).ok().flatten();
    let name = user.and_then(|user| std::ffi::CString::new(user.name).ok());
    let groups = name.and_then(|name| getgrouplist(&name, peer.group).ok());
    groups.is_some_and(|groups| groups.contains(&group))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn peer(user: u32, group: u32) -> Peer {
        Peer { process: 1, user: Uid::from_raw(user), group: Gid::from_raw(group) }
    }

    #[rstest]
    #[case::root(0, 0, true)]
    #[case::who_ran_sudo(4_711, 4_711, true)]
    #[case::of_the_group(4_713, 60, true)]
    #[case::somebody_else(4_712, 4_712, false)]
    fn root_the_user_and_the_group_come_in(
        #[case] user: u32,
        #[case] group: u32,
        #[case] comes_in: bool,
    ) {
        let mut peers = Peers::of(Some("4711"), None).unwrap();
        peers.group = Some(Gid::from_raw(60));
        assert_eq!(peers.admit(peer(user, group)), comes_in);
    }

    #[test]
    fn a_group_that_is_none_is_told() {
        assert_eq!(Peers::of(None, Some("nobodys")), Err("there is no group \"nobodys\"".into()));
        assert_eq!(Peers::of(Some("me"), None), Err("SUDO_UID is \"me\"".into()));
    }
}
