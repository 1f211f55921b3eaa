//! `yard-step keeper`: the only process that writes to real cards.

use std::env;
use std::io::Write;
use std::os::unix::net::UnixListener;
use std::path::PathBuf;
use std::thread;

use clap::Args;
use listenfd::ListenFd;
use nix::unistd::geteuid;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use yard_step_card::keeper::{self, BEARS_AFTER, Keeper, KeeperPlaces, Peers, put_back_all};
use yard_step_card::kernel::SYSFS;

use crate::failure::Failure;
use crate::output::print;

/// What `sudo` leaves of the user who ran it.
const SUDO_USER: &str = "SUDO_UID";

#[derive(Debug, Args)]
pub(crate) struct KeeperOptions {
    /// Group whose members may control cards, besides the user who ran sudo
    #[arg(long, value_name = "GROUP")]
    pub group: Option<String>,
    /// Where it listens
    #[arg(long, value_name = "SOCKET", default_value = keeper::SOCKET)]
    pub socket: PathBuf,
    /// Where it writes down what it must know after a kill
    #[arg(long, value_name = "DIR", default_value = keeper::RECORDS)]
    pub records: PathBuf,
    /// Where the kernel shows its devices, in place of /sys
    #[arg(long, value_name = "DIR", default_value = SYSFS)]
    pub sysfs: PathBuf,
    /// Put back what a keeper that was killed has left, and end
    #[arg(long, conflicts_with = "print_unit")]
    pub put_back: bool,
    /// Put each card to its profile in use first, if that is proven for this driver and the last start with it ended cleanly
    #[arg(long)]
    pub at_boot: bool,
    /// Print a systemd service and its socket, and end
    #[arg(long)]
    pub print_unit: bool,
}

pub(crate) fn keeper(options: &KeeperOptions) -> Result<(), Failure> {
    if options.print_unit {
        return print(&unit(options)?);
    }
    if !geteuid().is_root() {
        return Err(Failure::usage(
            "only root may write to a card: run \"sudo yard-step keeper\", or install what \
             \"yard-step keeper --print-unit\" prints",
        ));
    }
    let places = KeeperPlaces::now(&options.sysfs, &options.records);
    if options.put_back {
        let all_back = put_back_all(&places, &tell)?;
        return if all_back { Ok(()) } else { Err(not_back()) };
    }
    let sudo_user = env::var(SUDO_USER).ok();
    let peers = Peers::of(sudo_user.as_deref(), options.group.as_deref())
        .map_err(|why| Failure::usage(format!("keeper: {why}")))?;
    let keeper = Keeper::new(&places, peers, tell)?;
    if options.at_boot {
        keeper.start_cards(BEARS_AFTER);
    }
    let (listener, socket) = listener(options)?;
    let stop = keeper.stop();
    // Closing the terminal and Ctrl+C are orders to put the cards back, too.
    let mut signals = Signals::new([SIGHUP, SIGINT, SIGTERM])?;
    thread::spawn(move || {
        for _ in signals.forever() {
            stop.now();
        }
    });
    tell(&format!("Keeps the cards below {}; listens at {socket}.", options.sysfs.display()));
    let all_back = keeper.serve(&listener)?;
    // A socket of systemd's is systemd's to remove.
    if socket == options.socket.display().to_string() {
        let _ = std::fs::remove_file(&options.socket);
    }
    if all_back { Ok(()) } else { Err(not_back()) }
}

/// The socket that systemd hands over, or one of its own.
fn listener(options: &KeeperOptions) -> Result<(UnixListener, String), Failure> {
    if let Some(listener) = ListenFd::from_env().take_unix_listener(0)? {
        return Ok((listener, "the socket of its unit".into()));
    }
    Ok((Keeper::listen(&options.socket)?, options.socket.display().to_string()))
}

fn not_back() -> Failure {
    Failure::failed("a card is not back: restart the machine, it starts at stock")
}

/// Says something, where anybody listens.
fn tell(text: &str) {
    let mut out = std::io::stdout().lock();
    let _ = writeln!(out, "{text}").and_then(|()| out.flush());
    tracing::info!("{text}");
}

/// A service and its socket for systemd.
fn unit(options: &KeeperOptions) -> Result<String, Failure> {
    let program = env::current_exe().map_err(|error| {
        Failure::failed(format!("the path of this program is unknown: {error}"))
    })?;
    let program = program.display();
    let at_boot = if options.at_boot { " --at-boot" } else { "" };
    // What is to be done at the start of the machine does not wait for a visitor.
    let install = match options.at_boot {
        true => "\n[Install]\nWantedBy=multi-user.target\n",
        false => "",
    };
    let (group, member) = match &options.group {
        Some(group) => {
            (format!(" --group {group}"), format!("SocketGroup={group}\nSocketMode=0660"))
        }
        None => (String::new(), "SocketMode=0666".to_owned()),
    };
    let socket = options.socket.display();
    Ok(format!(
        "# /etc/systemd/system/yard-step-keeper.socket\n\
         [Unit]\n\
         Description=Yard Step's keeper of graphics cards\n\
         \n\
         [Socket]\n\
         ListenStream={socket}\n\
         {member}\n\
         \n\
         [Install]\n\
         WantedBy=sockets.target\n\
         \n\
         # /etc/systemd/system/yard-step-keeper.service\n\
         [Unit]\n\
         Description=Yard Step's keeper of graphics cards\n\
         \n\
         [Service]\n\
         ExecStart={program} keeper{group}{at_boot}\n\
         ExecStopPost={program} keeper --put-back\n\
         Restart=on-failure\n\
         RestartSec=0\n\
         TimeoutStopSec=20\n\
         StateDirectory=yard-step\n\
         RuntimeDirectory=yard-step\n\
         RuntimeDirectoryPreserve=yes\n{install}"
    ))
}
