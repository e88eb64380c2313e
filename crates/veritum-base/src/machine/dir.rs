//! [`Dir`]: an open folder of the machine.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::Arc;

use super::disk::Disk;
use crate::model::{ContentHasher, Digest, Stat};

/// An open folder of the machine.
#[derive(Debug, Clone)]
pub struct Dir {
    pub(super) disk: Arc<dyn Disk>,
    pub(super) fd: Arc<OwnedFd>,
}

impl Dir {
    /// The disk.
    #[must_use]
    pub fn disk(&self) -> &dyn Disk {
        &*self.disk
    }

    /// The handle.
    #[must_use]
    pub fn fd(&self) -> BorrowedFd<'_> {
        self.fd.as_fd()
    }

    /// Wraps a handle of a folder that was opened elsewhere.
    #[must_use]
    pub fn handed_over(disk: Arc<dyn Disk>, fd: OwnedFd) -> Self {
        Self { disk, fd: Arc::new(fd) }
    }

    /// Duplicates the handle.
    ///
    /// # Errors
    /// When too many files are open.
    pub fn handle(&self) -> io::Result<OwnedFd> {
        self.fd().try_clone_to_owned()
    }

    /// Wraps a folder of the same disk that was opened elsewhere.
    #[must_use]
    pub fn beside(&self, fd: OwnedFd) -> Self {
        Self { disk: self.disk.clone(), fd: Arc::new(fd) }
    }

    /// Examines a name without following it; `None` when it does not exist.
    ///
    /// # Errors
    /// Every other failure.
    pub fn look(&self, name: &[u8]) -> io::Result<Option<Stat>> {
        match self.disk.look(self.fd(), name) {
            Ok(stat) => Ok(Some(stat)),
            Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(e) => Err(e),
        }
    }

    /// Examines the folder itself.
    ///
    /// # Errors
    /// When the kernel reports an error.
    pub fn look_self(&self) -> io::Result<Stat> {
        self.disk.look_open(self.fd())
    }

    /// Reads a whole file of at most `limit` bytes.
    ///
    /// # Errors
    /// When it cannot be read, is not a regular file, or is larger.
    pub fn read(&self, name: &[u8], limit: u64) -> io::Result<Vec<u8>> {
        let file = self.disk.open_file(self.fd(), name)?;
        read_to_limit(&*self.disk, file.as_fd(), limit)
    }

    /// The BLAKE3 digest of a file's content, whatever its size.
    ///
    /// # Errors
    /// If it cannot be read or is not a regular file.
    pub fn digest(&self, name: &[u8]) -> io::Result<Option<Digest>> {
        let file = self.disk.open_file(self.fd(), name)?;
        let mut hasher = ContentHasher::blake3();
        let mut piece = vec![0; 128 * 1024];
        loop {
            let n = self.disk.read(file.as_fd(), &mut piece)?;
            if n == 0 {
                return Ok(hasher.finish().0);
            }
            hasher.update(&piece[..n]);
        }
    }
}

/// Reads an open file of at most `limit` bytes to its end.
pub fn read_to_limit(disk: &dyn Disk, file: BorrowedFd<'_>, limit: u64) -> io::Result<Vec<u8>> {
    let size = disk.look_open(file)?.size;
    let mut bytes = Vec::with_capacity(usize::try_from(size.min(limit)).unwrap_or(0) + 1);
    // Most such files are small: allocating a large buffer for each would cost more than reading them.
    let mut buffer = vec![0; usize::try_from(size.clamp(512, 64 * 1024)).unwrap_or(512) + 1];
    loop {
        let n = disk.read(file, &mut buffer)?;
        if n == 0 {
            return Ok(bytes);
        }
        bytes.extend_from_slice(&buffer[..n]);
        if bytes.len() as u64 > limit {
            return Err(io::Error::new(io::ErrorKind::FileTooLarge, format!("larger than {limit} bytes")));
        }
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;
    use crate::machine::{LiveDisk, Machine};
    use crate::model::{FileKind, SystemPath};

    fn with(look: impl FnOnce(&Dir)) {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join("large"), vec![7; 300_000]).unwrap();
        fs::write(folder.path().join("empty"), "").unwrap();
        fs::create_dir(folder.path().join("folder")).unwrap();
        std::os::unix::fs::symlink("large", folder.path().join("link")).unwrap();
        let machine = Machine::open(folder.path(), Arc::new(LiveDisk)).unwrap();
        look(&machine.dir(&SystemPath::root()).unwrap());
    }

    #[test]
    fn a_digest_is_that_of_the_whole_content_and_of_files_alone() {
        with(|dir| {
            assert_eq!(dir.digest(b"large").unwrap(), Some(Digest::hash(&vec![7; 300_000])));
            assert_eq!(dir.digest(b"empty").unwrap(), Some(Digest::hash(b"")));
            assert!(dir.digest(b"folder").is_err() && dir.digest(b"link").is_err(), "links are not followed");
            assert_eq!(dir.digest(b"nothing").unwrap_err().kind(), io::ErrorKind::NotFound);
        });
    }

    #[test]
    fn what_is_larger_than_it_may_be_is_refused_and_not_cut() {
        with(|dir| {
            assert_eq!(dir.read(b"large", 300_000).unwrap().len(), 300_000);
            assert_eq!(dir.read(b"large", 299_999).unwrap_err().kind(), io::ErrorKind::FileTooLarge);
            assert_eq!(dir.read(b"empty", 0).unwrap(), b"");
        });
    }

    #[test]
    fn what_is_not_there_is_no_error_and_a_link_is_seen_as_one() {
        with(|dir| {
            assert!(dir.look(b"nothing").unwrap().is_none());
            assert_eq!(dir.look(b"link").unwrap().map(|stat| stat.kind), Some(FileKind::Link));
            let again = Dir::handed_over(Arc::new(LiveDisk), dir.handle().unwrap());
            assert_eq!(again.look_self().unwrap().id, dir.look_self().unwrap().id);
        });
    }
}
