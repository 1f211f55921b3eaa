//! The files of devices as a file system (FUSE).

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::io;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use std::thread;
use std::time::{Duration, UNIX_EPOCH};

use fuser::{
    BackgroundSession, BsdFileFlags, Config, Errno, FileAttr, FileHandle, FileType, Filesystem,
    FopenFlags, Generation, INodeNo, LockOwner, MountOption, OpenFlags, ReplyAttr, ReplyData,
    ReplyDirectory, ReplyEntry, ReplyOpen, ReplyWrite, Request, SessionACL, TimeOrNow, WriteFlags,
};

use crate::device::{Device, File};

/// Nothing is remembered by the system: files come and go, and every look is a new one.
const FORGOTTEN: Duration = Duration::ZERO;
/// Time between two steps of the card.
const TICK: Duration = Duration::from_millis(20);
/// Size of every file, as the kernel states it for its own: a page, whatever is in it.
const PAGE: u64 = 4_096;

/// A mounted device; it is unmounted when this is dropped.
pub struct Mounted {
    session: Option<BackgroundSession>,
}

impl Mounted {
    /// Unmounts it.
    ///
    /// # Errors
    /// Something still uses it.
    pub fn unmount(mut self) -> io::Result<()> {
        self.session.take().map_or(Ok(()), BackgroundSession::umount_and_join)
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        if let Some(session) = self.session.take() {
            // Whoever wants to know whether it went asks for it.
            let _ = session.umount_and_join();
        }
    }
}

/// Mounts the devices of a machine at a directory. Everybody may read, and its owner alone may write.
///
/// # Errors
/// There is no such directory, or this user may not mount there.
pub fn mount(devices: Vec<Device>, directory: &Path) -> io::Result<Mounted> {
    let mut config = Config::default();
    config.mount_options = vec![
        MountOption::FSName("kernel-tree".into()),
        MountOption::DefaultPermissions,
        MountOption::NoExec,
    ];
    config.acl = SessionACL::All;
    let owner = (nix::unistd::getuid().as_raw(), nix::unistd::getgid().as_raw());
    let inside = Arc::new(Mutex::new(Inside { devices, paths: vec![String::new()] }));
    let files = Files { inside: Arc::clone(&inside), owner };
    let session = fuser::spawn_mount(files, directory, &config)?;
    let ticking = Arc::downgrade(&inside);
    thread::spawn(move || tick(&ticking));
    Ok(Mounted { session: Some(session) })
}

/// Lets time pass for the cards, as long as they are mounted.
fn tick(mounted: &Weak<Mutex<Inside>>) {
    while let Some(inside) = mounted.upgrade() {
        let mut held = inside.lock().unwrap_or_else(PoisonError::into_inner);
        held.devices.iter_mut().for_each(Device::pass_time);
        drop(held);
        drop(inside);
        thread::sleep(TICK);
    }
}

struct Files {
    inside: Arc<Mutex<Inside>>,
    owner: (u32, u32),
}

struct Inside {
    devices: Vec<Device>,
    /// Paths by their number, which stays theirs; the root is the first.
    paths: Vec<String>,
}

/// What lies at a path.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Found {
    Directory,
    File { is_writable: bool },
}

impl Inside {
    fn number_of(&mut self, path: &str) -> INodeNo {
        let known = self.paths.iter().position(|known| known == path);
        let at = known.unwrap_or_else(|| {
            self.paths.push(path.to_owned());
            self.paths.len() - 1
        });
        INodeNo(at as u64 + 1)
    }

    fn path_of(&self, number: INodeNo) -> Option<String> {
        self.paths.get(u64::from(number).checked_sub(1)? as usize).cloned()
    }

    /// The files of all devices.
    fn files(&mut self) -> Vec<File> {
        self.devices.iter_mut().flat_map(Device::files).collect()
    }

    /// The device to which a path belongs.
    fn device_at(&mut self, path: &str) -> Result<&mut Device, nix::errno::Errno> {
        let found = self.devices.iter_mut().find(|device| path.starts_with(&device.directory()));
        found.ok_or(nix::errno::Errno::ENOENT)
    }

    fn look(&mut self, path: &str) -> Option<Found> {
        if path.is_empty() {
            return Some(Found::Directory);
        }
        let below = format!("{path}/");
        self.files().iter().find_map(|file| {
            if file.path == path {
                return Some(Found::File { is_writable: file.is_writable });
            }
            file.path.starts_with(&below).then_some(Found::Directory)
        })
    }

    /// Names in a directory.
    fn names(&mut self, path: &str) -> BTreeSet<String> {
        let below = if path.is_empty() { String::new() } else { format!("{path}/") };
        let files = self.files();
        let names = files.iter().filter_map(|file| file.path.strip_prefix(&below));
        names.map(|rest| rest.split('/').next().unwrap_or(rest).to_owned()).collect()
    }
}

impl Files {
    fn inside(&self) -> MutexGuard<'_, Inside> {
        self.inside.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn attributes(&self, number: INodeNo, found: Found) -> FileAttr {
        let (kind, perm, nlink) = match found {
            Found::Directory => (FileType::Directory, 0o755, 2),
            Found::File { is_writable: true } => (FileType::RegularFile, 0o644, 1),
            Found::File { is_writable: false } => (FileType::RegularFile, 0o444, 1),
        };
        FileAttr {
            ino: number,
            size: PAGE,
            blocks: 0,
            atime: UNIX_EPOCH,
            mtime: UNIX_EPOCH,
            ctime: UNIX_EPOCH,
            crtime: UNIX_EPOCH,
            kind,
            perm,
            nlink,
            uid: self.owner.0,
            gid: self.owner.1,
            rdev: 0,
            blksize: PAGE as u32,
            flags: 0,
        }
    }

