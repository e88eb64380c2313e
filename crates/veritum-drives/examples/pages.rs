//! Prints what a drive reports of its health, as rows of bytes: `pages /dev/sda`. Rows of zeros are left out.

use std::os::fd::AsFd as _;

fn print(name: &str, page: &[u8]) {
    println!("{name}");
    for (row, bytes) in page.chunks(16).enumerate().filter(|(_, bytes)| bytes.iter().any(|byte| *byte != 0)) {
        let bytes: Vec<String> = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
        println!("{:03x}: {}", row * 16, bytes.join(" "));
    }
}

fn main() -> std::io::Result<()> {
    for path in std::env::args().skip(1) {
        let device = std::fs::File::open(&path)?;
        match veritum_drives::read_health_log(device.as_fd()) {
            Ok(page) => print(&format!("{path}: NVMe health log"), &page),
            Err(e) => println!("{path}: no NVMe health log: {e}"),
        }
        match veritum_drives::read_smart(device.as_fd()) {
            Ok(pages) => {
                print(&format!("{path}: SMART data, failing: {:?}", pages.is_failing), &pages.data);
                pages.thresholds.iter().for_each(|page| print("thresholds", page));
            }
            Err(e) => println!("{path}: no SMART data: {e}"),
        }
    }
    Ok(())
}
