//! EFI programs: PE files with the checksum of their content in their own signature (Microsoft's "Windows Authenticode Portable Executable
//! Signature Format" 1.0; PE format, "Attribute Certificate Table").

use std::ops::Range;

use aws_lc_rs::digest::{Context, SHA256};
use cms::content_info::ContentInfo;
use cms::signed_data::{SignedData, SignerIdentifier};
use der::{Decode as _, SliceReader};

use crate::formats::numbers::{le16, le32};

/// The beginning of a DigestInfo for SHA-256, in DER (RFC 8017, 9.2): the checksum follows.
const DIGEST_INFO: [u8; 19] =
    [0x30, 0x31, 0x30, 0x0d, 0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x01, 0x05, 0x00, 0x04, 0x20];
const PE32: u16 = 0x10b;
const PE32_PLUS: u16 = 0x20b;
/// The subsystem of EFI applications.
const EFI_APPLICATION: u16 = 10;
/// The entry of the certificates among the data directories.
const CERTIFICATES: usize = 4;
/// Signatures in a certificate table (WIN_CERT_TYPE_PKCS_SIGNED_DATA).
const PKCS: u16 = 2;
/// More signatures in one file are not read.
const MAX_SIGNATURES: usize = 16;

/// What a file's own signatures say about its content.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SelfProof {
    /// The content has the checksum that is in a signature.
    Matches,
    /// It has another.
    Differs,
    /// It has no signature with such a checksum.
    Unsigned,
    /// It is no PE file, or is cut off.
    Invalid,
}

/// Where the parts of a file are that its checksum leaves out.
struct Layout {
    /// The header's checksum.
    sum: usize,
    /// The entry of the certificates.
    entry: usize,
    certificates: Range<usize>,
    subsystem: u16,
}

fn layout(bytes: &[u8]) -> Option<Layout> {
    let pe = usize::try_from(le32(bytes, 0x3c)).ok()?;
    if !bytes.starts_with(b"MZ") || bytes.get(pe..pe.checked_add(4)?)? != b"PE\0\0" {
        return None;
    }
    let optional = pe + 24;
    let (directories, count_at) = match le16(bytes, optional) {
        PE32 => (optional + 96, optional + 92),
        PE32_PLUS => (optional + 112, optional + 108),
        _ => return None,
    };
    if le32(bytes, count_at) as usize <= CERTIFICATES {
        return None;
    }
    let entry = directories + 8 * CERTIFICATES;
    let (start, size) = (le32(bytes, entry) as usize, le32(bytes, entry + 4) as usize);
    let certificates = start..start.checked_add(size)?;
    let is_within = bytes.len() >= entry + 8 && certificates.end <= bytes.len() && (size == 0 || start >= entry + 8);
    // Sections beyond the end: the file is cut off.
    let sections = usize::from(le16(bytes, pe + 6));
    let first = optional + usize::from(le16(bytes, pe + 20));
    let is_whole = (0..sections.min(256)).all(|at| {
        let header = first + 40 * at;
        (le32(bytes, header + 20) as usize).saturating_add(le32(bytes, header + 16) as usize) <= bytes.len()
    });
    let subsystem = le16(bytes, optional + 68);
    (is_within && is_whole).then_some(Layout { sum: optional + 64, entry, certificates, subsystem })
}

/// Whether a file is an EFI program: a kernel with that entry, too.
#[must_use]
pub fn is_efi_program(bytes: &[u8]) -> bool {
    layout(bytes).is_some_and(|layout| layout.subsystem == EFI_APPLICATION)
}

/// Compares a file with the checksums in its own signatures. That shows damage; whether the signatures are valid is not examined.
#[must_use]
pub fn self_proof(bytes: &[u8]) -> SelfProof {
    let Some(layout) = layout(bytes) else { return SelfProof::Invalid };
    let told: Vec<&[u8]> = signatures(bytes, &layout.certificates).into_iter().filter_map(checksum_in).collect();
    if told.is_empty() {
        return SelfProof::Unsigned;
    }
    let own = checksum(bytes, &layout);
    if told.iter().any(|told| *told == own) { SelfProof::Matches } else { SelfProof::Differs }
}

/// The checksum of a file's content without its signatures: the same for a program that someone signed again.
#[must_use]
pub fn content_checksum(bytes: &[u8]) -> Option<[u8; 32]> {
    layout(bytes).map(|layout| checksum(bytes, &layout))
}

fn checksum(bytes: &[u8], layout: &Layout) -> [u8; 32] {
    let certificates =
        if layout.certificates.is_empty() { bytes.len()..bytes.len() } else { layout.certificates.clone() };
    let mut context = Context::new(&SHA256);
    context.update(&bytes[..layout.sum]);
    context.update(&bytes[layout.sum + 4..layout.entry]);
    context.update(&bytes[layout.entry + 8..certificates.start]);
    context.update(&bytes[certificates.end..]);
    context.finish().as_ref().try_into().unwrap_or_default()
}

