//! The keeper's process: visitors come to it through the socket, and it watches over the cards.

use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::io::{self, BufReader, ErrorKind};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use yard_step_core::Settings;

use super::kept::{Kept, gone};
use super::locked;
use super::peers::{Peer, Peers};
use super::record::{Record, Records, limits_in};
use super::wire::{MOST_REQUEST, Reply, Request};
use crate::CardError;
use crate::kernel::{boot_id, kernel_log};
use crate::lines::{is_a_pause, read_line, send, wait_for_visitor};

/// Time between two looks at the cards.
const LOOK: Duration = Duration::from_millis(50);
/// How long a visitor is listened to before the keeper looks whether it is to stop.
const LISTENS: Duration = Duration::from_millis(100);
/// How long a visitor may take to read an answer.
const READS: Duration = Duration::from_secs(2);
/// Most visitors at a time.
const MOST_VISITORS: usize = 32;
/// Most cards that are opened.
const MOST_CARDS: usize = 64;
/// Why a card is put back that was found away.
const KILLED: &str = "the previous keeper was killed";
/// Held by the keeper as long as it lives.
const LOCK: &str = "keeper.lock";

/// Tells a keeper to stop.
#[derive(Debug, Clone, Default)]
pub struct Stop(Arc<AtomicBool>);

impl Stop {
    /// Has it put all cards back and end.
    pub fn now(&self) {
        self.0.store(true, Ordering::SeqCst);
    }

    fn is_told(&self) -> bool {
        self.0.load(Ordering::SeqCst)
    }
}

/// Where a keeper finds cards, and what it writes down of them.
#[derive(Debug, Clone)]
pub struct KeeperPlaces {
    /// Root of the kernel's device files.
    pub sysfs: PathBuf,
    /// Directory of the records.
    pub records: PathBuf,
    /// The present run of the machine.
    pub boot: String,
}

impl KeeperPlaces {
    /// Those of the present run of this machine.
    #[must_use]
    pub fn now(sysfs: &Path, records: &Path) -> Self {
        Self { sysfs: sysfs.to_owned(), records: records.to_owned(), boot: boot_id() }
    }
}

/// A keeper of the cards of this machine.
pub struct Keeper {
    sysfs: PathBuf,
    records: Records,
    peers: Peers,
    boot: String,
    cards: Mutex<BTreeMap<String, Arc<Mutex<Kept>>>>,
    tell: Box<dyn Fn(&str) + Send + Sync>,
    visitors: AtomicUsize,
    next_visitor: AtomicU64,
    stop: Stop,
    _lock: File,
}

/// Takes the lock of the only keeper.
fn lock(records: &Records) -> io::Result<File> {
    let path = records.directory().join(LOCK);
    let file = OpenOptions::new().write(true).create(true).truncate(false).open(&path)?;
    file.try_lock().map_err(|_| {
        let text = format!("another keeper is at work: {} is locked", path.display());
        io::Error::new(ErrorKind::AddrInUse, text)
    })?;
    Ok(file)
}

/// Puts back what a keeper that was killed has left, and says what came of it. Whether all cards are back.
///
/// # Errors
/// The records cannot be read, or a keeper is at work: that one does it.
pub fn put_back_all(places: &KeeperPlaces, tell: &dyn Fn(&str)) -> io::Result<bool> {
    let records = Records::at(&places.records)?;
    let _lock = lock(&records)?;
    let mut all_back = true;
    for (name, kept) in left_behind(&records, &places.boot) {
        let is_back = match kept {
            Ok(mut kept) => {
                if let Some(told) = kept.put_back_for_good(KILLED) {
                    tell(&told);
                }
                !kept.is_away()
            }
            Err(error) => {
                tell(&format!("{name}: {error}"));
                false
            }
        };
        if !is_back {
            tell(&format!("{name}: it is not back. Restart the machine."));
        }
        all_back &= is_back;
    }
    Ok(all_back)
}

