//! [`word_enum!`]: enums whose values are words in JSON, change logs and on the command line.

/// Defines an enum with each value's word in the same line: the same word in JSON, in logs and for people.
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
            /// The word in JSON and logs.
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
