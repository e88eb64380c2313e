//! Lines that fit the terminal: columns, wrapping, and paths shortened in the middle.

use unicode_width::UnicodeWidthStr as _;

use super::style::{Label, paint};

/// The minimum width, even for narrower terminals.
const NARROWEST: usize = 40;
/// The maximum width, even for wider terminals.
const WIDEST: usize = 200;
/// The minimum width of a wrapped text column.
const LEAST_TEXT: usize = 24;
/// A text is put below the cells before it if fewer columns are left next to them.
const LEAST_BESIDE: usize = 36;

/// The width of lines; `None` where nothing is shortened or wrapped, as in a pipe.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Width(Option<usize>);

impl Width {
    /// The width of standard output, if that is a terminal.
    pub(crate) fn of_stdout() -> Self {
        use std::os::fd::AsFd as _;
        let stdout = std::io::stdout();
        let columns = terminal_size::terminal_size_of(stdout.as_fd()).map(|(width, _)| usize::from(width.0));
        Self(columns.map(|columns| columns.clamp(NARROWEST, WIDEST)))
    }

    /// A given number of columns.
    #[cfg(test)]
    pub(crate) fn columns(columns: usize) -> Self {
        Self(Some(columns))
    }

    /// Whether there are fewer columns than this.
    pub(crate) fn is_below(self, columns: usize) -> bool {
        self.0.is_some_and(|width| width < columns)
    }
}

/// One cell of a table.
#[derive(Debug, Clone)]
pub(crate) struct Cell {
    text: String,
    label: Option<Label>,
    /// Whether it is shortened in the middle, rather than wrapped, if it is too long.
    is_path: bool,
}

impl Cell {
    fn is_command(&self) -> bool {
        self.label == Some(Label::Command)
    }

    /// Its width in columns.
    pub(crate) fn width(&self) -> usize {
        self.text.width()
    }
}

/// A plain cell.
pub(crate) fn cell(text: impl Into<String>) -> Cell {
    Cell { text: text.into(), label: None, is_path: false }
}

/// A cell with a label.
pub(crate) fn labelled(label: Label, text: impl Into<String>) -> Cell {
    Cell { text: text.into(), label: Some(label), is_path: false }
}

/// A cell that holds a path.
pub(crate) fn path(text: impl Into<String>) -> Cell {
    Cell { text: text.into(), label: None, is_path: true }
}

/// Rows as lines of any width.
pub(crate) fn lines(indent: &str, rows: &[Vec<Cell>]) -> String {
    table(indent, rows, Width(None))
}

/// Rows as lines. Every column is as wide as its widest cell; the last one takes the rest, and is wrapped, or shortened
/// if it contains a path.
pub(crate) fn table(indent: &str, rows: &[Vec<Cell>], width: Width) -> String {
    let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
    let widest = |column: usize| {
        let cells = rows.iter().filter(|row| row.len() > column + 1).map(|row| row[column].text.width());
        cells.max().unwrap_or(0)
    };
    let mut widths: Vec<usize> = (0..columns).map(widest).collect();
    if let Some(total) = width.0 {
        let last = rows.iter().filter_map(|row| row.last()).map(Cell::width).max().unwrap_or(0);
        narrow(&mut widths, total.saturating_sub(indent.width() + LEAST_TEXT.min(last)));
    }
    rows.iter().map(|row| line(indent, row, &widths, width)).collect()
}

/// The answer: a word and a text; further lines of the text are indented.
pub(crate) fn headline(label: Label, word: &str, rest: &str, width: Width) -> String {
    table("", &[vec![labelled(label, word), cell(rest)]], width)
}

