//! What starts a system: boot sectors and core images of GRUB 2 on BIOS machines, EFI programs, firmware entries, kernels, boot menus, the lists of
//! file systems and initial file systems.

pub mod core_image;
pub mod efi_program;
pub mod environment;
pub mod firmware_entries;
pub mod initramfs;
pub mod kernel_image;
pub mod menu;
pub mod mounts;
pub mod packing;
pub mod parity;
pub mod sector;
