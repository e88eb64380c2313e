//! The area `apps`: whether the applications that a desktop offers can be started from it.

mod icons;
mod integration;

pub(crate) use icons::Icons;
pub(crate) use integration::{Integration, REGISTRY};
