//! [`FirmwareChange`]: variables of the firmware that a change writes.

use serde::{Deserialize, Serialize};

use crate::formats::boot::firmware_entries::{entry, order};
use crate::platform::efi_variables::{ATTRIBUTES, ORDER, entry_name};

/// Variables of the firmware that a change writes, in this order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FirmwareChange {
    /// What is repaired, in words.
    pub part: String,
    /// The variables, none twice.
    pub variables: Vec<VariableChange>,
}

/// One variable, with the attributes that the kernel shows in front of its content.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct VariableChange {
    /// Its name.
    pub name: String,
    /// What it was; `None` if there was none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<Vec<u8>>,
    /// What it becomes; `None` if there is none then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Vec<u8>>,
}

impl FirmwareChange {
    /// The change that undoes this one, in the opposite order, where this is what the variables are by now: what is as it was before is left
    /// out. `None` if something else changed one since.
    #[must_use]
    pub fn inverse(&self, now: &dyn Fn(&str) -> Option<Vec<u8>>) -> Option<Self> {
        let mut back = Vec::new();
        for VariableChange { name, before, after } in self.variables.iter().rev() {
            match now(name) {
                now if now == *before => {}
                now if now == *after => {
                    back.push(VariableChange { name: name.clone(), before: now, after: before.clone() });
                }
                _ => return None,
            }
        }
        Some(Self { part: self.part.clone(), variables: back })
    }
}

impl VariableChange {
    /// What it was, in words.
    #[must_use]
    pub fn before_words(&self) -> String {
        self.words(self.before.as_deref())
    }

    /// What it becomes, in words.
    #[must_use]
    pub fn after_words(&self) -> String {
        self.words(self.after.as_deref())
    }

    fn words(&self, variable: Option<&[u8]>) -> String {
        let Some(content) = variable.map(|variable| variable.get(ATTRIBUTES..).unwrap_or_default()) else {
            return "none".to_owned();
        };
        if self.name == ORDER {
            let names: Vec<String> = order(content).into_iter().map(entry_name).collect();
            return names.join(", ");
        }
        let Some(entry) = entry(content) else { return format!("{} bytes", content.len()) };
        let file = entry.file.unwrap_or_else(|| "no file".to_owned());
        let on = entry.partition.map(|id| format!(" on the partition {id}")).unwrap_or_default();
        let state = if entry.is_active { "" } else { ", not active" };
        format!("{}: {file}{on}{state}", entry.name)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn change() -> FirmwareChange {
        let variables = vec![
            VariableChange { name: "Boot0002".into(), before: None, after: Some(b"new".to_vec()) },
            VariableChange {
                name: ORDER.into(),
                before: Some(vec![7, 0, 0, 0, 1, 0]),
                after: Some(vec![7, 0, 0, 0, 2, 0, 1, 0]),
            },
        ];
        FirmwareChange { part: "firmware entries".into(), variables }
    }

    #[test]
    fn only_what_is_as_it_was_left_is_undone_and_what_was_not_reached_stays() {
        let change = change();
        let [entry, order] = &change.variables[..] else { unreachable!() };
        let back =
            change.inverse(&|name| if name == ORDER { order.after.clone() } else { entry.after.clone() }).unwrap();
        assert_eq!(
            back.variables[0],
            VariableChange { name: ORDER.into(), before: order.after.clone(), after: order.before.clone() }
        );
        assert_eq!((&*back.variables[1].name, &back.variables[1].after), ("Boot0002", &None));
        // The order was not reached.
        let part =
            change.inverse(&|name| if name == ORDER { order.before.clone() } else { entry.after.clone() }).unwrap();
        assert_eq!(part.variables.len(), 1);
        assert_eq!(change.inverse(&|_| Some(b"other".to_vec())), None);
    }

    #[test]
    fn an_order_names_its_entries() {
        let order = &change().variables[1];
        assert_eq!((order.before_words(), order.after_words()), ("Boot0001".into(), "Boot0002, Boot0001".into()));
        assert_eq!(change().variables[0].before_words(), "none");
    }
}
