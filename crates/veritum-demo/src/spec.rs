//! The packages of Foreshore 4.2 and of the two releases before it, all made up.

use crate::elf;
use crate::package::{Content, Item, Package};
use crate::seed::Seed;

const ROOT: [(&str, u32); 2] = [("root", 0), ("root", 0)];
const LIB: &str = "/usr/lib/x86_64-foreshore";
/// The date of the release: 2026-01-12.
const RELEASED: i64 = 1_768_176_000;

/// The kind of a package.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Library,
    Tool,
    Service,
    App,
    Data,
}

/// Name, description, kind, number of data files.
const PACKAGES: [(&str, &str, Kind, u64); 56] = [
    ("libbrine1", "core functions that every program uses", Kind::Library, 2),
    ("libtidal3", "times of high and low water", Kind::Library, 2),
    ("libkelp0", "compression for small records", Kind::Library, 1),
    ("libhawser2", "connections between programs", Kind::Library, 1),
    ("libgunwale5", "windows and controls", Kind::Library, 6),
    ("libspindrift1", "drawing", Kind::Library, 2),
    ("libmoor4", "reading and writing settings", Kind::Library, 1),
    ("libbilge1", "reports of crashes", Kind::Library, 1),
    ("libferrule2", "characters and fonts", Kind::Library, 3),
    ("libsounding1", "sound", Kind::Library, 1),
    ("libparcel6", "reading packed files", Kind::Library, 1),
    ("libfathom2", "maps of harbours", Kind::Library, 8),
    ("tidecore-utils", "small programs for files and text", Kind::Tool, 12),
    ("quaysh", "the command interpreter", Kind::Tool, 8),
    ("shoreline-init", "starts the system and its services", Kind::Service, 22),
    ("lampd", "watches power and lamps", Kind::Service, 8),
    ("hawserd", "carries messages between programs", Kind::Service, 12),
    ("netbuoy", "finds and keeps network connections", Kind::Service, 24),
    ("quayprint", "prints tickets and letters", Kind::Service, 46),
    ("tidelog", "keeps the system's log", Kind::Service, 8),
    ("timeball", "sets the clock", Kind::Service, 6),
    ("dockhand", "mounts disks and sticks", Kind::Service, 14),
    ("gangway", "lets users log in", Kind::Service, 18),
    ("stowaway", "finds files by name", Kind::Tool, 5),
    ("ropework", "archives of files", Kind::Tool, 6),
    ("knotcheck", "checks file systems", Kind::Tool, 6),
    ("pilotage", "shows processes and load", Kind::Tool, 7),
    ("strandline-shell", "the desktop shell", Kind::App, 96),
    ("strandline-panel", "panel and clock of the shell", Kind::App, 44),
    ("strandline-files", "the shell's file manager", Kind::App, 62),
    ("strandline-settings", "settings of the desktop", Kind::App, 58),
    ("strandline-icons", "icons of the desktop", Kind::Data, 260),
    ("strandline-themes", "looks of the desktop", Kind::Data, 70),
    ("strandline-sounds", "sounds of the desktop", Kind::Data, 24),
    ("berthbook", "bookings of passages", Kind::App, 74),
    ("berthbook-data", "timetables and harbours", Kind::Data, 60),
    ("tidewriter", "letters and documents", Kind::App, 88),
    ("tidewriter-dictionaries", "dictionaries for letters", Kind::Data, 20),
    ("gullmail", "mail", Kind::App, 66),
    ("driftlook", "shows pictures", Kind::App, 48),
    ("farebridge", "card payments", Kind::App, 36),
    ("farebridge-shell-addon", "payments in the shell's panel", Kind::App, 10),
    ("tallyroll", "sums and cash reports", Kind::App, 26),
    ("harbourcam", "pictures from the harbour", Kind::App, 18),
    ("tidetable", "shows high and low water", Kind::App, 16),
    ("fonts-breakwater", "letters for screen and print", Kind::Data, 28),
    ("fonts-groyne", "letters of fixed width", Kind::Data, 12),
    ("foreshore-kernel-6.9", "the kernel and its drivers", Kind::Data, 150),
    ("foreshore-firmware", "firmware for devices", Kind::Data, 36),
    ("foreshore-docs", "handbook of the system", Kind::Data, 84),
    ("foreshore-locales", "languages of the system", Kind::Data, 90),
    ("foreshore-keys", "keys of the repository", Kind::Data, 4),
    ("scripts-coxswain", "interpreter for small programs", Kind::Tool, 120),
    ("coxswain-modules", "modules for the interpreter", Kind::Data, 110),
    ("paperwork", "reads printed documents", Kind::App, 28),
    ("screenbuoy", "reads the screen aloud", Kind::App, 32),
];

