//! Installs packages in a folder, with the database that dpkg would have written.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};

use md5::Digest as _;
use rustix::fs::{AtFlags, CWD, Gid, Timespec, Timestamps, UTIME_OMIT, Uid};

use crate::package::{Content, Package};

/// Sets a path's modification time, without following symlinks.
pub(crate) fn set_mtime(path: &Path, seconds: i64, nanos: i64) -> io::Result<()> {
    let times = Timestamps {
        last_access: Timespec { tv_sec: 0, tv_nsec: UTIME_OMIT },
        last_modification: Timespec { tv_sec: seconds, tv_nsec: nanos },
    };
    Ok(rustix::fs::utimensat(CWD, path, &times, AtFlags::SYMLINK_NOFOLLOW)?)
}

/// Sets a path's owner, as root; an ordinary user's demo belongs to that user.
pub(crate) fn set_owner(path: &Path, uid: u32, gid: u32) -> io::Result<()> {
    if rustix::process::geteuid().is_root() {
        rustix::fs::chownat(CWD, path, Some(Uid::from_raw(uid)), Some(Gid::from_raw(gid)), AtFlags::SYMLINK_NOFOLLOW)?;
    }
    Ok(())
}

fn place(root: &Path, path: &str) -> PathBuf {
    root.join(path.trim_start_matches('/'))
}

/// Installs packages: files first, the database next, folder times last.
pub(crate) fn install(root: &Path, packages: &[Package]) -> io::Result<()> {
    fs::create_dir_all(root)?;
    let mut folders: BTreeMap<PathBuf, (u32, [u32; 2], i64)> = BTreeMap::new();
    // The symlinks into /usr come first, as an installer creates them.
    for alias in ["bin", "sbin", "lib"] {
        fs::create_dir_all(root.join("usr").join(alias))?;
        symlink(format!("usr/{alias}"), root.join(alias))?;
    }
    for package in packages {
        for item in &package.items {
            let path = place(root, &item.path);
            let owner = [item.owner[0].1, item.owner[1].1];
            match &item.content {
                Content::Folder => {
                    fs::create_dir_all(&path)?;
                    if !path.is_symlink() {
                        folders.insert(path, (item.mode, owner, item.mtime));
                    }
                    continue;
                }
                _ if path.symlink_metadata().is_ok()
                    && (path.is_symlink() || package.arch == "i386" || path.is_file()) => {}
                Content::File(bytes) => {
                    fs::write(&path, bytes)?;
                    set_owner(&path, owner[0], owner[1])?;
                    fs::set_permissions(&path, fs::Permissions::from_mode(item.mode))?;
                }
                Content::Device(..) => continue,
                Content::Link(target) => symlink(target, &path)?,
                Content::Name(of) => fs::hard_link(place(root, of), &path)?,
            }
            set_mtime(&path, item.mtime, 0)?;
        }
    }
    for (path, (mode, owner, _)) in &folders {
        set_owner(path, owner[0], owner[1])?;
        fs::set_permissions(path, fs::Permissions::from_mode(*mode))?;
    }
    database(root, packages)?;
    for (path, (.., mtime)) in folders.iter().rev() {
        set_mtime(path, *mtime, 0)?;
    }
    Ok(())
}

fn database(root: &Path, packages: &[Package]) -> io::Result<()> {
    let dpkg = root.join("var/lib/dpkg");
    for folder in ["info", "updates", "triggers", "parts", "alternatives"] {
        fs::create_dir_all(dpkg.join(folder))?;
    }
    let mut status = String::new();
    for package in packages {
        status.push_str(&status_of(package));
        status.push('\n');
        let same = package.fields.iter().any(|f| f == "Multi-Arch: same");
        let stem = if same { format!("{}:{}", package.name, package.arch) } else { package.name.clone() };
        let info = |suffix: &str| dpkg.join("info").join(format!("{stem}.{suffix}"));
        let mut list = String::from("/.\n");
        package.items.iter().filter(|i| i.path != "/").for_each(|i| list.push_str(&format!("{}\n", i.path)));
        fs::write(info("list"), list)?;
        // dpkg computes digests itself if a package contains none, for configuration files too.
        fs::write(info("md5sums"), package.md5sums_text())?;
        let conffiles: String = package.items.iter().filter(|i| i.settings).map(|i| format!("{}\n", i.path)).collect();
        if !conffiles.is_empty() {
            fs::write(info("conffiles"), conffiles)?;
        }
        for (name, text) in &package.scripts {
            fs::write(info(name), text)?;
            fs::set_permissions(info(name), fs::Permissions::from_mode(0o755))?;
        }
    }
    for table in ["status", "status-old"] {
        fs::write(dpkg.join(table), &status)?;
    }
    fs::write(dpkg.join("info/format"), "1\n")?;
    for empty in ["lock", "lock-frontend", "available", "arch"] {
        fs::write(dpkg.join(empty), if empty == "arch" { "amd64\ni386\n" } else { "" })?;
    }
    Ok(())
}

