//! Made-up EFI programs that prove themselves, and an EFI partition with them.

use std::collections::BTreeMap;
use std::io::{self, Cursor, Write as _};
use std::str::FromStr as _;

use aws_lc_rs::digest::{Context, SHA256};
use cms::cert::IssuerAndSerialNumber;
use cms::cert::x509::name::Name;
use cms::cert::x509::serial_number::SerialNumber;
use cms::cert::x509::spki::AlgorithmIdentifierOwned;
use cms::content_info::{CmsVersion, ContentInfo};
use cms::signed_data::{EncapsulatedContentInfo, SignedData, SignerIdentifier, SignerInfo};
use der::asn1::{Any, ObjectIdentifier, OctetString, SetOfVec};
use der::{Encode as _, Tag};

use crate::seed::Seed;

/// The beginning of a DigestInfo for SHA-256 (RFC 8017, 9.2).
const DIGEST_INFO: [u8; 19] =
    [0x30, 0x31, 0x30, 0x0d, 0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x01, 0x05, 0x00, 0x04, 0x20];
/// The type of the content, in front of its checksum (Authenticode's SpcPeImageData), without a value.
const CONTENT: &[u8] = &[0x30, 0x0c, 0x06, 0x0a, 0x2b, 0x06, 0x01, 0x04, 0x01, 0x82, 0x37, 0x02, 0x01, 0x0f];
/// Authenticode's SpcIndirectDataContent, SignedData (RFC 5652), SHA-256 and RSA.
const CONTENT_OID: &str = "1.3.6.1.4.1.311.2.1.4";
const SIGNED_OID: &str = "1.2.840.113549.1.7.2";
const SHA256_OID: &str = "2.16.840.1.101.3.4.2.1";
const RSA_OID: &str = "1.2.840.113549.1.1.1";
/// Who signs the programs of packages.
const VENDOR: &str = "CN=Foreshore Boot";
const OPTIONAL: usize = 88;
const CERTIFICATES: usize = OPTIONAL + 112 + 32;

/// A program of about this size: PE32+ with one section, and the checksum of its content where a signature has it. No key signed it.
pub(super) fn program(seed: u64, name: &str, size: usize) -> Vec<u8> {
    let size = size.next_multiple_of(512);
    let mut bytes = vec![0; 1024];
    let mut put = |at: usize, with: &[u8]| bytes[at..at + with.len()].copy_from_slice(with);
    put(0, b"MZ");
    put(0x3c, &64u32.to_le_bytes());
    put(64, b"PE\0\0\x64\x86\x01\0");
    put(64 + 20, &240u16.to_le_bytes());
    put(OPTIONAL, &0x20bu16.to_le_bytes());
    put(OPTIONAL + 68, &10u16.to_le_bytes());
    put(OPTIONAL + 108, &16u32.to_le_bytes());
    put(OPTIONAL + 240, b".text");
    put(OPTIONAL + 240 + 16, &(size as u32).to_le_bytes());
    put(OPTIONAL + 240 + 20, &1024u32.to_le_bytes());
    bytes.extend(Seed::new(seed, name).bytes(size));
    kernel_version(&mut bytes, name);
    sign(&mut bytes, VENDOR);
    bytes
}

/// Writes the version of a kernel where kernels for x86 have it.
fn kernel_version(bytes: &mut [u8], name: &str) {
    let Some(version) = name.strip_prefix("vmlinuz-") else { return };
    bytes[0x202..0x206].copy_from_slice(b"HdrS");
    bytes[0x20e..0x210].copy_from_slice(&0x100u16.to_le_bytes());
    bytes[0x300..0x300 + version.len()].copy_from_slice(version.as_bytes());
}

/// Gives a program a signature in which this issuer is named, instead of the one that it has.
pub(super) fn sign(bytes: &mut Vec<u8>, issuer: &str) {
    let number = |at: usize| bytes[at..at + 4].iter().rev().fold(0, |sum, byte| sum << 8 | usize::from(*byte));
    let (start, is_signed) = (number(CERTIFICATES), number(CERTIFICATES + 4) > 0);
    if is_signed {
        bytes.truncate(start);
    }
    let mut context = Context::new(&SHA256);
    context.update(&bytes[..OPTIONAL + 64]);
    context.update(&bytes[OPTIONAL + 68..CERTIFICATES]);
    context.update(&bytes[CERTIFICATES + 8..]);
    let signature = signature(context.finish().as_ref(), issuer).expect("fixed values");
    let (end, table) = (bytes.len(), (8 + signature.len()).next_multiple_of(8));
    bytes[CERTIFICATES..CERTIFICATES + 4].copy_from_slice(&(end as u32).to_le_bytes());
    bytes[CERTIFICATES + 4..CERTIFICATES + 8].copy_from_slice(&(table as u32).to_le_bytes());
    bytes.extend((table as u32).to_le_bytes());
    bytes.extend([0, 2, 2, 0]);
    bytes.extend(signature);
    bytes.resize(end + table, 0);
}

