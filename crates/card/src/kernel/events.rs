//! What the kernel announces of a card: that its driver has reset it, or keeps a dump of what it was like.
//!
//! | event | tells |
//! |---|---|
//! | `SUBSYSTEM=drm`, with `WEDGED=` and how to recover | the driver gave the card up, and has reset it or wants to be bound anew |
//! | `SUBSYSTEM=devcoredump`, `ACTION=add` | the driver wrote down a state of the card in which it failed |

use std::path::Path;

use kobject_uevent::{ActionType, UEvent};
use netlink_sys::protocols::NETLINK_KOBJECT_UEVENT;
use netlink_sys::{Socket, SocketAddr};
use tracing::warn;

use super::SYSFS;
use super::tree::Place;

/// The group to which the kernel itself announces.
const KERNEL: u32 = 1;
/// Most events that are read at a look.
const MOST: usize = 256;
/// A file of a mounted stand-in that holds what a kernel would have announced, an event a line; no real card has it.
const SIMULATED: &str = "stand_in_events";

/// What the kernel announced of the card.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Announced {
    /// It was given up or reset.
    Wedged,
    /// A dump of it was kept.
    Dumped,
}

/// Announcements about one card, as they come.
pub(crate) struct Events {
    source: Source,
    address: String,
    root: Place,
}

enum Source {
    Kernel(Socket),
    /// Lines of a file that were read already.
    Simulated {
        file: Place,
        read: usize,
    },
    /// The system lets nobody listen; what has become of a card shows in its files all the same.
    None,
}

impl Events {
    /// Listens to what is announced of the card at an address.
    pub fn of(root: &Path, device: &Path, address: &str) -> Self {
        let place = Place::root(root);
        let source = if root == Path::new(SYSFS) {
            listen().map_or_else(
                |error| {
                    warn!("the kernel's events cannot be listened to: {error}");
                    Source::None
                },
                Source::Kernel,
            )
        } else {
            Source::Simulated { file: place.at(device).at(SIMULATED), read: 0 }
        };
        let mut events = Self { source, address: address.to_owned(), root: place };
        // What was announced before is not of now.
        events.newest();
        events
    }

    /// What was announced of the card since the last call: the gravest of it.
    pub fn newest(&mut self) -> Option<Announced> {
        let mut told = Vec::new();
        match &mut self.source {
            Source::None => {}
            Source::Kernel(socket) => {
                for _ in 0..MOST {
                    let Ok((bytes, from)) = socket.recv_from_full() else { break };
                    // Whoever else sends here is not the kernel.
                    if from.port_number() == 0 {
                        told.extend(UEvent::from_netlink_packet(&bytes).ok());
                    }
                }
            }
            Source::Simulated { file, read } => {
                let text = file.text().unwrap_or_default();
                for line in text.lines().skip(*read).take(MOST) {
                    *read += 1;
                    let packet = line.replace(' ', "\0");
                    told.extend(UEvent::from_netlink_packet(packet.as_bytes()).ok());
                }
            }
        }
        let announced: Vec<Announced> =
            told.iter().filter_map(|event| self.of_card(event)).collect();
        announced
            .iter()
            .copied()
            .find(|one| *one == Announced::Wedged)
            .or(announced.first().copied())
    }

    /// What an event says of the card.
    fn of_card(&self, event: &UEvent) -> Option<Announced> {
        let names = |path: &Path| path.iter().any(|part| *part == *self.address);
        match event.subsystem.as_str() {
            "drm" if event.env.contains_key("WEDGED") && names(&event.devpath) => {
                Some(Announced::Wedged)
            }
            // The dump is a device of its own, with a link to the one that failed.
            "devcoredump" if event.action == ActionType::Add => {
                let dump = event.devpath.file_name()?.to_string_lossy().into_owned();
                let failed = self.root.at("class/devcoredump").at(dump).at("failing_device");
                let is_it = names(&event.devpath) || failed.link_name()? == self.address;
                is_it.then_some(Announced::Dumped)
            }
            _ => None,
        }
    }
}

fn listen() -> std::io::Result<Socket> {
    let mut socket = Socket::new(NETLINK_KOBJECT_UEVENT)?;
    socket.bind(&SocketAddr::new(0, KERNEL))?;
    socket.set_non_blocking(true)?;
    Ok(socket)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::fs;
    use std::os::unix::fs::symlink;

    const WEDGED: &str = "change@/devices/pci0000:00/0000:03:00.0/drm/card0 ACTION=change DEVPATH=/devices/pci0000:00/0000:03:00.0/drm/card0 SUBSYSTEM=drm WEDGED=rebind,bus-reset SEQNUM=71";
    const HOTPLUG: &str = "change@/devices/pci0000:00/0000:03:00.0/drm/card0 ACTION=change DEVPATH=/devices/pci0000:00/0000:03:00.0/drm/card0 SUBSYSTEM=drm HOTPLUG=1 SEQNUM=72";
    const OTHER: &str = "change@/devices/pci0000:00/0000:04:00.0/drm/card1 ACTION=change DEVPATH=/devices/pci0000:00/0000:04:00.0/drm/card1 SUBSYSTEM=drm WEDGED=none SEQNUM=73";
    const DUMPED: &str = "add@/devices/virtual/devcoredump/devcd7 ACTION=add DEVPATH=/devices/virtual/devcoredump/devcd7 SUBSYSTEM=devcoredump SEQNUM=74";

    #[rstest]
    #[case::wedged(WEDGED, Some(Announced::Wedged))]
    #[case::a_screen_was_plugged_in(HOTPLUG, None)]
    #[case::another_card(OTHER, None)]
    #[case::a_dump(DUMPED, Some(Announced::Dumped))]
    #[case::garbage("no event at all", None)]
    #[case::nothing("", None)]
    fn what_is_announced_of_the_card_is_told_once(
        #[case] line: &str,
        #[case] expected: Option<Announced>,
    ) {
        let dir = tempfile::tempdir().unwrap();
        let dump = dir.path().join("class/devcoredump/devcd7");
        fs::create_dir_all(&dump).unwrap();
        symlink("../../../devices/pci0000:00/0000:03:00.0", dump.join("failing_device")).unwrap();
        let file = dir.path().join(SIMULATED);
        fs::write(&file, format!("{WEDGED}\n")).unwrap();
        let mut events = Events::of(dir.path(), Path::new(""), "0000:03:00.0");
        assert_eq!(events.newest(), None, "what was before is not of now");
        fs::write(&file, format!("{WEDGED}\n{line}\n")).unwrap();
        assert_eq!(events.newest(), expected);
        assert_eq!(events.newest(), None);
    }

    #[test]
    fn the_kernel_can_be_listened_to_without_waiting() {
        let events = Events::of(Path::new(SYSFS), Path::new(""), "ffff:ff:1f.7");
        assert!(matches!(events.source, Source::Kernel(_)));
    }
}
