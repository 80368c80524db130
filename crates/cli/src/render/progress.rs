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

const FETCHING: &str = "  {prefix:.dim}  {msg}  {wide_bar:.cyan/dim}  {decimal_bytes} of {decimal_total_bytes}, {decimal_amountper_sec}, {eta} left";
const SPINNING: &str = "  {prefix:.dim}  {msg}  {elapsed:.dim}";

#[derive(Default)]
struct Now {
    /// Which rung of how many.
    rung: String,
    /// The rung's tool and version.
    name: String,
    done: Vec<String>,
    fetched: u64,
    from_cache: u64,
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

    fn fetching(&self, now: &mut Now, size: u64) {
        now.before = self.received.load(Ordering::Relaxed);
        self.bar.reset();
        self.bar.set_length(size);
        self.draw(now, FETCHING, "fetching");
    }

    fn spinning(&self, now: &Now, doing: &str) {
        self.bar.reset();
        self.draw(now, SPINNING, doing);
    }

    fn draw(&self, now: &Now, template: &str, doing: &str) {
        // The templates are fixed and were seen to parse; a bar without style still counts.
        self.bar.set_style(ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar()));
        self.bar.set_prefix(now.rung.clone());
        self.bar.set_message(clean(&format!("{} {doing}", now.name)));
        self.bar.enable_steady_tick(Duration::from_millis(100));
    }

    fn climbed(&self, now: &mut Now, rung: &RungName) {
        if now.done.is_empty() {
            now.done.push("was on the shelf".into());
        }
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
                self.spinning(&now, &format!("waiting for {who}, which works on this home"));
            }
            Event::Rung { rung, number, of } => {
                let width = of.to_string().len();
                let name = format!("{} {}", rung.tool, rung.version);
                *now = Now { rung: format!("{number:>width$} of {of}"), name, ..Now::default() };
                self.spinning(&now, "");
            }
            Event::Fetching { size, .. } => self.fetching(&mut now, *size),
            Event::OnHost { file } => now.done.push(format!("the host's own, {}", clean(&file.display().to_string()))),
            Event::YardFailed { yard, reason, next } => {
                self.line(&styled(FAINT, clean(&format!("  {yard}: {reason}; trying {next}"))));
            }
            Event::Fetched { size, cached, .. } => {
                *(if *cached { &mut now.from_cache } else { &mut now.fetched }) += size;
                self.spinning(&now, "unpacking");
            }
            Event::Shelved { files, .. } => {
                for (amount, how) in [(now.fetched, "fetched"), (now.from_cache, "from the cache")] {
                    if amount > 0 {
                        now.done.push(format!("{} {how}", bytes(amount)));
                    }
                }
                now.done.push(format!("{} unpacked", count(*files, "file")));
            }
            Event::Checking { subject } => self.spinning(&now, &format!("{}: {}", subject.owner(), subject.claim())),
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
