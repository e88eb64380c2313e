//! The computer on which Veritum runs, as `/proc` and `/sys` of the running kernel describe it.

use std::io::Read;

/// At most this much of one of those files is read, in bytes.
const MAX: u64 = 1 << 20;

/// A computer's hardware, as far as it is known.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Computer {
    /// Maker and model (SMBIOS, as Linux shows it below `/sys/class/dmi/id`); empty in many virtual machines.
    pub model: String,
    /// The processor's name.
    pub processor: String,
    /// The number of hardware threads.
    pub threads: u64,
    /// Memory in bytes.
    pub memory: u64,
}

fn text(path: &str) -> String {
    let mut bytes = Vec::new();
    if let Ok(file) = std::fs::File::open(path) {
        let _ = file.take(MAX).read_to_end(&mut bytes);
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

fn line(path: &str) -> String {
    plain(text(path).lines().next().unwrap_or_default())
}

/// Removes control characters and repeated spaces: manufacturers fill these fields with anything.
fn plain(text: &str) -> String {
    let clean: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).take(120).collect();
    clean.split_whitespace().collect::<Vec<_>>().join(" ")
}

impl Computer {
    /// Examines the computer on which Veritum runs: not always the one whose disk is mounted.
    #[must_use]
    pub fn this() -> Self {
        let maker = line("/sys/class/dmi/id/sys_vendor");
        let product = line("/sys/class/dmi/id/product_name");
        let mut computer = Self::parse(&text("/proc/cpuinfo"), &text("/proc/meminfo"));
        computer.model = if product.starts_with(&maker) { product } else { format!("{maker} {product}") };
        computer.model = computer.model.trim().to_owned();
        computer
    }

    /// Reads `cpuinfo` and `meminfo` (proc(5)).
    #[must_use]
    pub fn parse(cpuinfo: &str, meminfo: &str) -> Self {
        let value = |text: &str, key: &str| {
            text.lines().find_map(|l| {
                let (name, value) = l.split_once(':')?;
                (name.trim() == key).then(|| plain(value))
            })
        };
        let kib = value(meminfo, "MemTotal").and_then(|v| v.strip_suffix(" kB")?.parse::<u64>().ok()).unwrap_or(0);
        Self {
            model: String::new(),
            processor: value(cpuinfo, "model name").or_else(|| value(cpuinfo, "Model")).unwrap_or_default(),
            threads: cpuinfo.lines().filter(|l| l.split(':').next().is_some_and(|k| k.trim() == "processor")).count()
                as u64,
            memory: kib.saturating_mul(1024),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_kernel_tells_is_read_and_cleaned() {
        let cpuinfo =
            "processor\t: 0\nmodel name\t: Foreshore  F4 \x1b[31m@ 2.0GHz\n\nprocessor\t: 1\nmodel name\t: other\n";
        let computer = Computer::parse(cpuinfo, "MemTotal:       16777216 kB\nMemFree: 1 kB\n");
        assert_eq!(computer.processor, "Foreshore F4 [31m@ 2.0GHz");
        assert_eq!((computer.threads, computer.memory), (2, 16 << 30));
        assert_eq!(Computer::parse("", "MemTotal: much"), Computer::default());
        assert!(Computer::this().threads > 0);
    }
}