/// Collects a package's entries; adds folders.
struct Maker {
    package: Package,
    mtime: i64,
}

impl Maker {
    fn new(name: &str, version: &str, arch: &str, summary: &str, mtime: i64) -> Self {
        let package = Package {
            name: name.into(),
            version: version.into(),
            arch: arch.into(),
            summary: summary.into(),
            md5sums: true,
            ..Package::default()
        };
        let mut maker = Self { package, mtime };
        maker.folder("/");
        maker
    }

    fn push(&mut self, path: &str, content: Content, mode: u32) -> &mut Item {
        if path != "/" {
            let above = path.rsplit_once('/').map_or("", |(above, _)| above);
            self.folder(if above.is_empty() { "/" } else { above });
        }
        self.package.items.push(Item {
            path: path.into(),
            content,
            mode,
            owner: ROOT,
            mtime: self.mtime,
            settings: false,
        });
        let last = self.package.items.len() - 1;
        &mut self.package.items[last]
    }

    fn folder(&mut self, path: &str) {
        if !self.package.items.iter().any(|i| i.path == path) {
            self.push(path, Content::Folder, 0o755);
        }
    }

    fn file(&mut self, path: &str, bytes: Vec<u8>) {
        self.push(path, Content::File(bytes), 0o644);
    }

    fn program(&mut self, path: &str, bytes: Vec<u8>) {
        self.push(path, Content::File(bytes), 0o755);
    }

    fn link(&mut self, path: &str, target: &str) {
        self.push(path, Content::Link(target.into()), 0o777);
    }

    fn settings(&mut self, path: &str, text: String) {
        self.push(path, Content::File(text.into_bytes()), 0o644).settings = true;
    }
}

fn size(seed: &mut Seed) -> usize {
    let small = 200 + seed.below(4_000);
    let large = if seed.below(12) == 0 { seed.below(60_000) } else { 0 };
    usize::try_from(small + large).unwrap_or(1000)
}

fn docs(maker: &mut Maker, seed: &mut Seed) {
    let name = maker.package.name.clone();
    maker.file(
        &format!("/usr/share/doc/{name}/copyright"),
        format!("{name} is made up and may be copied by everybody.\n").into_bytes(),
    );
    maker.file(&format!("/usr/share/doc/{name}/changes"), seed.prose(600));
}

fn library(name: &str, maker: &mut Maker, seed: &mut Seed, count: u64) {
    let stem = name.trim_end_matches(|c: char| c.is_ascii_digit());
    let number = &name[stem.len()..];
    let soname = format!("{stem}.so.{number}");
    let ballast = 12_000 + usize::try_from(seed.below(160_000)).unwrap_or(0);
    let bytes = elf::library(&soname, &format!("{}_version", stem.trim_start_matches("lib")), &seed.bytes(ballast));
    maker.file(&format!("{LIB}/{soname}.4.2"), bytes);
    maker.link(&format!("{LIB}/{soname}"), &format!("{soname}.4.2"));
    for at in 0..count {
        maker.file(
            &format!("{LIB}/{stem}/part-{at:02}.bin"),
            seed.bytes(1000 + usize::try_from(seed.clone().below(9000)).unwrap_or(0)),
        );
    }
}

fn tool(name: &str, maker: &mut Maker, seed: &mut Seed, count: u64, version: &str) {
    let ballast = 8_000 + usize::try_from(seed.below(90_000)).unwrap_or(0);
    maker.program(&format!("/usr/bin/{name}"), elf::program(&format!("{name} {version}"), &seed.bytes(ballast)));
    for at in 0..count {
        maker.file(
            &format!("/usr/share/{name}/{}-{at:03}.txt", seed.pick(&["rule", "table", "part", "list"])),
            seed.prose(300 + usize::try_from(seed.clone().below(2500)).unwrap_or(0)),
        );
    }
}

