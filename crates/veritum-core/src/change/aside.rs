//! Where a user's data is set aside: in the home itself, on its own mount, private, under the original paths.

use std::io;

use super::context::ChangeContext;
use super::slot::{BackupSlot, give, make_private, private};
use super::state::make_folder;
use crate::apps::ASIDE;
use crate::machine::Dir;
use crate::model::{FileKind, Instant, SystemPath};

/// The name of a change's folder: its start in UTC, and its number.
pub(super) fn name_of(started: jiff::Timestamp, change: u64) -> String {
    format!("{}-{change}", started.strftime("%Y%m%dT%H%M%SZ"))
}

/// A single folder name: a change log is foreign bytes.
fn checked(name: &str) -> io::Result<&[u8]> {
    let plain = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-');
    if plain { Ok(name.as_bytes()) } else { Err(io::ErrorKind::InvalidData.into()) }
}

/// The home, and the place relative to it.
fn home_of<'a>(context: &ChangeContext<'_>, place: &'a SystemPath) -> io::Result<(Dir, &'a [u8])> {
    let home = context.home.ok_or(io::ErrorKind::InvalidInput)?;
    let below = place.below(&home.place).filter(|below| !below.is_empty()).ok_or(io::ErrorKind::InvalidInput)?;
    Ok((context.machine.dir(&home.place)?, below))
}

fn split(below: &[u8]) -> (Option<&[u8]>, &[u8]) {
    match below.iter().rposition(|byte| *byte == b'/') {
        Some(at) => (Some(&below[..at]), &below[at + 1..]),
        None => (None, below),
    }
}

/// Whether an error says that another object is in place of our folder.
pub(super) fn is_anothers(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotADirectory | io::ErrorKind::PermissionDenied)
        || error.raw_os_error() == Some(rustix::io::Errno::LOOP.raw_os_error())
}

/// Checks that data can be set aside in a home; creates nothing.
pub(super) fn require(context: &ChangeContext<'_>, home: &SystemPath) -> io::Result<()> {
    let dir = context.machine.dir(home)?;
    if dir.look(ASIDE.as_bytes())?.is_some() {
        return private(&dir, ASIDE.as_bytes()).map(drop);
    }
    let stat = dir.look_self()?;
    if stat.uid != 0 && stat.mode & 0o300 != 0o300 {
        return Err(io::Error::new(io::ErrorKind::PermissionDenied, "the user's home is not writable (mode)"));
    }
    Ok(())
}

/// Opens the folder for what was at `place`.
pub(super) fn open(context: &ChangeContext<'_>, name: &str, place: &SystemPath) -> io::Result<BackupSlot> {
    let (home, below) = home_of(context, place)?;
    let (above, last) = split(below);
    let all = private(&home, ASIDE.as_bytes())?;
    let mut dir = all.beside(all.disk().open_dir(all.fd(), checked(name)?)?);
    if let Some(above) = above {
        dir = dir.beside(dir.disk().open_dir(dir.fd(), above)?);
    }
    Ok(BackupSlot::of_a_user(dir, last))
}

/// The same; missing folders are created.
pub(super) fn make(context: &ChangeContext<'_>, name: &str, place: &SystemPath) -> io::Result<BackupSlot> {
    let (home, below) = home_of(context, place)?;
    let (above, last) = split(below);
    let owner = home.look_self().map(|stat| (stat.uid, stat.gid))?;
    let all = make_private(&home, ASIDE.as_bytes())?;
    let mut whole = checked(name)?.to_vec();
    whole.extend(above.iter().flat_map(|above| [b"/", *above]).flatten());
    // In most cases a neighbour was set aside before.
    let (mut dir, left) = deepest(&all, &whole)?;
    // An interruption may have come before the last of them was given to its owner.
    give(&dir, b".", owner)?;
    for folder in left.split(|byte| *byte == b'/').filter(|folder| !folder.is_empty()) {
        let next = make_folder(&dir, folder)?;
        give(&dir, folder, owner)?;
        dir = next;
    }
    Ok(BackupSlot::of_a_user(dir, last))
}

/// The deepest existing folder of the path, and the rest of the path.
fn deepest<'a>(all: &Dir, way: &'a [u8]) -> io::Result<(Dir, &'a [u8])> {
    let mut there = way;
    loop {
        match all.disk().open_dir(all.fd(), there) {
            Ok(fd) => return Ok((all.beside(fd), &way[there.len()..])),
            Err(e) if e.kind() == io::ErrorKind::NotFound => {}
            Err(e) => return Err(e),
        }
        match split(there) {
            (Some(above), _) => there = above,
            (None, _) => return Ok((all.clone(), way)),
        }
    }
}

/// Removes folders that became empty after something was restored; folders with content stay.
pub(super) fn tidy(context: &ChangeContext<'_>, name: &str, place: &SystemPath) -> io::Result<()> {
    let (home, below) = home_of(context, place)?;
    let before = home.look_self()?.mtime;
    let all = match private(&home, ASIDE.as_bytes()) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(()),
        // It may be ours although its owner was not set yet.
        Err(e) if is_anothers(&e) => {
            let ours = home.look(ASIDE.as_bytes())?.is_some_and(|stat| stat.uid == 0 && stat.mode == 0o700);
            return if ours { top_tidied(&home, before) } else { Ok(()) };
        }
        other => other?,
    };
    let mut path = checked(name)?.to_vec();
    path.push(b'/');
    path.extend_from_slice(below);
    while let (Some(above), _) = split(&path) {
        let above = above.to_vec();
        let (folder, last) = split(&above);
        let dir = match folder {
            Some(folder) => all.disk().open_dir(all.fd(), folder).map(|fd| all.beside(fd)),
            None => Ok(all.clone()),
        };
        match dir.and_then(|dir| taken_away(&dir, last)) {
            Ok(true) => {}
            // Its neighbour moved this folder together with its content.
            Err(e) if e.kind() == io::ErrorKind::NotFound => {}
            Ok(false) => return Ok(()),
            Err(e) => return Err(e),
        }
        path = above;
    }
    top_tidied(&home, before)
}

/// Removes the home's own folder when nothing is set aside any more; the home is as before.
fn top_tidied(home: &Dir, before: Instant) -> io::Result<()> {
    if taken_away(home, ASIDE.as_bytes())? {
        home.disk().set_mtime(home.fd(), b"", before)?;
    }
    Ok(())
}

/// Removes an empty folder; returns whether it no longer exists.
fn taken_away(dir: &Dir, name: &[u8]) -> io::Result<bool> {
    match dir.look(name)? {
        None => return Ok(true),
        Some(stat) if stat.kind != FileKind::Folder => return Ok(false),
        Some(_) => {}
    }
    // The kernel removes only an empty one (rmdir(2)).
    match dir.disk().remove_dir(dir.fd(), name) {
        Err(e) if matches!(e.kind(), io::ErrorKind::DirectoryNotEmpty | io::ErrorKind::AlreadyExists) => Ok(false),
        other => other.map(|()| true),
    }
}
