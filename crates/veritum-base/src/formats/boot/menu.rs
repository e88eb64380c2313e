//! The boot menu of GRUB 2 (`grub.cfg`): its commands, entries and structure. Conditions are not evaluated: both branches are read.

/// Larger menus are not read, in bytes.
pub const MAX_MENU: usize = 4 << 20;
/// More commands are not read.
const MAX_COMMANDS: usize = 100_000;
/// Words that open and close something.
const OPENING: [(&str, &str); 4] = [("if", "fi"), ("for", "done"), ("while", "done"), ("until", "done")];

/// A command with its words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Command {
    /// Its line, from 1.
    pub line: usize,
    /// Its name and arguments; a variable stays as it is written.
    pub words: Vec<String>,
    /// The position of the entry that contains it; `None` for what is run before the menu is shown.
    pub entry: Option<usize>,
}

impl Command {
    /// Its name.
    #[must_use]
    pub fn name(&self) -> &str {
        self.words.first().map_or("", String::as_str)
    }
}

/// An entry of the menu that starts something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its line, from 1.
    pub line: usize,
    /// What is shown.
    pub title: String,
    /// Its id; empty if it has none.
    pub id: String,
    /// The titles of the submenus that contain it, and then its own position, as `set default` counts: `1>0`.
    pub position: String,
    /// The ids of the submenus that contain it.
    pub above: Vec<String>,
}

/// Something that begins and does not end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MenuFault {
    /// It is empty.
    Empty,
    /// It contains zero bytes.
    Zeros,
    /// A quotation mark without another, from this line on.
    Quote(usize),
    /// A brace or a keyword without its end, from this line on.
    Open(usize),
    /// An end without a beginning.
    Close(usize),
    /// A section of the generator, from this line on.
    Section(usize),
    /// It is longer than menus are.
    Large,
}

/// A menu.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Menu {
    /// Its commands, in order.
    pub commands: Vec<Command>,
    /// Its entries, in order.
    pub entries: Vec<Entry>,
    /// Whether it was written by the generator: it has its sections.
    pub is_generated: bool,
    /// What is wrong with its structure.
    pub faults: Vec<MenuFault>,
}

/// Something open: its line, what closes it, and what it is.
struct Open {
    line: usize,
    closes: &'static str,
    kind: Kind,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Entry,
    Submenu,
    Other,
}

/// A menu while it is read.
#[derive(Default)]
struct Reader {
    menu: Menu,
    open: Vec<Open>,
    /// The number of entries before, in each open submenu and in the menu itself.
    counts: Vec<usize>,
    submenus: Vec<String>,
    in_entry: Option<usize>,
    pending: Vec<String>,
    pending_line: usize,
}

impl Menu {
    /// Reads a menu.
    #[must_use]
    pub fn parse(bytes: &[u8]) -> Self {
        let mut reader = Reader { counts: vec![0], ..Reader::default() };
        if bytes.iter().all(u8::is_ascii_whitespace) {
            reader.menu.faults.push(MenuFault::Empty);
            return reader.menu;
        }
        if bytes.len() > MAX_MENU {
            reader.menu.faults.push(MenuFault::Large);
            return reader.menu;
        }
        if bytes.contains(&0) {
            reader.menu.faults.push(MenuFault::Zeros);
        }
        let text = String::from_utf8_lossy(bytes);
        reader.sections(&text);
        reader.read(&text);
        if let Some(open) = reader.open.first() {
            reader.menu.faults.push(MenuFault::Open(open.line));
        }
        reader.menu
    }

    /// The commands of an entry, after those that are run before the menu.
    pub fn commands_of(&self, entry: usize) -> impl Iterator<Item = &Command> {
        self.commands.iter().filter(move |command| command.entry == Some(entry))
    }
}

impl Reader {
    /// The sections of the generator: each begins and ends with a comment.
    fn sections(&mut self, text: &str) {
        let mut open: Option<(usize, &str)> = None;
        for (line, text) in (1..).zip(text.lines()) {
            if let Some(name) = text.strip_prefix("### BEGIN ").and_then(|rest| rest.strip_suffix(" ###")) {
                self.menu.is_generated = true;
                if let Some((line, _)) = open.replace((line, name)) {
                    self.menu.faults.push(MenuFault::Section(line));
                }
            } else if let Some(name) = text.strip_prefix("### END ").and_then(|rest| rest.strip_suffix(" ###")) {
                match open.take() {
                    Some((_, begun)) if begun == name => {}
                    _ => self.menu.faults.push(MenuFault::Section(line)),
                }
            }
        }
        if let Some((line, _)) = open {
            self.menu.faults.push(MenuFault::Section(line));
        }
    }

