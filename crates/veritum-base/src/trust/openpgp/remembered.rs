//! Remembers verified texts: their signatures are not computed again, but what depends on the time is judged again.

use aws_lc_rs::digest::{Context, SHA256};

use super::keyring::Keyring;
use super::signature::{SignatureError, Signed, open_clear, open_detached, today};
use crate::trust::{FactKind, Facts, Verified};

/// Opens a text as [`open_clear`] does, or as [`open_detached`] with separate signatures; a text that was opened before with
/// the same keyring is read from the administrator's facts.
///
/// # Errors
/// Those of these functions.
pub fn open_remembered(
    bytes: Vec<u8>,
    signatures: Option<&[u8]>,
    keyring: &Keyring,
    known: &dyn Fn(&str) -> bool,
    now: jiff::Timestamp,
    facts: &Facts,
) -> Result<Signed, SignatureError> {
    let id = name_of(&bytes, signatures, keyring);
    if let Some(signed) = facts.get(FactKind::Signed, &id).and_then(recalled) {
        today(&signed.key, signed.at.as_second(), known, now)?;
        return Ok(signed);
    }
    let signed = match signatures {
        None => open_clear(&bytes, keyring, known, now)?,
        Some(signatures) => open_detached(bytes, signatures, keyring, known, now)?,
    };
    let head = format!("{} {}\n", signed.key, signed.at.as_second());
    let fact = signed.text.clone().map(|text| [head.as_bytes(), &text].concat());
    facts.keep(FactKind::Signed, &id, &fact);
    Ok(signed)
}

/// Key, time and text, as saved.
fn recalled(fact: Verified<Vec<u8>>) -> Option<Signed> {
    let end = fact.get().iter().position(|b| *b == b'\n')?;
    let head = std::str::from_utf8(&fact.get()[..end]).ok()?;
    let (key, at) = head.split_once(' ')?;
    let (key, at) = (key.to_owned(), jiff::Timestamp::from_second(at.parse().ok()?).ok()?);
    let text = fact.map(|all| all[end + 1..].to_vec());
    Some(Signed { text, key, at })
}

fn name_of(bytes: &[u8], signatures: Option<&[u8]>, keyring: &Keyring) -> [u8; 32] {
    let mut context = Context::new(&SHA256);
    for part in [keyring.made_from().as_slice(), bytes, signatures.unwrap_or_default()] {
        context.update(&(part.len() as u64).to_le_bytes());
        context.update(part);
    }
    let mut id = [0; 32];
    id.copy_from_slice(context.finish().as_ref());
    id
}
