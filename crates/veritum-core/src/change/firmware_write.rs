//! Writing variables of the firmware: each is written as a whole, and read again.

use crate::model::error_words;
use crate::plan::{FirmwareChange, VariableChange};
use crate::platform::efi_variables::FirmwareVariables;

/// Writes variables. If one cannot be written, those before it get back what they were.
///
/// # Errors
/// Why they were not written.
pub fn write_firmware(firmware: &FirmwareVariables, change: &FirmwareChange) -> Result<(), String> {
    for variable in &change.variables {
        if firmware.read(&variable.name).map_err(|e| error_words(&e))? != variable.before {
            return Err(format!("{} changed since it was examined", variable.name));
        }
    }
    for (at, variable) in change.variables.iter().enumerate() {
        write_one(firmware, variable).map_err(|why| taken_back(firmware, &change.variables[..=at], &why))?;
    }
    Ok(())
}

/// Finishes what was interrupted; why nothing was written, if nothing was. `None` if the variables are neither as they were nor as they
/// become: they can be those of another computer.
pub(super) fn finish(firmware: &FirmwareVariables, change: &FirmwareChange) -> Option<Result<(), String>> {
    let now: Vec<_> =
        change.variables.iter().map(|variable| firmware.read(&variable.name).ok()).collect::<Option<_>>()?;
    let mut all = change.variables.iter().zip(&now);
    if all.clone().all(|(variable, now)| *now == variable.before) {
        return Some(Err("interrupted before anything was written".to_owned()));
    }
    if !all.all(|(variable, now)| *now == variable.before || *now == variable.after) {
        return None;
    }
    let mut open = change.variables.iter().zip(now).filter(|(variable, now)| *now != variable.after);
    let done = open.try_for_each(|(open, _)| write_one(firmware, open));
    Some(done.map_err(|why| taken_back(firmware, &change.variables, &why)))
}

/// Gives variables back what they were, the last one first; why something was not written, and what became of these.
fn taken_back(firmware: &FirmwareVariables, done: &[VariableChange], why: &str) -> String {
    match done.iter().rev().map(|done| restore(firmware, done)).collect::<Result<Vec<()>, String>>() {
        Ok(_) => format!("{why}; all is as it was"),
        Err(other) => format!("{why}; {other}"),
    }
}

fn write_one(firmware: &FirmwareVariables, variable: &VariableChange) -> Result<(), String> {
    let VariableChange { name, after, .. } = variable;
    let failed = |e: std::io::Error| format!("the firmware did not accept {name} ({})", error_words(&e));
    firmware.write(name, after.as_deref()).map_err(failed)?;
    match firmware.read(name).map_err(failed)? == *after {
        true => Ok(()),
        false => Err(format!("{name} was read back differently")),
    }
}

/// Gives a variable back what it was.
fn restore(firmware: &FirmwareVariables, variable: &VariableChange) -> Result<(), String> {
    let VariableChange { name, before, .. } = variable;
    let failed = |e: std::io::Error| format!("{name} could not be written back ({})", error_words(&e));
    match firmware.read(name).map_err(failed)? == *before {
        true => Ok(()),
        false => firmware.write(name, before.as_deref()).map_err(failed),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn change() -> FirmwareChange {
        let new = |name: &str, before: Option<&[u8]>, after: &[u8]| VariableChange {
            name: name.to_owned(),
            before: before.map(<[u8]>::to_vec),
            after: Some(after.to_vec()),
        };
        let variables = vec![new("Boot0002", None, b"entry"), new("BootOrder", Some(b"old"), b"new")];
        FirmwareChange { part: "firmware entries".into(), variables }
    }

    #[test]
    fn what_one_variable_does_not_take_is_taken_back_from_all() {
        let folder = tempfile::tempdir().unwrap();
        let firmware = FirmwareVariables::new(Some(folder.path().to_owned()));
        firmware.write("BootOrder", Some(b"old")).unwrap();
        let mut change = change();
        // No name of a file is that long.
        change.variables.push(VariableChange { name: "x".repeat(300), before: None, after: Some(b"x".to_vec()) });
        assert!(write_firmware(&firmware, &change).is_err());
        change.variables.pop();
        write_firmware(&firmware, &change).unwrap();
        assert_eq!(firmware.read("BootOrder").unwrap().unwrap(), b"new");
        assert!(write_firmware(&firmware, &change).unwrap_err().contains("changed since"));
        // One that cannot be written at last.
        let inverse = change.inverse(&|name| firmware.read(name).unwrap()).unwrap();
        write_firmware(&firmware, &inverse).unwrap();
        assert_eq!(
            (firmware.read("BootOrder").unwrap().unwrap(), firmware.read("Boot0002").unwrap()),
            (b"old".to_vec(), None)
        );
    }

    #[test]
    fn an_interrupted_one_is_finished_and_another_computer_is_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let firmware = FirmwareVariables::new(Some(folder.path().to_owned()));
        firmware.write("BootOrder", Some(b"old")).unwrap();
        assert!(finish(&firmware, &change()).unwrap().is_err());
        firmware.write("Boot0002", Some(b"entry")).unwrap();
        assert_eq!(finish(&firmware, &change()), Some(Ok(())));
        assert_eq!(firmware.read("BootOrder").unwrap().unwrap(), b"new");
        firmware.write("BootOrder", Some(b"another")).unwrap();
        assert_eq!(finish(&firmware, &change()), None);
        assert_eq!(firmware.read("BootOrder").unwrap().unwrap(), b"another");
    }
}