    fn read(&mut self, text: &str) {
        let mut word: Option<String> = None;
        let mut line = 1;
        let mut chars = text.chars().peekable();
        while let Some(c) = chars.next() {
            if self.menu.commands.len() >= MAX_COMMANDS {
                self.menu.faults.push(MenuFault::Large);
                return;
            }
            match c {
                '\\' => match chars.next() {
                    Some('\n') => line += 1,
                    Some(escaped) => word.get_or_insert_default().push(escaped),
                    None => {}
                },
                '\'' | '"' => {
                    let begun = line;
                    let into = word.get_or_insert_default();
                    loop {
                        match chars.next() {
                            None => {
                                self.menu.faults.push(MenuFault::Quote(begun));
                                return;
                            }
                            Some(end) if end == c => break,
                            Some('\\') if c == '"' => match chars.next() {
                                Some(escaped @ ('"' | '\\' | '$')) => into.push(escaped),
                                Some(other) => into.extend(['\\', other]),
                                None => {}
                            },
                            Some(inside) => {
                                line += usize::from(inside == '\n');
                                into.push(inside);
                            }
                        }
                    }
                }
                '$' if chars.peek() == Some(&'{') => {
                    let into = word.get_or_insert_default();
                    into.push('$');
                    for inside in chars.by_ref() {
                        into.push(inside);
                        if inside == '}' {
                            break;
                        }
                    }
                }
                '#' if word.is_none() => {
                    while chars.peek().is_some_and(|next| *next != '\n') {
                        chars.next();
                    }
                }
                '\n' | ';' => {
                    self.end_word(&mut word, line);
                    self.end_command();
                    line += usize::from(c == '\n');
                }
                '{' | '}' if word.is_none() => self.brace(c, line),
                c if c.is_whitespace() => self.end_word(&mut word, line),
                '&' | '|' => {
                    self.end_word(&mut word, line);
                    self.end_command();
                }
                c => word.get_or_insert_default().push(c),
            }
        }
        self.end_word(&mut word, line);
        self.end_command();
    }

    fn end_word(&mut self, word: &mut Option<String>, line: usize) {
        if let Some(word) = word.take() {
            if self.pending.is_empty() {
                self.pending_line = line;
            }
            self.pending.push(word);
        }
    }

    fn brace(&mut self, brace: char, line: usize) {
        if brace == '}' {
            self.end_command();
            return self.close("}", line);
        }
        let words = std::mem::take(&mut self.pending);
        let at = if words.is_empty() { line } else { self.pending_line };
        let kind = match words.first().map(String::as_str) {
            Some("menuentry") => Kind::Entry,
            Some("submenu") => Kind::Submenu,
            _ => Kind::Other,
        };
        let title = words.get(1).cloned().unwrap_or_default();
        let id = id_of(&words);
        let count = self.counts.last().copied().unwrap_or_default();
        match kind {
            Kind::Entry => {
                let above: Vec<String> = self.counts.iter().rev().skip(1).rev().map(|n| (n - 1).to_string()).collect();
                let position = [&above[..], &[count.to_string()]].concat().join(">");
                self.in_entry = Some(self.menu.entries.len());
                let above = self.submenus.clone();
                self.menu.entries.push(Entry { line: at, title, id, position, above });
            }
            Kind::Submenu => self.submenus.push(id),
            Kind::Other => {}
        }
        if kind != Kind::Other
            && let Some(last) = self.counts.last_mut()
        {
            *last += 1;
        }
        if kind == Kind::Submenu {
            self.counts.push(0);
        }
        self.open.push(Open { line: at, closes: "}", kind });
    }

    fn close(&mut self, word: &str, line: usize) {
        match self.open.pop() {
            Some(open) if open.closes == word => match open.kind {
                Kind::Entry => self.in_entry = None,
                Kind::Submenu => {
                    self.submenus.pop();
                    self.counts.pop();
                }
                Kind::Other => {}
            },
            Some(open) => {
                self.menu.faults.push(MenuFault::Close(line));
                self.open.push(open);
            }
            None => self.menu.faults.push(MenuFault::Close(line)),
        }
    }