/// Rows of short cells, each with a text next to it, or below it where there is little space.
pub(crate) fn described(indent: &str, rows: &[(Vec<Cell>, Vec<Cell>)], width: Width) -> String {
    let columns = rows.iter().map(|(head, _)| head.len()).max().unwrap_or(0);
    let widest = |at: usize| rows.iter().filter_map(|(head, _)| head.get(at)).map(Cell::width).max().unwrap_or(0);
    let used: usize = indent.width() + (0..columns).map(|at| widest(at) + 2).sum::<usize>();
    if !width.is_below(used + LEAST_BESIDE) {
        let beside = rows.iter().map(|(head, text)| [head.clone(), text.clone()].concat());
        return table(indent, &beside.collect::<Vec<_>>(), width);
    }
    let is_blank = |head: &[Cell]| head.iter().all(|cell| cell.text.is_empty());
    let heads: Vec<Vec<Cell>> = rows.iter().map(|(head, _)| head.clone()).filter(|head| !is_blank(head)).collect();
    let heads = table(indent, &heads, width);
    let mut heads = heads.lines();
    let mut text = String::new();
    for (head, below) in rows {
        if !is_blank(head) {
            text.push_str(&format!("{}\n", heads.next().unwrap_or_default()));
        }
        text.push_str(&table(&format!("{indent}  "), std::slice::from_ref(below), width));
    }
    text
}

/// Rows of a list: columns that do not fit are left out, the last ones first, or shortened if enough of them is left.
pub(crate) fn list(indent: &str, rows: &[Vec<Cell>], width: Width) -> String {
    let Some(total) = width.0 else { return lines(indent, rows) };
    let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
    let widest = |at: usize| rows.iter().filter_map(|row| row.get(at)).map(Cell::width).max().unwrap_or(0);
    let start = |at: usize| indent.width() + (0..at).map(|before| widest(before) + 2).sum::<usize>();
    let whole = (1..=columns).rev().find(|kept| start(kept - 1) + widest(kept - 1) <= total).unwrap_or(1);
    let room = total.saturating_sub(start(whole));
    let kept = if room >= LEAST_TEXT { whole + 1 } else { whole };
    let cut = |(at, cell): (usize, &Cell)| match at == whole && cell.width() > room {
        true => Cell { text: cell.text.chars().take(room - 1).chain(['…']).collect(), ..cell.clone() },
        false => cell.clone(),
    };
    let rows: Vec<Vec<Cell>> = rows.iter().map(|row| row.iter().take(kept).enumerate().map(cut).collect()).collect();
    lines(indent, &rows)
}

/// Narrows the widest columns until all of them fit.
fn narrow(widths: &mut [usize], room: usize) {
    let used = |widths: &[usize]| widths.iter().filter(|w| **w > 0).map(|w| w + 2).sum::<usize>();
    while used(widths) > room {
        let Some(widest) = widths.iter_mut().max().filter(|widest| **widest > 8) else { return };
        *widest -= 1;
    }
}

fn line(indent: &str, row: &[Cell], widths: &[usize], width: Width) -> String {
    let mut text = indent.to_owned();
    let mut at = indent.width();
    for (column, cell) in row.iter().enumerate() {
        if column + 1 == row.len() {
            let room = width.0.map(|total| total.saturating_sub(at).max(LEAST_TEXT));
            // A command is pasted: it is not broken, and is less indented if it is too long.
            if cell.is_command() && room.is_some_and(|room| cell.width() > room) && text.trim().is_empty() {
                text = format!("{indent}  ");
            }
            let pad = format!("\n{:at$}", "");
            text.push_str(&fitted(cell, room).iter().map(|part| shown(cell, part)).collect::<Vec<_>>().join(&pad));
        } else {
            let part = shortened(&cell.text, widths[column]);
            let gap = widths[column].saturating_sub(part.width()) + 2;
            text.push_str(&shown(cell, &part));
            text.extend(std::iter::repeat_n(' ', gap));
            at += widths[column] + 2;
        }
    }
    let trimmed = text.trim_end().len();
    text.truncate(trimmed);
    text.push('\n');
    text
}

fn shown(cell: &Cell, text: &str) -> String {
    match cell.label.filter(|_| !text.is_empty()) {
        Some(label) => paint(label, text),
        None => text.to_owned(),
    }
}

/// The lines of a cell in this many columns.
fn fitted(cell: &Cell, room: Option<usize>) -> Vec<String> {
    match room {
        None => vec![cell.text.clone()],
        Some(_) if cell.is_command() => vec![cell.text.clone()],
        Some(room) if cell.is_path => vec![shortened(&cell.text, room)],
        Some(room) => wrapped(&cell.text, room),
    }
}

