//! What the C library's allocator keeps.

/// Larger blocks are returned to the system when they are freed, in bytes: the start value of glibc.
#[cfg(all(target_os = "linux", target_env = "gnu"))]
const RETURNED: libc::c_int = 128 << 10;

/// Makes glibc's allocator return large blocks whenever they are freed. By default it moves its limit up to the largest block
/// that was freed (mallopt(3), `M_MMAP_THRESHOLD`), and then keeps the memory of large tables, which grow one after the other.
pub(crate) fn return_large_blocks() {
    #[cfg(all(target_os = "linux", target_env = "gnu"))]
    // SAFETY: the call changes a setting of the allocator, before other threads exist.
    unsafe {
        libc::mallopt(libc::M_MMAP_THRESHOLD, RETURNED);
    }
}