/// The form of a signature (RFC 5652), without a real one.
fn signature(checksum: &[u8], issuer: &str) -> der::Result<Vec<u8>> {
    let algorithm = |oid| AlgorithmIdentifierOwned { oid, parameters: None };
    let oid = ObjectIdentifier::new_unwrap;
    let sid = IssuerAndSerialNumber { issuer: Name::from_str(issuer)?, serial_number: SerialNumber::new(&[3])? };
    let info = SignerInfo {
        version: CmsVersion::V1,
        sid: SignerIdentifier::IssuerAndSerialNumber(sid),
        digest_alg: algorithm(oid(SHA256_OID)),
        signed_attrs: None,
        signature_algorithm: algorithm(oid(RSA_OID)),
        signature: OctetString::new(checksum)?,
        unsigned_attrs: None,
    };
    let told = [CONTENT, &DIGEST_INFO, checksum].concat();
    let signed = SignedData {
        version: CmsVersion::V1,
        digest_algorithms: SetOfVec::try_from(vec![algorithm(oid(SHA256_OID))])?,
        encap_content_info: EncapsulatedContentInfo {
            econtent_type: oid(CONTENT_OID),
            econtent: Some(Any::new(Tag::Sequence, told)?),
        },
        certificates: None,
        crls: None,
        signer_infos: SetOfVec::try_from(vec![info])?.into(),
    };
    ContentInfo { content_type: oid(SIGNED_OID), content: Any::encode_from(&signed)? }.to_der()
}

/// A FAT file system with these files.
///
/// # Errors
/// When there is too little room.
pub(super) fn file_system(files: &BTreeMap<String, Vec<u8>>, size: usize, id: u32) -> io::Result<Vec<u8>> {
    let mut image = Cursor::new(vec![0; size]);
    let options = fatfs::FormatVolumeOptions::new().volume_id(id).volume_label(*b"SALTMARSH  ");
    fatfs::format_volume(&mut image, options)?;
    {
        let system = fatfs::FileSystem::new(&mut image, fatfs::FsOptions::new())?;
        let root = system.root_dir();
        for (path, content) in files {
            let mut above = String::new();
            for folder in path.split('/').rev().skip(1).collect::<Vec<_>>().into_iter().rev() {
                above = if above.is_empty() { folder.to_owned() } else { format!("{above}/{folder}") };
                root.create_dir(&above)?;
            }
            root.create_file(path)?.write_all(content)?;
        }
    }
    Ok(image.into_inner())
}

#[cfg(test)]
mod tests {
    use veritum_core::formats::boot::efi_program::{SelfProof, content_checksum, issuers, self_proof};
    use veritum_core::formats::boot::kernel_image::kernel_version;
    use veritum_core::testkit::mutated;

    use super::*;

    #[test]
    fn a_program_names_who_signed_it_and_stays_the_same_program() {
        let shipped = program(7, "vmlinuz-6.9.4", 4000);
        let mut own = shipped.clone();
        sign(&mut own, "CN=Owner");
        assert_eq!((issuers(&shipped), issuers(&own)), (vec![VENDOR.to_owned()], vec!["CN=Owner".to_owned()]));
        assert_eq!(self_proof(&own), SelfProof::Matches);
        assert_eq!(content_checksum(&shipped), content_checksum(&own));
        assert_ne!(content_checksum(&shipped), content_checksum(&program(8, "vmlinuz-6.9.4", 4000)));
        assert_eq!(kernel_version(&own).as_deref(), Some("6.9.4"));
        sign(&mut own, "CN=Ow\u{1b}[31mner");
        assert_eq!(issuers(&own), ["CN=Ow\\1b[31mner"], "nothing reaches the terminal that controls it");
        assert!(issuers(&shipped[..900]).is_empty());
    }

    #[test]
    fn damaged_signatures_are_read_without_harm() {
        const SIGNATURE: usize = 1024 + 512;
        let shipped = program(7, "shimx64", 500);
        for seed in 0..2000 {
            let damaged = mutated(&shipped, seed);
            let _ = (issuers(&damaged), content_checksum(&damaged));
            // Damage in the signature only.
            let mut damaged = shipped.clone();
            damaged.splice(SIGNATURE.., mutated(&shipped[SIGNATURE..], seed));
            let _ = issuers(&damaged);
        }
    }
}
