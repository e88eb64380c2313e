//! Columns that line up, whatever is in them.

use unicode_width::UnicodeWidthStr as _;

use super::style::{Label, paint};

/// One cell.
pub(crate) struct Cell {
    text: String,
    label: Option<Label>,
}

/// A plain cell.
pub(crate) fn cell(text: impl Into<String>) -> Cell {
    Cell { text: text.into(), label: None }
}

/// A labelled cell.
pub(crate) fn labelled(label: Label, text: impl Into<String>) -> Cell {
    Cell { text: text.into(), label: Some(label) }
}

/// Rows as lines, each column as wide as its widest cell, but no wider than what leaves room for the others.
pub(crate) fn lines(indent: &str, rows: &[Vec<Cell>]) -> String {
    let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
    let width =
        |column: usize| rows.iter().filter_map(|r| r.get(column)).map(|c| c.text.width()).max().unwrap_or(0).min(84);
    let widths: Vec<usize> = (0..columns).map(width).collect();
    let mut text = String::new();
    for row in rows {
        text.push_str(indent);
        for (column, cell) in row.iter().enumerate() {
            match cell.label {
                Some(label) => text.push_str(&paint(label, &cell.text)),
                None => text.push_str(&cell.text),
            }
            if column + 1 < row.len() {
                let pad = widths[column].saturating_sub(cell.text.width());
                text.extend(std::iter::repeat_n(' ', pad + 2));
            }
        }
        text.push('\n');
    }
    text
}
