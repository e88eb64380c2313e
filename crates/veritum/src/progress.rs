//! Progress on stderr, for people only.

use std::fmt::Write;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use veritum_core::event::{Event, Flow, Observer, Phase};

use crate::exit;
use crate::output::note;
use crate::render::{count, grouped, size};

/// Short work shows no progress.
const PATIENCE: Duration = Duration::from_millis(250);

/// Shows the progress of the work, and passes on the user's request to stop.
pub(crate) struct Progress {
    bar: Mutex<Option<Bar>>,
    items: Arc<AtomicU64>,
    bytes: Arc<AtomicU64>,
    shown: bool,
    told: bool,
    stop: Arc<AtomicBool>,
    terminated: Arc<AtomicBool>,
}

struct Bar {
    bar: ProgressBar,
    begun: Instant,
    by_bytes: bool,
    visible: bool,
    style: ProgressStyle,
}

impl Progress {
    pub(crate) fn new(wanted: bool, stop: Arc<AtomicBool>) -> Self {
        let terminated = Arc::new(AtomicBool::new(false));
        let signals =
            [(signal_hook::consts::SIGINT, exit::INTERRUPTED), (signal_hook::consts::SIGTERM, exit::TERMINATED)];
        for (signal, status) in signals {
            // A second signal ends the program at once; the change log makes that safe.
            let _ = signal_hook::flag::register_conditional_shutdown(signal, status.into(), stop.clone());
            let _ = signal_hook::flag::register(signal, stop.clone());
        }
        let _ = signal_hook::flag::register(signal_hook::consts::SIGTERM, terminated.clone());
        // The signal would end us in the middle of a change: a write beyond the limit is an error like any other.
        let _ = signal_hook::flag::register(signal_hook::consts::SIGXFSZ, Arc::default());
        let shown = wanted && std::io::IsTerminal::is_terminal(&std::io::stderr());
        Self {
            bar: Mutex::default(),
            items: Arc::default(),
            bytes: Arc::default(),
            shown,
            told: wanted,
            stop,
            terminated,
        }
    }

    /// Whether the user wants to stop.
    pub(crate) fn is_stopped(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }

    /// The exit status of an interruption.
    pub(crate) fn interruption(&self) -> u8 {
        if self.terminated.load(Ordering::Relaxed) { exit::TERMINATED } else { exit::INTERRUPTED }
    }

    fn begin(&self, phase: Phase, items: u64, bytes: u64) {
        self.items.store(0, Ordering::Relaxed);
        self.bytes.store(0, Ordering::Relaxed);
        // Downloads are announced with their size, even where no bar is shown.
        if phase == Phase::Downloading && self.told && items > 0 {
            let debs = count(items, "package", "packages");
            note(&format!("Downloading {debs}, {} (use --no-network to prevent this)", size(bytes)));
        }
        if !self.shown {
            return;
        }
        let by_bytes = bytes > 0;
        let (done, read, begun) = (self.items.clone(), self.bytes.clone(), Instant::now());
        let style = ProgressStyle::with_template("{msg} {wide_bar} {done}{speed}, {eta} left ")
            .unwrap_or_else(|_| ProgressStyle::default_bar())
            .progress_chars("=> ")
            .with_key("done", move |_: &ProgressState, to: &mut dyn Write| {
                let _ = write!(to, "{} of {}", grouped(done.load(Ordering::Relaxed)), grouped(items));
            })
            .with_key("speed", move |_: &ProgressState, to: &mut dyn Write| {
                let read = read.load(Ordering::Relaxed);
                if let Some(rate) = u64::try_from(u128::from(read) * 1000 / begun.elapsed().as_millis().max(1))
                    .ok()
                    .filter(|_| read > 0)
                {
                    let _ = write!(to, ", {}/s", size(rate));
                }
            });
        let bar =
            ProgressBar::with_draw_target(Some(if by_bytes { bytes } else { items }), ProgressDrawTarget::hidden());
        bar.set_message(describe(phase));
        *self.lock() = Some(Bar { bar, begun: Instant::now(), by_bytes, visible: false, style });
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Option<Bar>> {
        self.bar.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    fn advance(&self, items: u64, bytes: u64) {
        let items = self.items.fetch_add(items, Ordering::Relaxed) + items;
        let bytes = self.bytes.fetch_add(bytes, Ordering::Relaxed) + bytes;
        if !self.shown {
            return;
        }
        // If the bar is busy, the other thread draws it.
        let Ok(mut guard) = self.bar.try_lock() else { return };
        if let Some(bar) = guard.as_mut() {
            if !bar.visible && bar.begun.elapsed() > PATIENCE {
                bar.bar.set_draw_target(ProgressDrawTarget::stderr_with_hz(10));
                bar.bar.set_style(bar.style.clone());
                bar.visible = true;
            }
            bar.bar.set_position(if bar.by_bytes { bytes } else { items });
        }
    }
}

/// The name of a part of the work.
fn describe(phase: Phase) -> &'static str {
    match phase {
        Phase::Reading => "files: reading references",
        Phase::Asking => "contacting repositories",
        Phase::Fetching => "store: downloading metadata",
        Phase::Downloading => "downloading",
        Phase::Unpacking => "reading packages",
        Phase::Metadata => "reading file systems",
        Phase::Surface => "reading the disk",
        Phase::Rescuing => "copying",
        Phase::ReadingBack => "reading copied files",
        Phase::Walking => "listing files",
        Phase::Recording => "reading files",
        Phase::Comparing => "files: comparing",
        Phase::Staging => "writing replacements",
        Phase::Exchanging => "exchanging",
        Phase::Keeping => "backing up replaced files",
        Phase::Confirming => "checking again",
        Phase::Filling => "adding packages",
        Phase::Auditing => "store: reading contents",
        Phase::Mending => "store: repairing",
        Phase::Publishing => "signing",
        Phase::Downloads => "updates: reading downloads",
        Phase::Lists => "updates: downloading package lists",
        Phase::Homes => "reading users' homes",
        Phase::Inventory => "counting user data",
        Phase::Watching => "updates: watching locks",
        _ => "working",
    }
}

impl Observer for Progress {
    fn on_event(&self, event: Event<'_>) -> Flow {
        match event {
            Event::Begin { phase, items, bytes } => self.begin(phase, items, bytes),
            Event::Advance { items, bytes } => self.advance(items, bytes),
            Event::End => {
                if let Some(bar) = self.lock().take() {
                    bar.bar.finish_and_clear();
                }
            }
            #[cfg(feature = "testkit")]
            Event::Recorded(kind) => pause_for_test(kind),
            _ => {}
        }
        if self.is_stopped() { Flow::Stop } else { Flow::Continue }
    }
}

/// Waits after each change log record for a line of input, so that a test can kill the program there.
#[cfg(feature = "testkit")]
fn pause_for_test(kind: &str) {
    if std::env::var_os("VERITUM_TEST_PAUSE").is_some() {
        note(&format!("recorded {kind}"));
        let _ = std::io::stdin().read_line(&mut String::new());
    }
}
