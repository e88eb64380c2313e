//! [`Action`]: what a person should do about something that Veritum does not repair.

use serde::{Deserialize, Serialize};

/// What a person should do: a sentence, a command, or a sentence with a command that carries it out.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Action {
    /// The sentence; `None` if the command needs no explanation.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// A command that can be pasted. Words in capitals represent values that only the person knows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub command: Option<String>,
}

impl Action {
    /// A command that needs no explanation.
    #[must_use]
    pub fn command(command: impl Into<String>) -> Self {
        Self { text: None, command: Some(command.into()) }
    }

    /// A sentence and the command that carries it out.
    #[must_use]
    pub fn explained(text: impl Into<String>, command: impl Into<String>) -> Self {
        Self { text: Some(text.into()), command: Some(command.into()) }
    }

    /// The words after `veritum`, if it is a Veritum command.
    #[must_use]
    pub fn own_command(&self) -> Option<&str> {
        self.command.as_deref()?.strip_prefix("veritum ")
    }

    /// The same, if it contains no placeholder such as `PATH`.
    #[must_use]
    pub fn complete_command(&self) -> Option<&str> {
        self.own_command().filter(|words| !words.split(' ').any(|word| ["PATH", "LOCATION", "NAME"].contains(&word)))
    }

    /// Whether the sentence or the command contains a text.
    #[must_use]
    pub fn contains(&self, text: &str) -> bool {
        [&self.text, &self.command].into_iter().flatten().any(|part| part.contains(text))
    }
}

impl From<&str> for Action {
    fn from(text: &str) -> Self {
        Self { text: Some(text.to_owned()), command: None }
    }
}

impl From<String> for Action {
    fn from(text: String) -> Self {
        Self { text: Some(text), command: None }
    }
}

impl std::fmt::Display for Action {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (&self.text, &self.command) {
            (Some(text), Some(command)) => write!(f, "{text}: {command}"),
            (Some(one), None) | (None, Some(one)) => f.write_str(one),
            (None, None) => Ok(()),
        }
    }
}