fn service(name: &str, maker: &mut Maker, seed: &mut Seed, count: u64, version: &str) {
    let ballast = 10_000 + usize::try_from(seed.below(50_000)).unwrap_or(0);
    maker.program(&format!("/usr/sbin/{name}"), elf::program(&format!("{name} {version}"), &seed.bytes(ballast)));
    let unit = format!(
        "[Unit]\nDescription={name}\n\n[Service]\nExecStart=/usr/sbin/{name}\n\n[Install]\nWantedBy=multi-user.target\n"
    );
    maker.file(&format!("/usr/lib/systemd/system/{name}.service"), unit.into_bytes());
    maker.settings(&format!("/etc/{name}/{name}.conf"), format!("# settings of {name}\nlevel = 2\nname = counter\n"));
    for at in 0..count {
        let bytes = seed.prose(200 + usize::try_from(seed.clone().below(2000)).unwrap_or(0));
        maker.file(&format!("/usr/share/{name}/profile-{at:02}.conf"), bytes);
    }
}

fn app(name: &str, maker: &mut Maker, seed: &mut Seed, count: u64, version: &str) {
    let ballast = 40_000 + usize::try_from(seed.below(240_000)).unwrap_or(0);
    let (line, status) = match (name, version) {
        // The update after which the trouble began.
        ("gullmail", UPDATE) => (format!("{name} {version}: the mailbox cannot be read"), 1),
        _ => (format!("{name} {version}"), 0),
    };
    maker.program(&format!("/usr/bin/{name}"), elf::program_with_status(&line, status, &seed.bytes(ballast)));
    let title: String = name.char_indices().map(|(i, c)| if i == 0 { c.to_ascii_uppercase() } else { c }).collect();
    let entry = format!("[Desktop Entry]\nType=Application\nName={title}\nExec={name} %U\nIcon={name}\n");
    maker.file(&format!("/usr/share/applications/{name}.desktop"), entry.into_bytes());
    maker.file(
        &format!("/usr/share/icons/strandline/apps/{name}.svg"),
        format!("<svg xmlns=\"http://www.w3.org/2000/svg\"><!-- {name} --></svg>\n").into_bytes(),
    );
    maker.settings(&format!("/etc/{name}.conf"), format!("# defaults of {name}\nconfirm = yes\n"));
    for at in 0..count {
        let folder = ["templates", "help", "samples", "parts"][usize::try_from(at % 4).unwrap_or(0)];
        let bytes = if at % 3 == 0 { seed.bytes(size(&mut seed.clone())) } else { seed.prose(size(&mut seed.clone())) };
        maker.file(&format!("/usr/share/{name}/{folder}/{folder}-{at:03}"), bytes);
    }
}

fn data(name: &str, maker: &mut Maker, seed: &mut Seed, count: u64) {
    let (folder, suffix) = match name {
        n if n.contains("icons") => ("/usr/share/icons/strandline/places".to_owned(), ".svg"),
        n if n.contains("fonts") => (format!("/usr/share/fonts/{}", n.trim_start_matches("fonts-")), ".ttf"),
        n if n.contains("kernel") => ("/usr/lib/modules/6.9-foreshore/kernel/drivers".to_owned(), ".ko"),
        n if n.contains("firmware") => ("/usr/lib/firmware".to_owned(), ".fw"),
        n if n.contains("locales") => ("/usr/share/locale".to_owned(), "/messages.mo"),
        n if n.contains("modules") => ("/usr/lib/coxswain".to_owned(), ".cox"),
        n => (format!("/usr/share/{n}"), ".dat"),
    };
    for at in 0..count {
        let bytes = if suffix == ".svg" {
            format!("<svg><!-- {name} {at} --></svg>\n").into_bytes()
        } else if at % 2 == 0 {
            seed.prose(size(&mut seed.clone()))
        } else {
            seed.bytes(size(&mut seed.clone()))
        };
        maker.file(&format!("{folder}/{:02}/item-{at:03}{suffix}", at / 40), bytes);
    }
    if name.contains("kernel") {
        maker.file("/boot/vmlinuz-6.9-foreshore", seed.bytes(300_000));
    }
}

