//! `store`: create, add, sign, trust, show.

use std::path::{Path, PathBuf};

use veritum_core::model::{Action, PackageId};
use veritum_core::report::{StoreAddReport, StoreReport};
use veritum_core::store::{self, FillRules, Location, Parcel, Store};
use veritum_core::trust::openpgp::Keyring;
use veritum_core::trust::{KeyFolders, KeyPair, Pins, StoreKeys, VendorKeys};

use super::print;
use crate::args::StoreVerb;
use crate::context::Context;
use crate::errors::Failure;
use crate::output::put;
use crate::places::{place, shown};
use crate::prompt::{Question, agree};
use crate::{exit, render};

/// The lifetime of a new store's signatures; signing again renews them.
const YEARS: i64 = 10;
const YEAR_SECONDS: i64 = 31_557_600;
/// Larger keyring files are refused.
const MAX_KEYRING: u64 = 16 << 20;
/// Deeper folders are not searched for packages.
const MAX_DEPTH: usize = 12;

pub(crate) fn run(context: &Context, verb: StoreVerb) -> Result<u8, Failure> {
    match verb {
        StoreVerb::Create { dir, keys } => create(context, &dir, &keys),
        StoreVerb::Add { installed: true, checksums_only, .. } => add_installed(context, !checksums_only),
        StoreVerb::Add { paths, checksums_only, .. } => add(context, &paths, !checksums_only),
        StoreVerb::Sign { keys } => sign(context, keys),
        StoreVerb::Trust { location } => trust(context, &location),
        StoreVerb::Show { package } => show(context, package.as_deref()),
    }
}

fn report(location: &Path, done: &str) -> StoreReport {
    report_of(&location.display(), done)
}

fn report_of(location: &dyn std::fmt::Display, done: &str) -> StoreReport {
    StoreReport {
        format: StoreReport::FORMAT.into(),
        location: location.to_string(),
        done: done.into(),
        packages: Vec::new(),
        keys: Vec::new(),
    }
}

fn expires(context: &Context) -> Result<jiff::Timestamp, Failure> {
    jiff::Timestamp::from_second(context.settings.now.as_second() + YEARS * YEAR_SECONDS)
        .map_err(|e| Failure::not_done("the clock is wrong".into(), e.to_string(), None))
}

fn named(context: &Context) -> Result<&Location, Failure> {
    let none = || Failure::usage("no store given".into(), String::new(), Some("add --store LOCATION".into()));
    context.settings.store.as_ref().ok_or_else(none)
}

/// The folder of the store to write.
fn named_store(context: &Context) -> Result<&Path, Failure> {
    named(context)?;
    Ok(context.settings.store_folder()?)
}

fn create(context: &Context, dir: &Path, keys: &Path) -> Result<u8, Failure> {
    let pair = || KeyPair::generate().map_err(store::StoreError::from);
    let made = StoreKeys { root: pair()?, publish: pair()? };
    let mut report = report(dir, "created");
    report.keys = store::create(dir, keys, &made, expires(context)?)?;
    // Where that cannot be recorded, `store sign` asks for --keys.
    let _ = KeyFolders::in_folder(&context.settings.trust).record(dir, keys);
    print(context, &report, exit::FINE, || render::store::created(context, dir, keys, &report))?;
    Ok(exit::FINE)
}

fn add(context: &Context, paths: &[PathBuf], contents: bool) -> Result<u8, Failure> {
    let location = named_store(context)?;
    let mut debs = Vec::new();
    for path in paths {
        collect(path, MAX_DEPTH, true, &mut debs)?;
    }
    debs.sort();
    debs.dedup();
    let rules = FillRules { jobs: context.settings.jobs, contents };
    let summary = match (paths.is_empty(), debs.is_empty()) {
        (true, _) => add_from_stores(context, contents)?,
        (false, true) => {
            return Err(Failure::usage("no packages found".into(), "no files end with .deb".into(), None));
        }
        (false, false) => {
            let parcels: Vec<&dyn Parcel> = debs.iter().map(|p| p as &dyn Parcel).collect();
            store::fill_from(location, &parcels, rules, &context.progress)?
        }
    };
    let mut report = StoreAddReport::new(location);
    report.known = summary.known as u64;
    report.push(summary);
    let status = if report.failed.is_empty() { exit::FINE } else { exit::PROBLEMS };
    print(context, &report, status, || render::store::added(context, location, &report))?;
    Ok(status)
}

