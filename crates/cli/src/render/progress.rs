//! A climb or verification as it goes: lines for what is done, and on a terminal a bar for what is under way.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use kladder_core::event::{Event, Observer, RungName};

use super::Out;
use super::text::{FAINT, STRONG, bytes, clean, count, styled, time};
use crate::problem::{Code, Problem};

/// Listens to the core, draws, and passes on the user's wish to end.
pub(crate) struct Progress {
    out: Out,
    cancelled: Arc<AtomicBool>,
    received: AtomicU64,
    bar: ProgressBar,
    /// Something is drawn.
    drawn: AtomicBool,
    now: Mutex<Now>,
}

const FETCHING: &str = "  {prefix:.dim}  {msg}  {wide_bar:.cyan/dim}  {decimal_bytes} of {decimal_total_bytes}, {decimal_amountper_sec}, {eta} left";
const SPINNING: &str = "  {prefix:.dim}  {msg}  {elapsed:.dim}";

const TICK: Duration = Duration::from_millis(100);

/// The templates are fixed and were seen to parse; a bar without style still counts.
fn style(template: &str) -> ProgressStyle {
    ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar())
}

#[derive(Default)]
struct Now {
    /// Which rung of how many.
    rung: String,
    /// The rung's tool and version.
    name: String,
    done: Vec<String>,
    checks: usize,
    /// Bytes that the climb fetches.
    fetch: u64,
    /// Files under way, for whichever rung.
    arriving: BTreeSet<String>,
    /// Bytes of them that came in an earlier climb.
    had: u64,
    /// The bar is drawn, not the spinner.
    fetching: bool,
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
        bar.set_style(style(SPINNING));
        Ok(Self {
            out: out.clone(),
            cancelled,
            received: AtomicU64::new(0),
            bar,
            drawn: AtomicBool::new(false),
            now: Mutex::default(),
        })
    }

    /// Takes the bar away.
    pub(crate) fn finish(&self) {
        self.bar.finish_and_clear();
    }

    fn line(&self, text: &str) {
        // A reader that went away is noticed by the command's own output.
        let say = || self.out.say(text).unwrap_or_default();
        if self.drawn.load(Ordering::Relaxed) { self.bar.suspend(say) } else { say() }
    }

    /// Draws what is under way: the bar while anything arrives, otherwise what is done with the rung.
    fn draw(&self, now: &mut Now, doing: &str) {
        // Not before there is something to draw: a question may stand on the screen until then.
        if !self.drawn.swap(true, Ordering::Relaxed) {
            self.bar.enable_steady_tick(TICK);
        }
        let fetching = !now.arriving.is_empty();
        if fetching != now.fetching {
            let template = if fetching { FETCHING } else { SPINNING };
            self.bar.set_style(style(template));
        }
        now.fetching = fetching;
        let doing = match now.arriving.len() {
            0 => doing.to_owned(),
            1 => format!("fetching {}", now.arriving.first().map(String::as_str).unwrap_or_default()),
            several => format!("fetching {}", count(several, "file")),
        };
        self.bar.set_prefix(now.rung.clone());
        self.bar.set_message(clean(&if fetching { doing } else { format!("{} {doing}", now.name) }));
    }

    fn faint(&self, text: &str) {
        self.line(&styled(FAINT, clean(&format!("  {text}"))));
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
        let now = &mut *now;
        match event {
            Event::Waiting { process } => {
                let who = process.map_or_else(|| "another process".into(), |process| format!("process {process}"));
                self.draw(now, &format!("waiting for {who}, which works on this home"));
            }
            Event::Recovered { process, finished } => {
                let what = if *finished { "all but done; it is finished now" } else { "cut short; it is undone" };
                self.line(&format!("  What process {process} did here was {what}."));
            }
            Event::SetUp { took, .. } => now.done.push(format!("set up in {}", time(*took))),
            Event::Ahead { fetch } => {
                now.fetch = *fetch;
                self.bar.reset();
                self.bar.set_length(*fetch);
            }
            Event::Rung { rung, number, of } => {
                let width = of.to_string().len();
                (now.rung, now.name) = (format!("{number:>width$} of {of}"), format!("{} {}", rung.tool, rung.version));
                (now.done, now.checks) = (Vec::new(), 0);
                self.draw(now, "unpacking");
            }
            Event::Fetching { file, had, .. } => {
                if now.arriving.insert(file.clone()) {
                    now.had += had;
                }
                self.draw(now, "");
            }
            Event::FetchedElsewhere { file } => self.faint(&format!("{file} is being fetched by another process")),
            Event::Pausing { file, time } => {
                self.faint(&format!("{file}: trying again in {:.1} s", time.as_secs_f64()));
            }
            Event::OnHost { file } => now.done.push(format!("the host's own, {}", clean(&file.display().to_string()))),
            Event::YardFailed { yard, reason, next } if yard == next => self.faint(&format!("{yard}: {reason}")),
            Event::YardFailed { yard, reason, next } => self.faint(&format!("{yard}: {reason}; trying {next}")),
            Event::Fetched { file, .. } => {
                now.arriving.remove(file);
                self.draw(now, "unpacking");
            }
            Event::Shelved { files, fetched, from_cache, .. } => {
                for (amount, how) in [(fetched, "fetched"), (from_cache, "from the cache")] {
                    if *amount > 0 {
                        now.done.push(format!("{} {how}", bytes(*amount)));
                    }
                }
                now.done.push(format!("{} unpacked", count(*files, "file")));
            }
            Event::Checking { subject } => self.draw(now, &format!("{}: {}", subject.owner(), subject.claim())),
            Event::Checked(verdict) => now.checks += usize::from(!verdict.failed()),
            Event::Climbed { rung } => self.climbed(now, rung),
            Event::Landed { .. } => self.finish(),
        }
    }

    fn cancelled(&self) -> bool {
        let received = self.received.load(Ordering::Relaxed);
        if let Ok(now) = self.now.try_lock() {
            self.bar.set_position((now.had + received).min(now.fetch));
        }
        self.cancelled.load(Ordering::Relaxed)
    }

    fn received(&self) -> Option<&AtomicU64> {
        Some(&self.received)
    }
}
