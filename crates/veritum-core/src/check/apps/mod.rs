//! The area `apps`: whether the applications that a desktop offers can be started from it.

mod integration;

pub(crate) use integration::{Integration, REGISTRY};