/// Adds the packages of the stores named with `--from`.
fn add_from_stores(context: &Context, contents: bool) -> Result<store::FillSummary, Failure> {
    let nothing = || {
        let why = "give .deb files, --installed, or another store with --from";
        Failure::usage("nothing to add".into(), why.into(), Some(Action::command("veritum store add --help")))
    };
    if context.global.from.is_empty() {
        return Err(nothing());
    }
    let mut engine = context.open()?;
    match engine.has_other_stores() {
        Ok(true) => Ok(engine.fill_from_stores(contents, &context.progress)?),
        Ok(false) => Err(nothing()),
        Err(why) => Err(Failure::not_done("cannot use the other store".into(), why, None)),
    }
}

/// Adds all installed packages.
fn add_installed(context: &Context, contents: bool) -> Result<u8, Failure> {
    let location = named_store(context)?;
    let mut engine = context.open()?;
    let mut question = Question::new(context, "Add these packages now?");
    let mut ask = |report: &StoreAddReport| question.ask(|| render::store::add_plan(report));
    let report = engine.fill_installed(contents, context.global.plan, &context.progress, &mut ask)?;
    if let Some(trouble) = question.trouble() {
        return Err(trouble);
    }
    let left = !report.refused.is_empty() || !report.failed.is_empty();
    let status = if left && !question.declined { exit::PROBLEMS } else { exit::FINE };
    print(context, &report, status, || match question.declined {
        true => "Nothing was changed.\n".to_owned(),
        false => render::store::added(context, location, &report),
    })?;
    Ok(status)
}

/// Finds packages: a file that is named is accepted with any extension.
fn collect(path: &Path, depth: usize, named: bool, into: &mut Vec<PathBuf>) -> Result<(), Failure> {
    let fail = |e: std::io::Error| Failure::usage(format!("{} cannot be read", shown(path)), e.to_string(), None);
    let kind = if named { std::fs::metadata(path) } else { std::fs::symlink_metadata(path) }.map_err(fail)?;
    if kind.is_file() {
        if named || path.extension().is_some_and(|e| e == "deb") {
            into.push(path.to_owned());
        }
    } else if kind.is_dir() && depth > 0 {
        for entry in std::fs::read_dir(path).map_err(fail)? {
            collect(&entry.map_err(fail)?.path(), depth - 1, false, into)?;
        }
    } else if named {
        let what = format!("{} is neither a .deb file nor a folder", shown(path));
        return Err(Failure::usage(what, "nothing was added".into(), None));
    }
    Ok(())
}

fn sign(context: &Context, keys: Option<PathBuf>) -> Result<u8, Failure> {
    let location = named_store(context)?;
    let keys = keys.or_else(|| KeyFolders::in_folder(&context.settings.trust).find(location)).ok_or_else(|| {
        let why = "no record of where its private keys are (kept when a store is created on this computer)";
        Failure::usage(
            format!("cannot sign the store {}", shown(location)),
            why.into(),
            Some("add --keys KEYDIR".into()),
        )
    })?;
    let key = KeyPair::read(&StoreKeys::publish_file(&keys)).map_err(store::StoreError::from)?;
    let seen = store::seen(location, &Pins::in_folder(&context.settings.trust));
    let summary = store::publish(location, &key, expires(context)?, &context.settings.scratch, seen)?;
    print(context, &report(location, "signed"), exit::FINE, || render::store::published(context, location, &summary))?;
    Ok(exit::FINE)
}