/// Unusual properties that real packages have.
fn particulars(name: &str, maker: &mut Maker, seed: &mut Seed) {
    match name {
        "tidecore-utils" => {
            // One program with several names.
            let many = elf::program("tidecore-utils: one program, three names", &seed.bytes(30_000));
            maker.program("/usr/bin/tidesort", many);
            for other in ["tidecut", "tidejoin"] {
                maker.push(&format!("/usr/bin/{other}"), Content::Name("/usr/bin/tidesort".into()), 0o755);
            }
        }
        "gangway" => {
            maker.program("/usr/bin/gangway-switch", elf::program("gangway-switch", &seed.bytes(9_000)));
            let script =
                "#!/bin/sh\nset -e\n# lets users change over to another account\nchmod 4755 /usr/bin/gangway-switch\n";
            maker.package.scripts.push(("postinst", script.into()));
            let secret =
                maker.push("/usr/share/gangway/secret.key", Content::File(b"only root and adm\n".to_vec()), 0o640);
            secret.owner = [("root", 0), ("adm", 4)];
        }
        "foreshore-docs" => {
            maker
                .file("/usr/share/foreshore-docs/a name with spaces/naïve – ünï.txt", b"awkward on purpose\n".to_vec());
            maker.file("/usr/share/foreshore-docs/back\\slash", b"x\n".to_vec());
            maker.file("/usr/share/foreshore-docs/empty", Vec::new());
            maker.folder("/usr/share/foreshore-docs/nothing-in-it");
            maker.link("/usr/share/foreshore-docs/handbook", "/usr/share/foreshore-docs/00/item-000.dat");
        }
        "quaysh" => {
            maker.link("/usr/bin/sh", "quaysh");
            maker.settings("/etc/quaysh/profile", "PATH=/usr/bin:/usr/sbin\n".into());
        }
        "fonts-groyne" => maker.package.md5sums = false,
        "hawserd" => maker.push("/var/lib/hawserd", Content::Folder, 0o750).owner = [("root", 0), ("adm", 4)],
        _ => {}
    }
}

fn package(seed: u64, (name, summary, kind, count): (&str, &str, Kind, u64), version: &str, mtime: i64) -> Package {
    let arch = if kind == Kind::Data { "all" } else { "amd64" };
    let mut maker = Maker::new(name, version, arch, summary, mtime);
    let mut stream = Seed::new(seed, &format!("{name} {version}"));
    match kind {
        Kind::Library => library(name, &mut maker, &mut stream, count),
        Kind::Tool => tool(name, &mut maker, &mut stream, count, version),
        Kind::Service => service(name, &mut maker, &mut stream, count, version),
        Kind::App => app(name, &mut maker, &mut stream, count, version),
        Kind::Data => data(name, &mut maker, &mut stream, count),
    }
    particulars(name, &mut maker, &mut stream);
    docs(&mut maker, &mut stream);
    maker.package.compression = [".xz", ".zst", ".gz", ""][usize::try_from(stream.below(4)).unwrap_or(0)];
    maker.package
}

fn base(version: &str) -> Package {
    let mut maker = Maker::new("foreshore-base", version, "amd64", "folders and files that every system has", RELEASED);
    for folder in [
        "/boot",
        "/etc",
        "/home",
        "/media",
        "/mnt",
        "/opt",
        "/root",
        "/run",
        "/srv",
        "/tmp",
        "/usr/local",
        "/var/cache",
        "/var/lib",
        "/var/log",
        "/var/mail",
        "/var/spool",
        "/var/tmp",
    ] {
        maker.folder(folder);
    }
    for item in &mut maker.package.items {
        item.mode = match item.path.as_str() {
            "/tmp" | "/var/tmp" => 0o1777,
            "/root" => 0o700,
            _ => item.mode,
        };
    }
    let os_release = format!("PRETTY_NAME=\"Foreshore {version} \\\"saltwort\\\"\"\nNAME=\"Foreshore\"\nID=foreshore\nVERSION_ID=\"{version}\"\n").replace("\\\"", "'");
    maker.file("/usr/lib/os-release", os_release.into_bytes());
    maker.link("/etc/os-release", "../usr/lib/os-release");
    for alias in ["bin", "sbin", "lib"] {
        maker.folder(&format!("/usr/{alias}"));
        maker.link(&format!("/{alias}"), &format!("usr/{alias}"));
    }
    maker.settings("/etc/motd", "Saltmarsh Ferries, ticket office\n".into());
    // Listed through the alias, as in older packages.
    maker.file(
        "/usr/share/doc/foreshore-base/copyright",
        b"foreshore-base is made up and may be copied by everybody.\n".to_vec(),
    );
    maker.package.compression = ".gz";
    maker.package
}