/// Who issued the certificates of those that signed a file, as its signatures name them (RFC 5652, 5.3; names as in RFC 4514).
#[must_use]
pub fn issuers(bytes: &[u8]) -> Vec<String> {
    let Some(layout) = layout(bytes) else { return Vec::new() };
    signatures(bytes, &layout.certificates).into_iter().filter_map(issuers_in).flatten().collect()
}

fn issuers_in(signature: &[u8]) -> Option<Vec<String>> {
    // Zeros fill the signature up to a multiple of eight bytes.
    let content = ContentInfo::decode(&mut SliceReader::new(signature).ok()?).ok()?;
    let signed: SignedData = content.content.decode_as().ok()?;
    let issuer = |id: &SignerIdentifier| match id {
        SignerIdentifier::IssuerAndSerialNumber(id) => Some(id.issuer.to_string()),
        SignerIdentifier::SubjectKeyIdentifier(_) => None,
    };
    Some(signed.signer_infos.0.iter().filter_map(|info| issuer(&info.sid)).collect())
}

/// The signatures in a certificate table: each with a header of 8 bytes, and padded to 8.
fn signatures<'a>(bytes: &'a [u8], table: &Range<usize>) -> Vec<&'a [u8]> {
    let mut found = Vec::new();
    let mut at = table.start;
    while at + 8 <= table.end && found.len() < MAX_SIGNATURES {
        let size = le32(bytes, at) as usize;
        let Some(end) = at.checked_add(size).filter(|end| size > 8 && *end <= table.end) else { break };
        if le16(bytes, at + 6) == PKCS {
            found.push(&bytes[at + 8..end]);
        }
        at = end.next_multiple_of(8);
    }
    found
}

/// The first SHA-256 checksum in a signature: that of the content.
fn checksum_in(signature: &[u8]) -> Option<&[u8]> {
    let at = signature.windows(DIGEST_INFO.len()).position(|window| window == DIGEST_INFO)?;
    let from = at + DIGEST_INFO.len();
    signature.get(from..from + 32)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A small EFI program, signed in form.
    pub(crate) fn program() -> Vec<u8> {
        let mut bytes = vec![0u8; 1024];
        let mut put = |at: usize, with: &[u8]| bytes[at..at + with.len()].copy_from_slice(with);
        put(0, b"MZ");
        put(0x3c, &64u32.to_le_bytes());
        put(64, b"PE\0\0");
        put(64 + 6, &1u16.to_le_bytes());
        put(64 + 20, &240u16.to_le_bytes());
        put(88, &PE32_PLUS.to_le_bytes());
        put(88 + 68, &EFI_APPLICATION.to_le_bytes());
        put(88 + 108, &16u32.to_le_bytes());
        put(88 + 240 + 16, &512u32.to_le_bytes());
        put(88 + 240 + 20, &512u32.to_le_bytes());
        (600..1000).for_each(|at| bytes[at] = (at % 7) as u8);
        let entry = 88 + 112 + 32;
        let size = (8 + DIGEST_INFO.len() + 32).next_multiple_of(8);
        bytes[entry..entry + 4].copy_from_slice(&1024u32.to_le_bytes());
        bytes[entry + 4..entry + 8].copy_from_slice(&(size as u32).to_le_bytes());
        let mut context = Context::new(&SHA256);
        context.update(&bytes[..88 + 64]);
        context.update(&bytes[88 + 68..entry]);
        context.update(&bytes[entry + 8..]);
        bytes.extend((size as u32).to_le_bytes());
        bytes.extend([0, 2, 2, 0]);
        bytes.extend(DIGEST_INFO);
        bytes.extend(context.finish().as_ref());
        bytes.resize(1024 + size, 0);
        bytes
    }

    #[test]
    fn a_changed_byte_or_a_cut_shows_by_the_files_own_signature() {
        let program = program();
        assert_eq!(self_proof(&program), SelfProof::Matches);
        assert!(is_efi_program(&program));
        let mut changed = program.clone();
        changed[700] ^= 1;
        assert_eq!(self_proof(&changed), SelfProof::Differs);
        assert_eq!(self_proof(&program[..1000]), SelfProof::Invalid);
        let mut unsigned = program[..1024].to_vec();
        unsigned[88 + 112 + 32..88 + 112 + 40].fill(0);
        assert_eq!(self_proof(&unsigned), SelfProof::Unsigned);
        assert_eq!(self_proof(b"#!/bin/sh"), SelfProof::Invalid);
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_program_is_examined_without_harm(seed: u64) {
            let damaged = crate::testkit::mutated(&program(), seed);
            let _ = (self_proof(&damaged), is_efi_program(&damaged));
            let _ = (issuers(&damaged), content_checksum(&damaged));
        }
    }
}