    fn end_command(&mut self) {
        let mut words = std::mem::take(&mut self.pending);
        let line = self.pending_line;
        while let Some(first) = words.first() {
            if let Some((_, closes)) = OPENING.iter().find(|(opens, _)| opens == first) {
                self.open.push(Open { line, closes, kind: Kind::Other });
            } else if matches!(&**first, "fi" | "done") {
                let word = first.clone();
                self.close(&word, line);
            } else if !matches!(&**first, "then" | "else" | "elif" | "do") {
                break;
            }
            words.remove(0);
        }
        if !words.is_empty() {
            self.menu.commands.push(Command { line, words, entry: self.in_entry });
        }
    }
}

/// The id of an entry: what follows `--id`, or the variable that contains that option.
fn id_of(words: &[String]) -> String {
    let option = |word: &String| word == "--id" || word == "$menuentry_id_option" || word == "${menuentry_id_option}";
    let joined = words.iter().find_map(|word| word.strip_prefix("--id=").map(str::to_owned));
    let at = words.iter().position(option);
    joined.or_else(|| words.get(at? + 1).cloned()).unwrap_or_default()
}

/// The UUID of the file system in which the few lines beside a signed GRUB search the menu.
#[must_use]
pub fn searched_file_system(lines: &str) -> Option<&str> {
    lines.lines().find_map(|line| line.strip_prefix("search.fs_uuid ")?.split_whitespace().next())
}

#[cfg(test)]
mod tests {
    use super::*;

    const MENU: &str = r#"### BEGIN /etc/grub.d/10_linux ###
if [ -s $prefix/grubenv ]; then
  load_env
fi
menuentry 'Foreshore' --class os $menuentry_id_option 'fs-simple' {
	insmod ext2
	if [ x$grub_platform = xxen ]; then insmod xzio; fi
	search --no-floppy --fs-uuid --set=root 12ab
	linux	/boot/vmlinuz-4.2 root=UUID=12ab ro "quiet"
	initrd	/boot/initrd.img-4.2
}
submenu "More \"boats\"" --id more {
	menuentry 'Older {1}' --id=older {
		linux /boot/vmlinuz-4.1 \
			root=UUID=12ab
	}
}
### END /etc/grub.d/10_linux ###
"#;

    #[test]
    fn entries_commands_and_their_places_are_read() {
        let menu = Menu::parse(MENU.as_bytes());
        assert_eq!(menu.faults, []);
        assert!(menu.is_generated);
        let told: Vec<_> = menu.entries.iter().map(|e| (&*e.title, &*e.id, &*e.position, e.line)).collect();
        assert_eq!(told, [("Foreshore", "fs-simple", "0", 5), ("Older {1}", "older", "1>0", 13)]);
        assert_eq!(menu.entries[1].above, ["more"]);
        let linux: Vec<_> = menu.commands.iter().filter(|command| command.name() == "linux").collect();
        assert_eq!(linux[0].words, ["linux", "/boot/vmlinuz-4.2", "root=UUID=12ab", "ro", "quiet"]);
        assert_eq!((linux[1].entry, linux[1].words.len(), linux[0].line), (Some(1), 3, 9));
        assert_eq!(menu.commands_of(0).filter(|command| command.name() == "insmod").count(), 2);
    }

    #[test]
    fn what_is_cut_off_shows_wherever_it_ends() {
        let whole = MENU.len();
        for end in 1..whole - 1 {
            // Before the first section is closed, every cut leaves something open.
            let menu = Menu::parse(&MENU.as_bytes()[..end]);
            let is_comment_only = end < "### BEGIN /etc/grub.d/10_linux ###".len();
            assert!(is_comment_only || !menu.faults.is_empty(), "{end}");
        }
        assert_eq!(Menu::parse(b" \n").faults, [MenuFault::Empty]);
        assert!(Menu::parse(&[0; 100]).faults.contains(&MenuFault::Zeros));
        assert_eq!(Menu::parse(b"}\n").faults, [MenuFault::Close(1)]);
        assert_eq!(Menu::parse(b"echo 'a\n").faults, [MenuFault::Quote(1)]);
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_menu_is_read_without_harm(seed: u64) {
            let menu = Menu::parse(&crate::testkit::mutated(MENU.as_bytes(), seed));
            proptest::prop_assert!(menu.commands.iter().all(|command| !command.words.is_empty()));
        }
    }
}
