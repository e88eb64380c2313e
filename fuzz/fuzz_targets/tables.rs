//! Partition tables: MBR with its chain, both copies of a GPT, and what is on the partitions.
#![no_main]

use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use veritum_core::devices::{GptPair, MbrTable, PartitionTable, ReadAt, Section, identify, recorded_size};

fuzz_target!(|data: &[u8]| {
    // The first sectors, and the last ones, of a larger disk.
    let mut disk = vec![0; 1 << 20];
    let half = data.len().min(1 << 19) / 2;
    disk[..half].copy_from_slice(&data[..half]);
    let end = disk.len() - half;
    disk[end..].copy_from_slice(&data[half..2 * half]);
    let (table, _) = (PartitionTable::read(&disk), GptPair::read(&disk));
    let _ = MbrTable::read(&disk);
    let shared: Arc<dyn ReadAt> = Arc::new(disk);
    for partition in table.partitions.iter().take(8) {
        let part = Section::new(shared.clone(), partition.start, partition.size);
        let _ = (identify(&part), recorded_size(&part));
    }
});