/// The cards that a keeper has left in this run of the machine away from their way back, or with a fan that it drove.
fn left_behind(records: &Records, boot: &str) -> Vec<(String, Result<Kept, CardError>)> {
    // Where the machine was started anew, a card is as the driver has set it up.
    let of_now = records.all().into_iter().filter(|record| record.boot == boot);
    let opened = of_now.map(|record| {
        let kept = Kept::open(records, (boot, &record.sysfs, &record.card));
        (record.card, kept)
    });
    opened.filter(|(_, kept)| kept.as_ref().map_or(true, |kept| !kept.can_be_left())).collect()
}

impl Keeper {
    /// A keeper for the cards below a root. What a keeper that was killed has left is put back first.
    ///
    /// # Errors
    /// Another keeper is at work, or the records cannot be written.
    pub fn new(
        places: &KeeperPlaces,
        peers: Peers,
        tell: impl Fn(&str) + Send + Sync + 'static,
    ) -> io::Result<Self> {
        let records = Records::at(&places.records)?;
        let lock = lock(&records)?;
        let mut cards = BTreeMap::new();
        for (card, kept) in left_behind(&records, &places.boot) {
            match kept {
                Ok(mut kept) => {
                    if let Some(told) = kept.put_back(KILLED) {
                        tell(&told);
                    }
                    cards.insert(card, Arc::new(Mutex::new(kept)));
                }
                // It is put back as soon as it is there to be opened.
                Err(error) => tell(&format!("{card}: {error}")),
            }
        }
        Ok(Self {
            sysfs: places.sysfs.clone(),
            records,
            peers,
            boot: places.boot.clone(),
            cards: Mutex::new(cards),
            tell: Box::new(tell),
            visitors: AtomicUsize::new(0),
            next_visitor: AtomicU64::new(0),
            stop: Stop::default(),
            _lock: lock,
        })
    }

    /// Puts each card to what it is to start with, once in a run of the machine: if that is still proven for this driver, and
    /// the last start with it ended cleanly. A machine that goes down within `bears_after` has not borne it. An override of its
    /// limits is loaded before.
    pub fn start_cards(&self, bears_after: Duration) {
        let fresh = self.records.all().into_iter().filter(|record| record.boot != self.boot);
        let has_to_start =
            |record: &Record| record.start.is_some() || is_override_wanted(&self.records, record);
        for record in fresh.filter(has_to_start) {
            match self.card(&record.card) {
                Ok(kept) => {
                    if let Some(told) = locked(&kept).start(bears_after) {
                        (self.tell)(&told);
                    }
                }
                Err(error) => (self.tell)(&format!("{}: {error}", record.card)),
            }
        }
    }

    /// By which it is told to stop.
    #[must_use]
    pub fn stop(&self) -> Stop {
        self.stop.clone()
    }

    /// Makes the socket at a path. Everybody may knock; who comes in is decided by the peer's credentials.
    ///
    /// # Errors
    /// It cannot be made.
    pub fn listen(path: &Path) -> io::Result<UnixListener> {
        let named =
            |error: io::Error| io::Error::new(error.kind(), format!("{}: {error}", path.display()));
        if let Some(directory) = path.parent() {
            fs::create_dir_all(directory).map_err(named)?;
        }
        // The lock is held: whoever has left this socket is dead.
        match fs::remove_file(path) {
            Err(error) if error.kind() != ErrorKind::NotFound => return Err(named(error)),
            _ => {}
        }
        let listener = UnixListener::bind(path).map_err(named)?;
        fs::set_permissions(path, fs::Permissions::from_mode(0o666)).map_err(named)?;
        Ok(listener)
    }

    /// Keeps the cards for all who come, until it is told to stop; then it puts them back. Whether all are back.
    ///
    /// # Errors
    /// The socket fails. The cards are put back all the same.
    pub fn serve(&self, listener: &UnixListener) -> io::Result<bool> {
        listener.set_nonblocking(true)?;
        let served = thread::scope(|scope| {
            let ended = self.receive_all(scope, listener);
            self.stop.now();
            ended
        });
        let mut all_back = true;
        for kept in self.all() {
            let mut kept = locked(&kept);
            if !kept.can_be_left()
                && let Some(told) = kept.put_back_for_good("the keeper was told to stop")
            {
                (self.tell)(&told);
            }
            kept.note_borne();
            all_back &= !kept.is_away();
        }
        served.map(|()| all_back)
    }

