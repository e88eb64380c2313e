//! Kernels for x86-64.

mod avx512;
mod pairs;

use crate::Kernel;
use pairs::{avx2, sse2};

/// The kernels for MD5 that this processor supports, each with its name, fastest first.
pub(crate) fn md5_kernels() -> Vec<(&'static str, Kernel)> {
    let mut all: Vec<(&'static str, Kernel)> = Vec::new();
    if is_x86_feature_detected!("avx512f") {
        // SAFETY: the processor has the instructions.
        all.push(("AVX-512", |states, blocks, count| unsafe { avx512::md5(states, blocks, count) }));
    }
    if is_x86_feature_detected!("avx2") {
        // SAFETY: the processor has the instructions.
        all.push(("AVX2", |states, blocks, count| unsafe { avx2::md5(states, blocks, count) }));
    }
    // SAFETY: every x86-64 processor has the instructions.
    all.push(("SSE2", |states, blocks, count| unsafe { sse2::md5(states, blocks, count) }));
    all
}

/// The same for SHA-256.
pub(crate) fn sha256_kernels() -> Vec<(&'static str, Kernel)> {
    let mut all: Vec<(&'static str, Kernel)> = Vec::new();
    if is_x86_feature_detected!("avx512f") {
        // SAFETY: the processor has the instructions.
        all.push(("AVX-512", |states, blocks, count| unsafe { avx512::sha256(states, blocks, count) }));
    }
    if is_x86_feature_detected!("avx2") {
        // SAFETY: the processor has the instructions.
        all.push(("AVX2", |states, blocks, count| unsafe { avx2::sha256(states, blocks, count) }));
    }
    // SAFETY: every x86-64 processor has the instructions.
    all.push(("SSE2", |states, blocks, count| unsafe { sse2::sha256(states, blocks, count) }));
    all
}
