//! [`word_enum!`]: enums whose values are words of JSON, of a change's log and of the command line, one line each.

/// Defines an enum with the word of each value in the same line: the same in JSON, in logs and for people.
#[macro_export]
macro_rules! word_enum {
    ($(#[$meta:meta])* $vis:vis enum $name:ident { $($(#[$doc:meta])* $variant:ident = $word:literal,)+ }) => {
        $(#[$meta])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
        #[derive(serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
        $vis enum $name {
            $($(#[$doc])* #[serde(rename = $word)] $variant,)+
        }

        impl $name {
            /// The word, as JSON and logs have it.
            #[must_use]
            pub fn word(self) -> &'static str {
                match self {
                    $(Self::$variant => $word,)+
                }
            }
        }
    };
}

pub use crate::word_enum;
