//! The log as a file system (FUSE).

use std::ffi::OsStr;
use std::io;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use fuser::{
    BackgroundSession, BsdFileFlags, Config, Errno, FileAttr, FileHandle, FileType, Filesystem,
    FopenFlags, Generation, INodeNo, LockOwner, MountOption, OpenFlags, RenameFlags, ReplyAttr,
    ReplyCreate, ReplyData, ReplyDirectory, ReplyEmpty, ReplyEntry, ReplyStatfs, ReplyWrite,
    Request, TimeOrNow, WriteFlags,
};

use crate::log::{Log, Number};

/// How long the system may remember a name: nothing changes but through it.
const LASTS: Duration = Duration::from_secs(60);
const BLOCK: u32 = 4_096;

/// A mounted log.
pub struct Mounted {
    session: Option<BackgroundSession>,
    log: Arc<Mutex<Log>>,
}

impl Mounted {
    /// How many changes and syncs there were.
    #[must_use]
    pub fn steps(&self) -> usize {
        locked(&self.log).len()
    }

    /// Unmounts it; everything that was done.
    ///
    /// # Errors
    /// Something still uses it.
    pub fn unmount(mut self) -> io::Result<Log> {
        if let Some(session) = self.session.take() {
            session.umount_and_join()?;
        }
        Ok(locked(&self.log).clone())
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

/// Mounts an empty log at a directory.
///
/// # Errors
/// There is no such directory, or this user may not mount there.
pub fn mount(directory: &Path) -> io::Result<Mounted> {
    let log = Arc::new(Mutex::new(Log::new()));
    let mut config = Config::default();
    config.mount_options = vec![MountOption::FSName("power-cut".into())];
    let owner = (nix::unistd::getuid().as_raw(), nix::unistd::getgid().as_raw());
    let files = Files { log: Arc::clone(&log), owner };
    let session = fuser::spawn_mount(files, directory, &config)?;
    Ok(Mounted { session: Some(session), log })
}

fn locked(log: &Mutex<Log>) -> MutexGuard<'_, Log> {
    log.lock().unwrap_or_else(PoisonError::into_inner)
}

struct Files {
    log: Arc<Mutex<Log>>,
    owner: (u32, u32),
}

impl Files {
    fn attributes(&self, log: &Log, number: Number) -> Option<FileAttr> {
        let is_directory = log.is_directory(number)?;
        let size = log.content(number).map_or(u64::from(BLOCK), |content| content.len() as u64);
        let (kind, perm) = match is_directory {
            true => (FileType::Directory, 0o700),
            false => (FileType::RegularFile, 0o600),
        };
        Some(FileAttr {
            ino: INodeNo(number),
            size,
            blocks: size.div_ceil(512),
            atime: UNIX_EPOCH,
            mtime: UNIX_EPOCH,
            ctime: UNIX_EPOCH,
            crtime: UNIX_EPOCH,
            kind,
            perm,
            nlink: 1,
            uid: self.owner.0,
            gid: self.owner.1,
            rdev: 0,
            blksize: BLOCK,
            flags: 0,
        })
    }

    fn made(&self, parent: INodeNo, name: &OsStr, is_directory: bool) -> Result<FileAttr, Errno> {
        let mut log = locked(&self.log);
        let name = name.to_str().ok_or(Errno::EINVAL)?;
        if log.look(parent.into(), name).is_some() {
            return Err(Errno::EEXIST);
        }
        let number = log.make(parent.into(), name, is_directory);
        self.attributes(&log, number).ok_or(Errno::EIO)
    }
}

impl Filesystem for Files {
    fn lookup(&self, _req: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEntry) {
        let log = locked(&self.log);
        let found = name.to_str().and_then(|name| log.look(parent.into(), name));
        match found.and_then(|number| self.attributes(&log, number)) {
            Some(attributes) => reply.entry(&LASTS, &attributes, Generation(0)),
            None => reply.error(Errno::ENOENT),
        }
    }

    fn getattr(&self, _req: &Request, ino: INodeNo, _fh: Option<FileHandle>, reply: ReplyAttr) {
        match self.attributes(&locked(&self.log), ino.into()) {
            Some(attributes) => reply.attr(&LASTS, &attributes),
            None => reply.error(Errno::ENOENT),
        }
    }

    fn setattr(
        &self,
        _req: &Request,
        ino: INodeNo,
        _mode: Option<u32>,
        _uid: Option<u32>,
        _gid: Option<u32>,
        size: Option<u64>,
        _atime: Option<TimeOrNow>,
        _mtime: Option<TimeOrNow>,
        _ctime: Option<SystemTime>,
        _fh: Option<FileHandle>,
        _crtime: Option<SystemTime>,
        _chgtime: Option<SystemTime>,
        _bkuptime: Option<SystemTime>,
        _flags: Option<BsdFileFlags>,
        reply: ReplyAttr,
    ) {
        let mut log = locked(&self.log);
        if let Some(size) = size {
            log.resize(ino.into(), size);
        }
        match self.attributes(&log, ino.into()) {
            Some(attributes) => reply.attr(&LASTS, &attributes),
            None => reply.error(Errno::ENOENT),
        }
    }

