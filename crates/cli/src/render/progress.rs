//! A climb or verification as it goes: lines for what is done, and on a terminal a bar for what is under way.

use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use kladder_core::event::{Event, Observer, RungName};

use super::Out;
use super::text::{FAINT, STRONG, bytes, clean, count, styled};
use crate::problem::{Code, Problem};

/// Listens to the core, draws, and passes on the user's wish to end.
pub(crate) struct Progress {
    out: Out,
    cancelled: Arc<AtomicBool>,
    received: AtomicU64,
    bar: ProgressBar,
    now: Mutex<Now>,
}

#[derive(Default)]
struct Now {
    rung: String,
    done: Vec<String>,
    checks: usize,
    /// Bytes received before the artifact that is under way.
    before: u64,
}

impl Progress {
    /// Begins to listen for an interruption; a second one ends the program at once.
    pub(crate) fn new(out: &Out) -> Result<Self, Problem> {
        let cancelled = Arc::new(AtomicBool::new(false));
        for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM] {
            let code = i32::from(Code::Interrupted as u8);
            signal_hook::flag::register_conditional_shutdown(signal, code, Arc::clone(&cancelled))
                .and_then(|_| signal_hook::flag::register(signal, Arc::clone(&cancelled)))
                .map_err(|error| Problem::output(&error))?;
        }
        let target = if out.draws() { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() };
        let bar = ProgressBar::with_draw_target(None, target);
        Ok(Self { out: out.clone(), cancelled, received: AtomicU64::new(0), bar, now: Mutex::default() })
    }

    /// Takes the bar away.
    pub(crate) fn finish(&self) {
        self.bar.finish_and_clear();
    }

    fn line(&self, text: &str) {
        // A reader that went away is noticed by the command's own output.
        self.bar.suspend(|| self.out.say(text).unwrap_or_default());
    }

    fn fetching(&self, now: &mut Now, file: &str, size: u64) {
        now.before = self.received.load(Ordering::Relaxed);
        let style = ProgressStyle::with_template(
            "  {msg}  {bar:24.cyan/dim}  {bytes} of {total_bytes}, {bytes_per_sec}, {eta} left",
        );
        // The template is fixed and was seen to parse; a bar without style still counts.
        self.bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
        self.bar.reset();
        self.bar.set_length(size);
        self.bar.set_message(clean(file));
        self.bar.enable_steady_tick(Duration::from_millis(100));
    }

    fn spinning(&self, message: &str) {
        let style = ProgressStyle::with_template("  {msg}  {elapsed}");
        self.bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_spinner()));
        self.bar.reset();
        self.bar.set_message(clean(message));
        self.bar.enable_steady_tick(Duration::from_millis(100));
    }

    fn climbed(&self, now: &mut Now, rung: &RungName) {
        if now.checks > 0 {
            now.done.push(format!("{} passed", count(now.checks, "check")));
        }
        let name = format!("{:<12}", rung.tool);
        let version = format!("{:<8}", rung.version.as_str());
        let done = now.done.join(", ");
        self.line(&format!("  {}  {} {version}  {done}", styled(FAINT, &now.rung), styled(STRONG, name)));
    }
}

impl Observer for Progress {
    fn event(&self, event: &Event) {
        let Ok(mut now) = self.now.lock() else { return };
        match event {
            Event::Waiting { process } => {
                let who = process.map_or_else(|| "another process".into(), |process| format!("process {process}"));
                self.spinning(&format!("waiting for {who}, which works on this home"));
            }
            Event::Rung { rung, number, of } => {
                let width = of.to_string().len();
                *now = Now { rung: format!("{number:>width$} of {of}"), ..Now::default() };
                self.spinning(&format!("{} {}", rung.tool, rung.version));
            }
            Event::Fetching { file, size, .. } => self.fetching(&mut now, file, *size),
            Event::YardFailed { yard, reason, next } => {
                self.line(&styled(FAINT, clean(&format!("  {yard}: {reason}; trying {next}"))));
            }
            Event::Fetched { size, cached, .. } => {
                let how = if *cached { "from the cache" } else { "fetched" };
                now.done.push(format!("{} {how}", bytes(*size)));
            }
            Event::Shelved { files, rung, .. } => {
                now.done.push(format!("{} unpacked", count(*files, "file")));
                self.spinning(&format!("checking {}", rung.tool));
            }
            Event::Checking { name } => self.spinning(name),
            Event::Checked(verdict) => now.checks += usize::from(!verdict.failed()),
            Event::Climbed { rung } => self.climbed(&mut now, rung),
            Event::Landed { .. } => self.finish(),
        }
    }

    fn cancelled(&self) -> bool {
        let received = self.received.load(Ordering::Relaxed);
        if let Ok(now) = self.now.try_lock() {
            self.bar.set_position(received.saturating_sub(now.before));
        }
        self.cancelled.load(Ordering::Relaxed)
    }

    fn received(&self) -> Option<&AtomicU64> {
        Some(&self.received)
    }
}
