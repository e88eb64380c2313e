//! Labels and their colours. Words carry the meaning; colour only underlines it.

use anstyle::{AnsiColor, Color, Style};

/// The role of a text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Label {
    /// A bad answer.
    Bad,
    /// A good answer.
    Good,
    /// A verdict that is a problem.
    Problem,
    /// A verdict that is a note.
    Note,
    /// A package or heading.
    Heading,
    /// A finding's id.
    Name,
    /// A command to type.
    Command,
    /// A remark.
    Remark,
    /// The prompt of the walk-through.
    Prompt,
}

fn style(label: Label) -> Style {
    let fg = |c: AnsiColor| Style::new().fg_color(Some(Color::Ansi(c)));
    match label {
        Label::Bad => fg(AnsiColor::BrightRed).bold(),
        Label::Good => fg(AnsiColor::BrightGreen).bold(),
        Label::Problem => fg(AnsiColor::BrightRed),
        Label::Note => fg(AnsiColor::BrightYellow),
        Label::Heading => Style::new().bold(),
        Label::Name => fg(AnsiColor::BrightCyan),
        Label::Command => fg(AnsiColor::BrightWhite).bold(),
        Label::Remark => fg(AnsiColor::BrightBlack),
        Label::Prompt => fg(AnsiColor::BrightGreen).bold(),
    }
}

/// A labelled text; colours are removed on output where they are not wanted.
pub(crate) fn paint(label: Label, text: &str) -> String {
    let style = style(label);
    format!("{style}{text}{style:#}")
}
