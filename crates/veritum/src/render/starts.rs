//! What `explain bootchain` prints.

use veritum_core::report::{StartWay, StartsReport};

use super::layout::{cell, described, labelled, paragraph};
use super::style::{Label, paint};
use super::{next, plain};
use crate::context::Context;

pub(crate) fn describe(context: &Context, report: &StartsReport) -> String {
    let machine = &report.machine;
    let name = if machine.hostname.is_empty() { "this machine" } else { &machine.hostname };
    let mut out = format!("How {name} ({}) can be started with fewer parts\n", machine.system);
    for remark in &report.remarks {
        out.push_str(&paragraph("  ", &format!("Note: {remark}"), context.width));
    }
    out.push_str(&format!("\n  {}\n", paint(Label::Heading, "The boot menu")));
    for (number, step) in (1..).zip(&report.menu) {
        out.push_str(&paragraph("    ", &format!("{number}. {step}"), context.width));
    }
    out.push_str(&format!("\n  {}\n", paint(Label::Heading, "Ways, mildest first")));
    let rows: Vec<_> = report.ways.iter().flat_map(rows).collect();
    out.push_str(&described("    ", &rows, context.width));
    let commands = [(context.command("check bootchain"), "what keeps it from starting")];
    out.push_str(&format!("\n{}", next(context, &commands)));
    out
}

type Row = (Vec<super::layout::Cell>, Vec<super::layout::Cell>);

fn rows(way: &StartWay) -> Vec<Row> {
    let mut rows = vec![(vec![labelled(Label::Heading, way.name.clone())], vec![cell(way.does.clone())])];
    let mut more = |text: String, label: Label| rows.push((vec![cell("")], vec![labelled(label, text)]));
    for entry in &way.entries {
        more(format!("entry: {}", plain(entry)), Label::Remark);
    }
    if let Some(argument) = &way.argument {
        more(format!("argument: {argument}"), Label::Command);
    }
    more(format!("back: {}", way.back), Label::Remark);
    rows
}
