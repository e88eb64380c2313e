//! What `list disks` prints.

use veritum_core::model::quoted;
use veritum_core::report::{DiskLine, DisksReport, VolumeAccess, VolumeLine};

use super::layout::{Cell, cell, labelled, list};
use super::style::{Label, paint};
use super::{count, next, size};
use crate::context::Context;

pub(crate) fn describe(context: &Context, report: &DisksReport) -> String {
    let volumes = report.disks.iter().map(|disk| disk.volumes.len() as u64).sum();
    let mut out =
        format!("{}, {}\n", count(report.disks.len() as u64, "disk", "disks"), count(volumes, "volume", "volumes"));
    for disk in &report.disks {
        out.push_str(&one(context, disk));
    }
    let usable = report.disks.iter().find(|disk| disk.volumes.iter().any(|v| v.access == VolumeAccess::Direct));
    let commands = match usable {
        Some(disk) => {
            let path = quoted(disk.path.as_bytes());
            vec![(format!("veritum check --disk {path}"), "its file systems, and whether its system starts")]
        }
        None => vec![(context.command("check volumes bootchain"), "the file systems, and what starts the system")],
    };
    out.push_str(&format!("\n{}", next(context, &commands)));
    out
}

fn one(context: &Context, disk: &DiskLine) -> String {
    let table = match &*disk.table {
        "gpt" => "GPT",
        "mbr" => "MBR",
        _ => "no partition table",
    };
    let head = match disk.bytes {
        0 => disk.path.clone(),
        bytes => format!("{}  {}, {table}", disk.path, size(bytes)),
    };
    let trouble = disk.trouble.as_ref().map_or_else(String::new, |why| format!("  {}", paint(Label::Problem, why)));
    let mut out = format!("\n{}{trouble}\n", paint(Label::Heading, &head));
    let heading = |word: &str| labelled(Label::Heading, word);
    let mut rows =
        vec![["partition", "size", "contains", "label", "UUID", "system", "to examine it"].map(heading).to_vec()];
    rows.extend(disk.volumes.iter().map(row));
    if disk.volumes.is_empty() {
        return out;
    }
    out.push_str(&list("  ", &rows, context.width));
    out
}

fn row(volume: &VolumeLine) -> Vec<Cell> {
    let how = match volume.access {
        VolumeAccess::Mounted => format!("mounted at {}", volume.mounted_at.join(", ")),
        VolumeAccess::Direct => "--disk".to_owned(),
        VolumeAccess::Boot => "check bootchain".to_owned(),
        VolumeAccess::Mount => "mount it first".to_owned(),
        VolumeAccess::Open => "open it first".to_owned(),
        VolumeAccess::Nothing => "-".to_owned(),
    };
    vec![
        cell(match volume.partition {
            Some(number) => number.to_string(),
            None if volume.start > 0 => format!("none; sector {}", volume.start / 512),
            None => "whole".to_owned(),
        }),
        cell(size(volume.bytes)),
        cell(volume.contains.clone().unwrap_or_else(|| "unknown".to_owned())),
        cell(volume.label.clone()),
        cell(volume.uuid.clone()),
        cell(volume.system.clone().unwrap_or_default()),
        labelled(Label::Remark, how),
    ]
}
