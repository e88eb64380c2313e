//! Programs of the boot chain that someone else signed than those of packages: the owner of the machine, for example.

use std::collections::BTreeSet;

use super::packages::PackageFiles;
use crate::formats::boot::efi_program::{SelfProof, issuers, self_proof};
use crate::model::SystemPath;

/// Where packages have programs that are signed.
pub(super) const SHIM: &str = "/usr/lib/shim";
pub(super) const GRUB: [&str; 4] = [
    "/usr/lib/grub/x86_64-efi-signed",
    "/usr/lib/grub/i386-efi-signed",
    "/usr/lib/grub/arm64-efi-signed",
    "/usr/lib/grub/arm-efi-signed",
];
pub(super) const SIGNED: &[u8] = b".signed";

/// Who issued the certificates of those that signed the programs of packages.
pub(super) struct Signers(BTreeSet<String>);

impl Signers {
    pub(super) fn of_packages(files: &PackageFiles<'_>) -> Self {
        let folders = std::iter::once(SHIM).chain(GRUB).map(SystemPath::literal);
        let paths = folders.flat_map(|folder| {
            let names = files.names(&folder).unwrap_or_default().into_iter().filter(|name| name.ends_with(SIGNED));
            names.filter_map(|name| folder.child(&name).ok()).collect::<Vec<_>>()
        });
        Self(paths.filter_map(|path| files.get(&path).ok()).flat_map(|file| issuers(&file.bytes)).collect())
    }

    /// Who else signed a program that is whole by its own signature. `None` where that is not known, as no package has a signed program.
    pub(super) fn stranger(&self, bytes: &[u8]) -> Option<String> {
        if self.0.is_empty() || self_proof(bytes) != SelfProof::Matches {
            return None;
        }
        issuers(bytes).into_iter().find(|issuer| !self.0.contains(issuer))
    }
}

/// What is said of a program that has such a signature.
pub(super) fn not_examined(path: &str, issuer: &str) -> String {
    format!(
        "{path}: signed by others than the packages' programs ({issuer}); whether firmware accepts that is not examined"
    )
}