/// What the packages' own scripts and the administrator changed on the demo machine.
pub(crate) fn customise(root: &Path) -> io::Result<()> {
    let (dpkg, bin) = (root.join("var/lib/dpkg"), root.join("usr/bin"));
    fs::set_permissions(bin.join("gangway-switch"), fs::Permissions::from_mode(0o4755))?;
    fs::write(dpkg.join("statoverride"), "root adm 0750 /usr/bin/knotcheck\n")?;
    fs::write(dpkg.join("diversions"), "/usr/bin/stowaway\n/usr/bin/stowaway.real\n:\n")?;
    set_owner(&bin.join("knotcheck"), 0, 4)?;
    fs::set_permissions(bin.join("knotcheck"), fs::Permissions::from_mode(0o750))?;
    fs::rename(bin.join("stowaway"), bin.join("stowaway.real"))?;
    fs::write(bin.join("stowaway"), "#!/bin/sh\nexec /usr/bin/stowaway.real \"$@\"\n")?;
    fs::set_permissions(bin.join("stowaway"), fs::Permissions::from_mode(0o755))
}

fn status_of(package: &Package) -> String {
    let mut text = format!("Package: {}\nStatus: install ok installed\nPriority: optional\n", package.name);
    text.push_str(&format!("Maintainer: {}\nArchitecture: {}\n", crate::package::MAINTAINER, package.arch));
    let (early, late): (Vec<_>, Vec<_>) = package.fields.iter().partition(|f| f.starts_with("Multi-Arch:"));
    early.iter().for_each(|field| text.push_str(&format!("{field}\n")));
    text.push_str(&format!("Version: {}\n", package.version));
    late.iter().for_each(|field| text.push_str(&format!("{field}\n")));
    let settings: Vec<_> = package.items.iter().filter(|i| i.settings).collect();
    if !settings.is_empty() {
        text.push_str("Conffiles:\n");
        for item in settings {
            if let Content::File(bytes) = &item.content {
                text.push_str(&format!(" {} {}\n", item.path, hex::encode(md5::Md5::digest(bytes))));
            }
        }
    }
    text.push_str(&format!("Description: {}\n", package.summary));
    text
}

/// The machine's own configuration and logs.
pub(crate) fn configure(root: &Path, packages: &[Package]) -> io::Result<()> {
    let etc = root.join("etc");
    fs::write(etc.join("hostname"), "counter-03\n")?;
    let passwd = "root:x:0:0:root:/root:/usr/bin/sh\ndaemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin\nhawser:x:101:101::/var/lib/hawserd:/usr/sbin/nologin\n\
        mirela:x:1000:1000:Mirela, counter:/home/mirela:/usr/bin/sh\noskar:x:1001:1001:Oskar, nights:/home/oskar:/usr/bin/sh\n";
    fs::write(etc.join("passwd"), passwd)?;
    fs::write(etc.join("group"), "root:x:0:\nadm:x:4:\nhawser:x:101:\nmirela:x:1000:\noskar:x:1001:\n")?;
    fs::write(etc.join("fstab"), "# made by the installer\nUUID=0000-demo / ext4 defaults 0 1\n")?;
    let log = root.join("var/log");
    let mut lines = String::new();
    for package in packages {
        let (day, verb) = if package.version.ends_with("-2") {
            ("2026-03-02 17:42:10", "upgrade")
        } else {
            ("2026-01-12 09:00:00", "install")
        };
        let from = if verb == "upgrade" { "4.2-1" } else { "<none>" };
        lines.push_str(&format!("{day} {verb} {}:{} {from} {}\n", package.name, package.arch, package.version));
    }
    let mut sorted: Vec<&str> = lines.lines().collect();
    sorted.sort_unstable();
    fs::write(log.join("dpkg.log"), sorted.join("\n") + "\n")?;
    fs::create_dir_all(log.join("apt"))?;
    fs::write(log.join("apt/history.log"), history(packages))?;
    // Independent of the builder's clock.
    settle_times(root)
}

/// apt's logs: the installation, and the update after which the trouble began.
fn history(packages: &[Package]) -> String {
    let (updated, first): (Vec<&Package>, Vec<&Package>) = packages.iter().partition(|p| p.version.ends_with("-2"));
    let all = |packages: &[&Package], versions: &dyn Fn(&Package) -> String| {
        let one = |p: &&Package| format!("{}:{} ({})", p.name, p.arch, versions(p));
        packages.iter().map(one).collect::<Vec<_>>().join(", ")
    };
    let mut text = format!(
        "\nStart-Date: 2026-01-12  09:00:00\nCommandline: apt-get install foreshore-desktop\nInstall: {}\nEnd-Date: 2026-01-12  09:04:31\n",
        all(&first, &|p| format!("{}, automatic", p.version)),
    );
    if !updated.is_empty() {
        text.push_str(&format!(
            "\nStart-Date: 2026-03-02  17:42:03\nCommandline: apt-get upgrade\nRequested-By: oskar (1001)\nUpgrade: {}\nEnd-Date: 2026-03-02  17:42:19\n",
            all(&updated, &|p| format!("4.2-1, {}", p.version)),
        ));
    }
    text
}

fn settle_times(root: &Path) -> io::Result<()> {
    let lately = crate::NOW - 86_400;
    let fixed = ["var/lib/dpkg", "var/log", "etc/hostname", "etc/passwd", "etc/group", "etc/fstab", "usr/bin/stowaway"];
    for name in fixed {
        let mut todo = vec![root.join(name)];
        while let Some(path) = todo.pop() {
            if path.is_dir() && !path.is_symlink() {
                todo.extend(fs::read_dir(&path)?.flatten().map(|e| e.path()));
            }
            set_owner(&path, 0, 0)?;
            set_mtime(&path, lately, 0)?;
        }
    }
    for folder in ["etc", "usr/bin", "usr", "var", "var/lib", "home", ""] {
        set_mtime(&root.join(folder), lately, 0)?;
    }
    debug_assert!(!root.as_os_str().as_bytes().is_empty());
    Ok(())
}
