//! [`Mend`]: what a repair writes to answer a fault, before it is known where on the disk that is.

use crate::devices::fat_writer::NewFile;
use crate::devices::table_writer::Placed;
use crate::model::SystemPath;
use crate::plan::VariableChange;

/// What a repair writes.
#[derive(Debug, Clone)]
pub(super) enum Target {
    /// Bytes of a disk, given by its position: of its boot code or its partition table.
    Bytes(usize, Vec<Placed>),
    /// Bytes of a volume, given by its position: of the structure of an EFI partition.
    Volume(usize, Vec<Placed>),
    /// A file of the EFI partition that is the volume at this position.
    EfiFile(usize, NewFile),
    /// Variables of the firmware.
    Firmware(Vec<VariableChange>),
    /// The content of a file of the machine.
    File(SystemPath, Vec<u8>),
    /// A text of the machine that blank lines may follow.
    Text(SystemPath, Vec<u8>),
    /// Nothing of its own: what is generated answers it, too.
    With(SystemPath),
    /// A word of a line of a file of the machine, every time that it is in the line.
    Line(SystemPath, LineChange),
}

/// A word of a line that is replaced; quotation marks are no part of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct LineChange {
    /// The line, from 1.
    pub(super) line: usize,
    /// The word.
    pub(super) from: String,
    /// What it becomes.
    pub(super) to: String,
}

/// What a repair writes, and where that comes from.
#[derive(Debug, Clone)]
pub(super) struct Mend {
    pub(super) target: Target,
    /// Where it comes from, in words.
    pub(super) source: String,
    /// What is not certain about it, so that it is written only when that was agreed to by an option.
    pub(super) proposal: Option<String>,
}

impl Mend {
    pub(super) fn new(target: Target, source: impl Into<String>) -> Self {
        Self { target, source: source.into(), proposal: None }
    }

    /// Bytes of a disk's boot code or table.
    pub(super) fn bytes(disk: usize, placed: Vec<Placed>, source: impl Into<String>) -> Self {
        Self::new(Target::Bytes(disk, placed), source)
    }

    /// A file of an EFI partition.
    pub(super) fn efi_file(volume: usize, path: &str, content: Vec<u8>, source: impl Into<String>) -> Self {
        Self::new(Target::EfiFile(volume, NewFile { path: path.to_owned(), content }), source)
    }

    /// A file of the machine.
    pub(super) fn file(path: &SystemPath, content: Vec<u8>, source: impl Into<String>) -> Self {
        Self::new(Target::File(path.clone(), content), source)
    }

    /// A word of a line of a file of the machine.
    pub(super) fn line(path: &SystemPath, line: usize, from: &str, to: &str, source: impl Into<String>) -> Self {
        let change = LineChange { line, from: from.to_owned(), to: to.to_owned() };
        Self::new(Target::Line(path.clone(), change), source)
    }

    /// What a file that is generated answers, too.
    pub(super) fn with(path: &SystemPath) -> Self {
        Self::new(Target::With(path.clone()), format!("it is repaired by generating {path}"))
    }

    /// The same as a proposal.
    pub(super) fn proposed(self, why: impl Into<String>) -> Self {
        Self { proposal: Some(why.into()), ..self }
    }
}

impl LineChange {
    /// The text with this change; `None` if the word is not in the line.
    pub(super) fn apply(&self, text: &[u8]) -> Option<Vec<u8>> {
        let mut lines: Vec<Vec<u8>> = text.split(|byte| *byte == b'\n').map(<[u8]>::to_vec).collect();
        let line = lines.get_mut(self.line.checked_sub(1)?)?;
        let old = std::str::from_utf8(line).ok()?;
        let ends = |c: char| c.is_whitespace() || c == '\'' || c == '"';
        let (mut new, mut rest) = (String::new(), old);
        while !rest.is_empty() {
            let end = rest.find(ends).unwrap_or(rest.len());
            let (word, more) = rest.split_at(end);
            new.push_str(if word == self.from { &self.to } else { word });
            let between = more.find(|c: char| !ends(c)).unwrap_or(more.len());
            new.push_str(&more[..between]);
            rest = &more[between..];
        }
        if old == new {
            return None;
        }
        *line = new.into_bytes();
        Some(lines.join(&b'\n'))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_is_replaced_in_its_line_only_and_everywhere_there() {
        let change = |line, from: &str, to: &str| LineChange { line, from: from.to_owned(), to: to.to_owned() };
        let text = b"quay quay\nquay\n";
        assert_eq!(change(1, "quay", "pier").apply(text).unwrap(), b"pier pier\nquay\n");
        assert_eq!(change(2, "quay", "pier").apply(text).unwrap(), b"quay quay\npier\n");
        assert_eq!((change(2, "jetty", "pier").apply(text), change(9, "quay", "pier").apply(text)), (None, None));
        assert_eq!(change(1, "quay", "quay").apply(text), None);
        let quoted = b"\tsearch --set=root 'quay' quays\n";
        assert_eq!(change(1, "quay", "pier").apply(quoted).unwrap(), b"\tsearch --set=root 'pier' quays\n");
    }
}