/// Trusts the keys of a vendor's keyring file.
fn trust_keyring(context: &Context, file: &Path) -> Result<u8, Failure> {
    let fail = |why: String| Failure::usage(format!("{} is not a keyring", shown(file)), why, None);
    let small = std::fs::metadata(file).is_ok_and(|m| m.len() <= MAX_KEYRING);
    let bytes = if small { std::fs::read(file).map_err(|e| fail(e.to_string()))? } else { Vec::new() };
    let keyring = Keyring::read(&bytes).map_err(|e| fail(e.to_string()))?;
    let vendors = VendorKeys::in_folder(&context.settings.trust);
    let (known, new): (Vec<_>, Vec<_>) = keyring.certificates().iter().partition(|c| vendors.knows(c.fingerprint()));
    let mut report = report(file, "trusted");
    report.keys = keyring.certificates().iter().map(|c| c.fingerprint().to_owned()).collect();
    if new.is_empty() {
        report.done = "trusted already".into();
        print(context, &report, exit::FINE, || format!("All keys of {} are already trusted.\n", shown(file)))?;
        return Ok(exit::FINE);
    }
    if !context.global.json {
        put(&render::store::vendor_keys(file, &new, known.len()))?;
    }
    if context.global.plan || !agree(context, "Trust these keys?")? {
        report.done = "declined".into();
        print(context, &report, exit::FINE, || "Nothing was changed.\n".into())?;
        return Ok(exit::FINE);
    }
    for certificate in &new {
        vendors.pin(certificate).map_err(store::StoreError::from)?;
    }
    print(context, &report, exit::FINE, || render::store::keys_trusted(context, new.len()))?;
    Ok(exit::FINE)
}

fn trust(context: &Context, location: &Path) -> Result<u8, Failure> {
    if location.is_file() {
        return trust_keyring(context, location);
    }
    let pins = Pins::in_folder(&context.settings.trust);
    let location = Location::parse(location.as_os_str(), Path::new(""));
    let candidate = store::candidate(&location, &pins, &context.settings.reach())?;
    let mut report = report_of(&candidate.location, "trusted");
    report.keys.clone_from(&candidate.fingerprints);
    if candidate.pinned {
        report.done = "trusted already".into();
        print(context, &report, exit::FINE, || format!("{} is already trusted.\n", place(&candidate.location)))?;
        return Ok(exit::FINE);
    }
    if !context.global.json {
        put(&render::store::candidate(&candidate))?;
    }
    if context.global.plan || !agree(context, "Trust these keys?")? {
        report.done = "declined".into();
        print(context, &report, exit::FINE, || "Nothing was changed.\n".into())?;
        return Ok(exit::FINE);
    }
    candidate.pin(&pins, context.settings.now)?;
    print(context, &report, exit::FINE, || render::store::trusted(context, &candidate.location))?;
    Ok(exit::FINE)
}

fn show(context: &Context, package: Option<&str>) -> Result<u8, Failure> {
    let settings = &context.settings;
    let pins = Pins::in_folder(&settings.trust);
    let store = Store::open(named(context)?, &pins, &settings.reach(), settings.now)?;
    let mut entries: Vec<_> =
        store.packages().filter(|e| package.is_none_or(|c| e.package.name == c)).cloned().collect();
    entries.sort_by(|a, b| a.package.cmp(&b.package));
    if let (Some(name), true) = (package, entries.is_empty()) {
        return Err(Failure::usage(
            format!("the store has no package {}", veritum_core::model::quoted(name.as_bytes())),
            String::new(),
            Some(Action::command(context.command("store show"))),
        ));
    }
    let mut report = report_of(&store.location(), "shown");
    report.packages = entries.iter().map(|e| e.package.clone()).collect::<Vec<PackageId>>();
    report.keys = store.fingerprints();
    let mut manifests = Vec::new();
    if package.is_some() {
        for entry in &entries {
            manifests.extend(store.manifest(&entry.package)?);
        }
    }
    print(context, &report, exit::FINE, || render::store::shown(&store, &entries, &manifests))?;
    Ok(exit::FINE)
}