    fn receive_all<'scope>(
        &'scope self,
        scope: &'scope thread::Scope<'scope, '_>,
        listener: &UnixListener,
    ) -> io::Result<()> {
        scope.spawn(|| self.watch());
        while !self.stop.is_told() {
            let stream = match listener.accept() {
                Ok((stream, _)) => stream,
                Err(error) if error.kind() == ErrorKind::WouldBlock => {
                    wait_for_visitor(listener, LOOK);
                    continue;
                }
                Err(error) => return Err(error),
            };
            // Whoever may not come in, or finds no room, sees the connection closed.
            let Ok(peer) = Peer::of(&stream) else { continue };
            if !self.peers.admit(peer) {
                let why = format!(
                    "user {} may not control cards here: start the keeper as that user with sudo, or name a group with --group",
                    peer.user
                );
                refuse(stream, why);
                continue;
            }
            if self.visitors.fetch_add(1, Ordering::SeqCst) >= MOST_VISITORS {
                self.visitors.fetch_sub(1, Ordering::SeqCst);
                refuse(stream, format!("more than {MOST_VISITORS} visitors at a time"));
                continue;
            }
            scope.spawn(move || {
                self.receive(stream, peer);
                self.visitors.fetch_sub(1, Ordering::SeqCst);
            });
        }
        Ok(())
    }

    /// Looks after the cards, whatever the visitors do.
    fn watch(&self) {
        while !self.stop.is_told() {
            thread::sleep(LOOK);
            for kept in self.all() {
                if let Some(told) = locked(&kept).look() {
                    (self.tell)(&told);
                }
            }
        }
    }

    fn all(&self) -> Vec<Arc<Mutex<Kept>>> {
        locked(&self.cards).values().cloned().collect()
    }

    /// A card, opened if nobody has opened it yet.
    fn card(&self, address: &str) -> Result<Arc<Mutex<Kept>>, CardError> {
        let mut cards = locked(&self.cards);
        if let Some(kept) = cards.get(address) {
            return Ok(Arc::clone(kept));
        }
        if cards.len() >= MOST_CARDS {
            return Err(CardError::Refused { why: format!("there are more than {MOST_CARDS}") });
        }
        let mut kept = Kept::open(&self.records, (&self.boot, &self.sysfs, address))?;
        if kept.is_away()
            && let Some(told) = kept.put_back(KILLED)
        {
            (self.tell)(&told);
        }
        let kept = Arc::new(Mutex::new(kept));
        cards.insert(address.to_owned(), Arc::clone(&kept));
        Ok(kept)
    }

    /// All that one visitor says, to its end. A card that it controls is put back then.
    fn receive(&self, stream: UnixStream, peer: Peer) {
        let visitor = self.next_visitor.fetch_add(1, Ordering::SeqCst);
        let mut opened = None;
        // A visitor who breaks off has nobody left to tell.
        let _ = self.converse(stream, (visitor, peer), &mut opened);
        if let Some(kept) = opened {
            let told = locked(&kept).release(visitor, "its controller is gone");
            if let Some(told) = told {
                (self.tell)(&told);
            }
        }
    }

    fn converse(
        &self,
        mut stream: UnixStream,
        (visitor, peer): (u64, Peer),
        opened: &mut Option<Arc<Mutex<Kept>>>,
    ) -> io::Result<()> {
        stream.set_nonblocking(false)?;
        stream.set_read_timeout(Some(LISTENS))?;
        stream.set_write_timeout(Some(READS))?;
        let mut reader = BufReader::new(stream.try_clone()?);
        let mut line = Vec::new();
        while !self.stop.is_told() {
            match read_line(&mut reader, &mut line, MOST_REQUEST) {
                Ok(true) => {}
                Ok(false) => return Ok(()),
                Err(error) if is_a_pause(&error) => continue,
                Err(error) => return Err(error),
            }
            let request = serde_json::from_slice(&line);
            line.clear();
            let reply = match request {
                Err(error) => Reply::Refused { why: error.to_string() },
                Ok(Request::Open { card, controls }) => {
                    self.open((visitor, peer), &card, controls, opened)
                }
                Ok(request) => match opened {
                    Some(kept) => self.answer((visitor, peer), &mut locked(kept), request),
                    None => Reply::NotControlled { why: "no card is open".into() },
                },
            };
            send(&mut stream, &reply)?;
        }
        Ok(())
    }

    fn open(
        &self,
        (visitor, peer): (u64, Peer),
        address: &str,
        controls: bool,
        opened: &mut Option<Arc<Mutex<Kept>>>,
    ) -> Reply {
        if opened.is_some() {
            return Reply::Refused { why: "a card is open already".into() };
        }
        let kept = match self.card(address) {
            Ok(kept) => kept,
            Err(error) => return gone(&error),
        };
        let mut card = locked(&kept);
        if controls && let Err(why) = card.take_control(visitor, peer) {
            return Reply::Refused { why };
        }
        if controls {
            (self.tell)(&format!(
                "{}: process {} of user {} controls it.",
                card.name(),
                peer.process,
                peer.user
            ));
        }
        let reply = Reply::Opened { factory: Box::new(card.factory()), told: card.told_of_start() };
        drop(card);
        *opened = Some(kept);
        reply
    }

    fn answer(&self, (visitor, peer): (u64, Peer), kept: &mut Kept, request: Request) -> Reply {
        let controls = kept.hear(visitor);
        // What is pending for the next start of the machine changes nothing now.
        let needs_no_control = matches!(
            request,
            Request::Taken | Request::Ceiling | Request::WantLimits { .. } | Request::RenewLimits
        );
        if !controls && !needs_no_control {
            return Reply::NotControlled {
                why: "the card was put back, since its controller was silent".into(),
            };
        }
        let reply = self.carry_out((visitor, peer), kept, request);
        // Whoever waited for an answer was not silent meanwhile.
        kept.hear(visitor);
        reply
    }

    fn carry_out(&self, (visitor, peer): (u64, Peer), kept: &mut Kept, request: Request) -> Reply {
        match request {
            Request::Open { .. } => Reply::Refused { why: "a card is open already".into() },
            Request::Apply { settings } => {
                let settings = settings.with_unwritten_fan(kept.description());
                kept.apply(&settings)
            }
            Request::Taken => kept.taken(),
            Request::TurnFan { percent } => kept.turn_fan(percent),
            Request::WayBack { settings } => {
                let settings = settings.with_unwritten_fan(kept.description());
                kept.set_way_back(&settings)
            }
            Request::Start { settings, renew } => {
                let whole =
                    |settings: Box<Settings>| settings.with_unwritten_fan(kept.description());
                let settings = settings.map(whole);
                kept.set_start(settings, renew)
            }
            Request::Ceiling => kept.ceiling(),
            Request::WantLimits { wanted } => kept.want_limits(wanted.map(|wanted| *wanted), peer),
            Request::RenewLimits => kept.renew_limits(),
            Request::Log { seconds } => {
                Reply::Logged { lines: kernel_log(kept.address(), seconds) }
            }
            Request::Alive => Reply::Done,
            Request::Leave => {
                if let Some(told) = kept.release(visitor, "its controller left") {
                    (self.tell)(&told);
                }
                match kept.is_away() {
                    false => Reply::Done,
                    true => Reply::Refused { why: "the card is not back yet".into() },
                }
            }
        }
    }
}

fn is_override_wanted(records: &Records, record: &Record) -> bool {
    let known = limits_in(records.directory(), &record.card).read_unseen();
    // One that cannot be read is told when the card is opened.
    known.ok().flatten().is_some_and(|known| known.wanted.is_some())
}

fn refuse(mut stream: UnixStream, why: String) {
    // It may have left already.
    let _ = stream.set_write_timeout(Some(READS));
    let _ = send(&mut stream, &Reply::Refused { why });
}