/// Text of at most this many columns, with its middle left out if it is longer.
pub(crate) fn shortened(text: &str, room: usize) -> String {
    if text.width() <= room || room < 8 {
        return text.to_owned();
    }
    // The end of a path identifies it: more of that is kept.
    let (mut head, mut tail) = (String::new(), String::new());
    let head_room = (room - 3) / 3;
    for c in text.chars() {
        if head.width() + 1 > head_room {
            break;
        }
        head.push(c);
    }
    for c in text.chars().rev() {
        if head.width() + tail.width() + 4 > room {
            break;
        }
        tail.insert(0, c);
    }
    format!("{head}...{tail}")
}

/// Text in lines of at most this many columns, broken between words; longer words are broken themselves.
pub(crate) fn wrapped(text: &str, room: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let mut word = word.to_owned();
        let used = lines.last().map_or(0, |line| line.width());
        if used > 0 && used + 1 + word.width() > room {
            lines.push(String::new());
        } else if used > 0 {
            push(&mut lines, " ");
        }
        while word.width() > room {
            let head: String = word
                .chars()
                .scan(0, |w, c| {
                    *w += c.to_string().width();
                    (*w <= room).then_some(c)
                })
                .collect();
            if head.is_empty() {
                break;
            }
            word = word[head.len()..].to_owned();
            push(&mut lines, &head);
            lines.push(String::new());
        }
        push(&mut lines, &word);
    }
    lines
}

fn push(lines: &mut [String], text: &str) {
    if let Some(line) = lines.last_mut() {
        line.push_str(text);
    }
}

/// A paragraph, indented and wrapped to the width.
pub(crate) fn paragraph(indent: &str, text: &str, width: Width) -> String {
    table(indent, &[vec![cell(text)]], width)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_line_is_wider_than_the_terminal() {
        let rows = vec![
            vec![
                cell("a-package-with-a-long-name-of-its-own"),
                cell("missing"),
                cell("what it is about, in many words that go on"),
            ],
            vec![
                cell("b"),
                cell("altered"),
                path("/usr/share/a/very/long/path/that/does/not/fit/into/the/line/at/all"),
            ],
        ];
        for columns in [60, 80, 120] {
            let text = table("  ", &rows, Width::columns(columns));
            assert!(text.lines().all(|line| line.width() <= columns), "{columns}:\n{text}");
            assert!(text.contains("at/all") && text.contains("go on"), "{text}");
        }
        let piped = lines("  ", &rows);
        assert_eq!(piped.lines().count(), 2, "nothing is wrapped or shortened in a pipe: {piped}");
    }

    #[test]
    fn a_command_is_never_broken_and_a_text_gets_room_below_where_there_is_none_beside() {
        let head = || vec![cell("a-package-of-some-length"), cell("wrong-permissions")];
        let command = "-> veritum repair updates --config /media/stick/veritum.toml";
        let rows = [
            (head(), vec![cell("what it is about, in many words that go on and on until the line is full")]),
            (vec![cell(""), cell("")], vec![labelled(Label::Command, command)]),
        ];
        let told = |columns: usize| described("  ", &rows, Width::columns(columns));
        for columns in [60, 80, 120] {
            assert!(told(columns).contains(command), "{}", told(columns));
        }
        assert!(
            told(60).starts_with("  a-package-of-some-length  wrong-permissions\n    what it is about"),
            "{}",
            told(60)
        );
        assert!(told(120).starts_with("  a-package-of-some-length  wrong-permissions  what it is"), "{}", told(120));
    }

    #[test]
    fn columns_of_a_list_that_do_not_fit_are_left_out() {
        let rows =
            [vec![cell("berthbook"), cell("4.2-1"), cell("bookings of passages, with all that belongs to them")]];
        assert_eq!(list("", &rows, Width::columns(30)), "berthbook  4.2-1\n");
        assert_eq!(list("", &rows, Width::columns(45)), "berthbook  4.2-1  bookings of passages, with…\n");
        assert!(list("", &rows, Width::columns(80)).ends_with("them\n"));
    }

    #[test]
    fn a_path_keeps_its_end() {
        assert_eq!(shortened("/usr/lib/x86_64/libquay.so.5.4.2", 20), "/usr/...uay.so.5.4.2");
        assert_eq!(shortened("/usr/bin/x", 20), "/usr/bin/x");
        assert_eq!(wrapped("one two three", 7), ["one two", "three"]);
        assert_eq!(wrapped("abcdefghij", 4), ["abcd", "efgh", "ij"]);
    }
}
