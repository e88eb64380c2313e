//! Loads and verifies every manifest of a store; prints how many entries, and the milliseconds on one thread and on all.
//!
//! `load-manifests STORE TRUST`: for `benches/load-manifests`.

use std::path::Path;
use std::time::Instant;

use rayon::prelude::*;
use veritum_core::model::PackageId;
use veritum_core::store::{Reach, Store};
use veritum_core::trust::Pins;

fn entries(store: &Store, id: &PackageId) -> usize {
    store.manifest(id).ok().flatten().map_or(0, |m| m.get().entries.len())
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let arguments: Vec<String> = std::env::args().collect();
    let [_, store, trust] = arguments.as_slice() else { return Err("load-manifests STORE TRUST".into()) };
    let store = Store::open(
        &Path::new(store).to_owned().into(),
        &Pins::in_folder(Path::new(trust)),
        &Reach::folders_only(vec![std::env::temp_dir()]),
        jiff::Timestamp::UNIX_EPOCH,
    )?;
    let ids: Vec<_> = store.packages().map(|c| c.package.clone()).collect();
    let start = Instant::now();
    let count: usize = ids.iter().map(|id| entries(&store, id)).sum();
    let one = start.elapsed();
    let start = Instant::now();
    let again: usize = ids.par_iter().map(|id| entries(&store, id)).sum();
    let all = start.elapsed();
    assert_eq!(count, again);
    println!("{count} {:.3} {:.3}", one.as_secs_f64() * 1e3, all.as_secs_f64() * 1e3);
    Ok(())
}