    fn mkdir(
        &self,
        _req: &Request,
        parent: INodeNo,
        name: &OsStr,
        _mode: u32,
        _umask: u32,
        reply: ReplyEntry,
    ) {
        match self.made(parent, name, true) {
            Ok(attributes) => reply.entry(&LASTS, &attributes, Generation(0)),
            Err(errno) => reply.error(errno),
        }
    }

    fn create(
        &self,
        _req: &Request,
        parent: INodeNo,
        name: &OsStr,
        _mode: u32,
        _umask: u32,
        _flags: i32,
        reply: ReplyCreate,
    ) {
        match self.made(parent, name, false) {
            Ok(attributes) => reply.created(
                &LASTS,
                &attributes,
                Generation(0),
                FileHandle(0),
                FopenFlags::empty(),
            ),
            Err(errno) => reply.error(errno),
        }
    }

    fn unlink(&self, _req: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEmpty) {
        let mut log = locked(&self.log);
        match name.to_str().filter(|name| log.look(parent.into(), name).is_some()) {
            Some(name) => {
                log.unlink(parent.into(), name);
                reply.ok();
            }
            None => reply.error(Errno::ENOENT),
        }
    }

    fn rename(
        &self,
        _req: &Request,
        parent: INodeNo,
        name: &OsStr,
        newparent: INodeNo,
        newname: &OsStr,
        flags: RenameFlags,
        reply: ReplyEmpty,
    ) {
        let mut log = locked(&self.log);
        let (Some(name), Some(newname)) = (name.to_str(), newname.to_str()) else {
            return reply.error(Errno::EINVAL);
        };
        if log.look(parent.into(), name).is_none() {
            return reply.error(Errno::ENOENT);
        }
        let is_taken = log.look(newparent.into(), newname).is_some();
        if flags.contains(RenameFlags::RENAME_NOREPLACE) && is_taken {
            return reply.error(Errno::EEXIST);
        }
        log.rename((parent.into(), name), (newparent.into(), newname));
        reply.ok();
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
        let log = locked(&self.log);
        let Some(content) = log.content(ino.into()) else { return reply.error(Errno::ENOENT) };
        let from = (offset as usize).min(content.len());
        let to = (from + size as usize).min(content.len());
        reply.data(&content[from..to]);
    }

    fn write(
        &self,
        _req: &Request,
        ino: INodeNo,
        _fh: FileHandle,
        offset: u64,
        data: &[u8],
        _write_flags: WriteFlags,
        _flags: OpenFlags,
        _lock_owner: Option<LockOwner>,
        reply: ReplyWrite,
    ) {
        locked(&self.log).write(ino.into(), offset, data);
        reply.written(data.len() as u32);
    }

    fn flush(
        &self,
        _req: &Request,
        _ino: INodeNo,
        _fh: FileHandle,
        _lock_owner: LockOwner,
        reply: ReplyEmpty,
    ) {
        // A file that is closed is not synced.
        reply.ok();
    }

    fn fsync(
        &self,
        _req: &Request,
        ino: INodeNo,
        _fh: FileHandle,
        _datasync: bool,
        reply: ReplyEmpty,
    ) {
        locked(&self.log).sync(ino.into());
        reply.ok();
    }

    fn fsyncdir(
        &self,
        _req: &Request,
        ino: INodeNo,
        _fh: FileHandle,
        _datasync: bool,
        reply: ReplyEmpty,
    ) {
        locked(&self.log).sync(ino.into());
        reply.ok();
    }

    fn readdir(
        &self,
        _req: &Request,
        ino: INodeNo,
        _fh: FileHandle,
        offset: u64,
        mut reply: ReplyDirectory,
    ) {
        let log = locked(&self.log);
        let own = [(".", u64::from(ino)), ("..", u64::from(ino))];
        let entries: Vec<(&str, Number)> = own.into_iter().chain(log.names(ino.into())).collect();
        for (at, (name, number)) in entries.into_iter().enumerate().skip(offset as usize) {
            let kind = match log.is_directory(number) {
                Some(false) => FileType::RegularFile,
                _ => FileType::Directory,
            };
            if reply.add(INodeNo(number), at as u64 + 1, kind, name) {
                break;
            }
        }
        reply.ok();
    }

    fn statfs(&self, _req: &Request, _ino: INodeNo, reply: ReplyStatfs) {
        reply.statfs(1 << 20, 1 << 19, 1 << 19, 1 << 16, 1 << 15, BLOCK, 255, BLOCK);
    }
}
