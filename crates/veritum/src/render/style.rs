//! Labels and what they look like. Words carry the meaning; colour only underlines it.

use anstyle::{AnsiColor, Color, Style};

/// What a piece of text is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Label {
    /// The answer, when it is bad.
    Bad,
    /// The answer, when it is good.
    Good,
    /// A verdict that is a problem.
    Problem,
    /// A verdict that is a note.
    Note,
    /// A package or heading.
    Heading,
    /// A finding's name.
    Name,
    /// A command to type.
    Command,
    /// Said on the side.
    Remark,
    /// The prompt of the example.
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

/// Text with its label; what writes it out drops the colours where they are not wanted.
pub(crate) fn paint(label: Label, text: &str) -> String {
    let style = style(label);
    format!("{style}{text}{style:#}")
}
