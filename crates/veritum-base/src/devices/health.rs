//! What a drive says of its own health: ATA's SMART data (ATA/ATAPI Command Set 3, 7.48.6, and the attributes that all makers number alike)
//! and NVMe's health log (NVM Express Base Specification 2.0, 5.16.1.3).

use crate::formats::numbers::{array, le32};

/// The size of a page in bytes.
const PAGE: usize = 512;
/// The attributes of a drive: thirty records of twelve bytes.
const ATTRIBUTES: usize = 30;
const RECORD: usize = 12;
/// The flag of an attribute that says something about an imminent failure, and not only about age.
const PRE_FAILURE: u8 = 1;

/// Numbers of attributes.
mod number {
    pub(super) const REALLOCATED: u8 = 5;
    pub(super) const UNCORRECTED: u8 = 187;
    pub(super) const PENDING: u8 = 197;
    pub(super) const CABLE_ERRORS: u8 = 199;
}

/// Bits of NVMe's critical warning.
mod warning {
    pub(super) const FEW_SPARES: u8 = 1;
    pub(super) const RELIABILITY: u8 = 1 << 2;
    pub(super) const READ_ONLY: u8 = 1 << 3;
    pub(super) const BACKUP_POWER: u8 = 1 << 4;
}

/// What a drive says of its health.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DriveHealth {
    /// Why it is failing, in words; nothing if it does not say so.
    pub failing: Vec<String>,
    /// Sectors that it could not read and will replace once they are written.
    pub unreadable_sectors: u64,
    /// What it has counted since it was made, in words: signs of age, which need not matter any more.
    pub counted: Vec<String>,
}

impl DriveHealth {
    /// Whether it says that it is failing, or that it cannot read all of its sectors.
    #[must_use]
    pub fn is_in_doubt(&self) -> bool {
        !self.failing.is_empty() || self.unreadable_sectors > 0
    }

    /// Reads SMART data; `thresholds` is the page with the attributes' thresholds, `is_failing` the drive's own verdict.
    ///
    /// # Errors
    /// When the page is damaged.
    pub fn of_ata(data: &[u8], thresholds: Option<&[u8]>, is_failing: Option<bool>) -> Result<Self, &'static str> {
        if data.len() != PAGE || !has_sum(data) {
            return Err("its SMART data are damaged: the checksum is wrong");
        }
        let mut health = Self::default();
        if is_failing == Some(true) {
            health.failing.push("it says that it is failing (SMART status)".to_owned());
        }
        let thresholds = thresholds.filter(|page| page.len() == PAGE && has_sum(page));
        for record in records(data) {
            let (id, flags, value) = (record[0], record[1], record[3]);
            // Makers keep other numbers in the upper bytes.
            let raw = u64::from(le32(record, 5));
            let threshold =
                thresholds.and_then(|page| records(page).find(|other| other[0] == id)).map(|other| other[1]);
            // A value of 0 or 254 and more is none.
            let is_below = threshold.is_some_and(|least| (1..254).contains(&least) && (1..=least).contains(&value));
            if is_below && flags & PRE_FAILURE != 0 {
                health.failing.push(format!("its attribute {id} is at or below its threshold (SMART)"));
            }
            match id {
                number::PENDING => health.unreadable_sectors = raw,
                number::REALLOCATED => health.count(raw, "sector was replaced", "sectors were replaced"),
                number::UNCORRECTED => health.count(raw, "error was not corrected", "errors were not corrected"),
                number::CABLE_ERRORS => {
                    health.count(raw, "transfer failed (cable or plug)", "transfers failed (cable or plug)");
                }
                _ => {}
            }
        }
        Ok(health)
    }

    /// Reads NVMe's health log.
    ///
    /// # Errors
    /// When it is not one.
    pub fn of_nvme(log: &[u8]) -> Result<Self, &'static str> {
        if log.len() != PAGE || log.iter().all(|byte| *byte == 0) {
            return Err("its health log is empty");
        }
        let mut health = Self::default();
        let warnings = [
            (warning::FEW_SPARES, "its spare blocks are nearly used up"),
            (warning::RELIABILITY, "it says that it is no longer reliable"),
            (warning::READ_ONLY, "it can no longer be written"),
            (warning::BACKUP_POWER, "what protects its memory against a power cut has failed"),
        ];
        let set = warnings.into_iter().filter(|(bit, _)| log[0] & bit != 0);
        health.failing = set.map(|(_, words)| words.to_owned()).collect();
        // Numbers of sixteen bytes: no drive counts further than eight.
        let counted = |at: usize| array(log, at).map_or(0, u64::from_le_bytes);
        health.count(counted(160), "error was not corrected", "errors were not corrected");
        if log[5] >= 100 {
            health.counted.push(format!("{} % of its rated life is used", log[5]));
        }
        Ok(health)
    }

    fn count(&mut self, count: u64, one: &str, many: &str) {
        match count {
            0 => {}
            1 => self.counted.push(format!("1 {one}")),
            n => self.counted.push(format!("{n} {many}")),
        }
    }
}