    /// The attributes of what has a number, if it is still there.
    fn known(&self, number: INodeNo) -> Result<FileAttr, Errno> {
        let mut inside = self.inside();
        let path = inside.path_of(number).ok_or(Errno::ENOENT)?;
        let found = inside.look(&path).ok_or(Errno::ENOENT)?;
        Ok(self.attributes(number, found))
    }
}

fn said(errno: nix::errno::Errno) -> Errno {
    Errno::from_i32(errno as i32)
}

impl Filesystem for Files {
    fn lookup(&self, _req: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEntry) {
        let mut inside = self.inside();
        let found = inside.path_of(parent).zip(name.to_str()).and_then(|(parent, name)| {
            let path = if parent.is_empty() { name.to_owned() } else { format!("{parent}/{name}") };
            inside.look(&path).map(|found| (path, found))
        });
        match found {
            None => reply.error(Errno::ENOENT),
            Some((path, found)) => {
                let number = inside.number_of(&path);
                reply.entry(&FORGOTTEN, &self.attributes(number, found), Generation(0));
            }
        }
    }

    fn getattr(&self, _req: &Request, ino: INodeNo, _fh: Option<FileHandle>, reply: ReplyAttr) {
        match self.known(ino) {
            Ok(attributes) => reply.attr(&FORGOTTEN, &attributes),
            Err(errno) => reply.error(errno),
        }
    }

    /// A shell empties a file before it writes to it; nothing here has a length to be changed.
    fn setattr(
        &self,
        _req: &Request,
        ino: INodeNo,
        mode: Option<u32>,
        uid: Option<u32>,
        gid: Option<u32>,
        _size: Option<u64>,
        _atime: Option<TimeOrNow>,
        _mtime: Option<TimeOrNow>,
        _ctime: Option<std::time::SystemTime>,
        _fh: Option<FileHandle>,
        _crtime: Option<std::time::SystemTime>,
        _chgtime: Option<std::time::SystemTime>,
        _bkuptime: Option<std::time::SystemTime>,
        _flags: Option<BsdFileFlags>,
        reply: ReplyAttr,
    ) {
        if mode.is_some() || uid.is_some() || gid.is_some() {
            return reply.error(Errno::EPERM);
        }
        match self.known(ino) {
            Ok(attributes) => reply.attr(&FORGOTTEN, &attributes),
            Err(errno) => reply.error(errno),
        }
    }

    fn open(&self, _req: &Request, ino: INodeNo, _flags: OpenFlags, reply: ReplyOpen) {
        match self.known(ino) {
            // Reads and writes come here as they are made.
            Ok(_) => reply.opened(FileHandle(0), FopenFlags::FOPEN_DIRECT_IO),
            Err(errno) => reply.error(errno),
        }
    }

    fn read(
        &self,
        _req: &Request,
        ino: INodeNo,
        _fh: FileHandle,
        offset: u64,
        size: u32,
        _flags: OpenFlags,
        _lock_owner: Option<LockOwner>,
        reply: ReplyData,
    ) {
        let mut inside = self.inside();
        let Some(path) = inside.path_of(ino) else { return reply.error(Errno::ENOENT) };
        match inside.device_at(&path).and_then(|device| device.read_bytes(&path)) {
            Ok(bytes) => {
                let from = (offset as usize).min(bytes.len());
                let to = (from + size as usize).min(bytes.len());
                reply.data(&bytes[from..to]);
            }
            Err(errno) => reply.error(said(errno)),
        }
    }

    fn write(
        &self,
        _req: &Request,
        ino: INodeNo,
        _fh: FileHandle,
        _offset: u64,
        data: &[u8],
        _write_flags: WriteFlags,
        _flags: OpenFlags,
        _lock_owner: Option<LockOwner>,
        reply: ReplyWrite,
    ) {
        let mut inside = self.inside();
        let Some(path) = inside.path_of(ino) else { return reply.error(Errno::ENOENT) };
        match inside.device_at(&path).and_then(|device| device.write_bytes(&path, data)) {
            Ok(()) => reply.written(data.len() as u32),
            Err(errno) => reply.error(said(errno)),
        }
    }

    fn readdir(
        &self,
        _req: &Request,
        ino: INodeNo,
        _fh: FileHandle,
        offset: u64,
        mut reply: ReplyDirectory,
    ) {
        let mut inside = self.inside();
        let Some(path) = inside.path_of(ino) else { return reply.error(Errno::ENOENT) };
        let mut entries = vec![
            (ino, FileType::Directory, ".".to_owned()),
            (ino, FileType::Directory, "..".to_owned()),
        ];
        for name in inside.names(&path) {
            let whole = if path.is_empty() { name.clone() } else { format!("{path}/{name}") };
            let kind = match inside.look(&whole) {
                Some(Found::File { .. }) => FileType::RegularFile,
                _ => FileType::Directory,
            };
            entries.push((inside.number_of(&whole), kind, name));
        }
        for (at, (number, kind, name)) in entries.into_iter().enumerate().skip(offset as usize) {
            if reply.add(number, at as u64 + 1, kind, name) {
                break;
            }
        }
        reply.ok();
    }
}