/// A library for a second architecture that shares a file with the first.
fn second_arch(seed: u64, version: &str) -> Package {
    let mut maker = Maker::new("libbrine1", version, "i386", "core functions that every program uses", RELEASED);
    let mut stream = Seed::new(seed, "libbrine1 i386");
    maker.file("/usr/lib/i386-foreshore/libbrine.so.1.4.2", stream.bytes(14_000));
    maker.link("/usr/lib/i386-foreshore/libbrine.so.1", "libbrine.so.1.4.2");
    docs(&mut maker, &mut Seed::new(seed, "libbrine1 docs"));
    maker.package.compression = ".zst";
    maker.package
}

/// A package that still lists its file under `/lib`.
fn aliased(seed: u64, version: &str) -> Package {
    let mut maker = Maker::new("oldrigging", version, "amd64", "drivers from before the folders were merged", RELEASED);
    let mut stream = Seed::new(seed, "oldrigging");
    maker.file("/lib/oldrigging/block.bin", stream.bytes(3_000));
    maker.program("/bin/oldrig", elf::program("oldrig", &stream.bytes(2_000)));
    docs(&mut maker, &mut stream);
    maker.package.compression = ".xz";
    maker.package
}

/// The version of the packages of that update.
const UPDATE: &str = "4.2-2";

/// Whether a package was updated on 2026-03-02; then the trouble began.
#[must_use]
pub(crate) fn is_updated(name: &str) -> bool {
    matches!(name, "gullmail" | "farebridge" | "libgunwale5")
}

/// The packages of the machine as it is: release 4.2 with that update.
#[must_use]
pub(crate) fn installed(seed: u64) -> Vec<Package> {
    release(seed, UPDATE, 1_772_409_600)
}

/// The packages as they were before that update.
#[must_use]
pub(crate) fn before_update(seed: u64) -> Vec<Package> {
    release(seed, "4.2-1", RELEASED)
}

/// Release 4.2; the packages of the update have this version and time.
fn release(seed: u64, updated: &str, updated_at: i64) -> Vec<Package> {
    let mut all = vec![base("4.2"), aliased(seed, "4.2-1"), second_arch(seed, "4.2-1")];
    for spec in PACKAGES {
        let (version, mtime) = if is_updated(spec.0) { (updated, updated_at) } else { ("4.2-1", RELEASED) };
        let mut package = package(seed, spec, version, mtime);
        if spec.0 == "libbrine1" {
            // Both architectures ship the same documentation.
            package.items.retain(|i| !i.path.starts_with("/usr/share/doc/libbrine1/"));
            let mut maker = Maker { package, mtime };
            docs(&mut maker, &mut Seed::new(seed, "libbrine1 docs"));
            package = maker.package;
        }
        if spec.2 == Kind::Library {
            package.fields.push("Multi-Arch: same".into());
        }
        all.push(package);
    }
    for package in all.iter_mut().filter(|p| p.name == "libbrine1" && p.arch == "i386") {
        package.fields.push("Multi-Arch: same".into());
    }
    all.sort_by(|a, b| (&a.name, &a.arch).cmp(&(&b.name, &b.arch)));
    all
}

/// Older versions.
#[must_use]
pub(crate) fn older(seed: u64) -> Vec<Package> {
    let mut all = Vec::new();
    for spec in PACKAGES.iter().filter(|s| is_updated(s.0) || s.0 == "berthbook") {
        for (version, mtime) in
            [("4.0-1", RELEASED - 31_536_000), ("4.1-1", RELEASED - 15_768_000), ("4.2-1", RELEASED)]
        {
            if spec.0 != "berthbook" || version != "4.2-1" {
                all.push(package(seed, *spec, version, mtime));
            }
        }
    }
    all
}