fn records(page: &[u8]) -> impl Iterator<Item = &[u8]> {
    page[2..2 + ATTRIBUTES * RECORD].chunks_exact(RECORD).filter(|record| record[0] != 0)
}

/// All bytes of such a page add up to nothing.
fn has_sum(page: &[u8]) -> bool {
    page.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)) == 0
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A page with these records of an attribute: number, flags, value, worst value, raw value.
    fn page(records: &[(u8, u8, u8, u32)]) -> Vec<u8> {
        let mut page = vec![0; PAGE];
        page[0] = 16;
        for (at, (id, flags, value, raw)) in records.iter().enumerate() {
            let at = 2 + at * RECORD;
            page[at..at + 5].copy_from_slice(&[*id, *flags, 0, *value, *value]);
            page[at + 5..at + 9].copy_from_slice(&raw.to_le_bytes());
        }
        summed(page)
    }

    fn summed(mut page: Vec<u8>) -> Vec<u8> {
        page[PAGE - 1] = 0;
        page[PAGE - 1] = page.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)).wrapping_neg();
        page
    }

    fn thresholds(records: &[(u8, u8)]) -> Vec<u8> {
        let mut page = vec![0; PAGE];
        for (at, (id, least)) in records.iter().enumerate() {
            page[2 + at * RECORD..4 + at * RECORD].copy_from_slice(&[*id, *least]);
        }
        summed(page)
    }

    #[test]
    fn a_drive_is_failing_by_its_own_status_or_by_a_threshold_and_counts_are_only_told() {
        let data = page(&[(1, 1, 100, 0), (5, 3, 90, 8), (197, 2, 100, 0), (199, 2, 200, 1)]);
        let least = thresholds(&[(1, 51), (5, 36), (197, 0)]);
        let health = DriveHealth::of_ata(&data, Some(&least), Some(false)).unwrap();
        let counted = ["8 sectors were replaced", "1 transfer failed (cable or plug)"].map(str::to_owned).to_vec();
        assert_eq!(health, DriveHealth { counted, ..DriveHealth::default() });
        let worn = page(&[(5, 3, 36, 4000), (9, 2, 1, 0), (197, 2, 100, 24)]);
        let least = thresholds(&[(5, 36), (9, 10)]);
        let health = DriveHealth::of_ata(&worn, Some(&least), Some(true)).unwrap();
        assert_eq!(health.unreadable_sectors, 24);
        assert_eq!(health.failing.len(), 2, "an attribute of mere age is none: {health:?}");
        assert!(DriveHealth::of_ata(&worn, None, None).unwrap().failing.is_empty());
    }

    #[test]
    fn what_emulated_drives_returned_to_a_real_kernel_is_read() {
        let page = |text: &str| {
            let mut page = vec![0; PAGE];
            for line in text.lines() {
                let (at, bytes) = line.split_once(": ").unwrap();
                let bytes: Vec<u8> = bytes.split(' ').map(|byte| u8::from_str_radix(byte, 16).unwrap()).collect();
                let at = usize::from_str_radix(at, 16).unwrap();
                page[at..at + bytes.len()].copy_from_slice(&bytes);
            }
            page
        };
        let recorded = page(include_str!("data/nvme-health.txt"));
        // It was told to warn.
        let failing = vec!["it says that it is no longer reliable".to_owned()];
        assert_eq!(DriveHealth::of_nvme(&recorded).unwrap(), DriveHealth { failing, ..DriveHealth::default() });
        let data = page(include_str!("data/ata-smart.txt"));
        let least = page(include_str!("data/ata-thresholds.txt"));
        assert_eq!(DriveHealth::of_ata(&data, Some(&least), Some(false)).unwrap(), DriveHealth::default());
    }

    #[test]
    fn the_warnings_of_a_health_log_are_told() {
        let mut log = vec![0; PAGE];
        assert!(DriveHealth::of_nvme(&log).is_err() && DriveHealth::of_nvme(&[1]).is_err());
        (log[0], log[3], log[4], log[5]) = (0b1101, 2, 10, 104);
        log[160] = 7;
        let health = DriveHealth::of_nvme(&log).unwrap();
        assert_eq!((health.failing.len(), health.counted.len()), (3, 2), "{health:?}");
        // Warmth alone is no failure.
        log[0] = 0b10;
        assert!(DriveHealth::of_nvme(&log).unwrap().failing.is_empty());
    }

    proptest::proptest! {
        #[test]
        fn whatever_a_drive_returns_is_read_or_refused(
            data in proptest::collection::vec(proptest::prelude::any::<u8>(), 0..600),
            status: Option<bool>,
        ) {
            let _ = DriveHealth::of_ata(&data, Some(&data), status);
            let _ = DriveHealth::of_nvme(&data);
            if data.len() >= PAGE {
                let page = summed(data[..PAGE].to_vec());
                proptest::prop_assert!(DriveHealth::of_ata(&page, Some(&page), status).is_ok());
            }
        }
    }
}
