//! A climb or verification as it goes: lines for what is done, and on a terminal a bar for what is under way.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::thread;
use std::time::Duration;

use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressStyle};
use kladder_choose::names::RungKey;
use kladder_core::base::event::{Event, Observer, Outcome, RungName, Skipped, Work};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::text::{bytes, clean, count, time};
use kladder_tell::words;

use super::Out;
use super::ladder::NARROW;
use super::live::Live;
use super::text::{BAD, FAINT, STRONG, styled};

/// Listens to the core, draws, and passes on the user's wish to end.
pub(crate) struct Progress {
    out: Out,
    cancelled: Arc<AtomicBool>,
    arrived: Arc<Arrived>,
    /// The lines of the rungs in flight, above the bar.
    all: MultiProgress,
    bar: ProgressBar,
    live: Arc<RwLock<Live>>,
    /// Something is drawn.
    drawn: AtomicBool,
    now: Mutex<Now>,
}

/// Wide terminals have a bar with rate and time left, narrow ones less of it.
const FETCHING: [(usize, &str); 3] = [
    (
        90,
        "  {prefix:.dim}  {msg}  {wide_bar:.cyan/dim}  {decimal_bytes} of {decimal_total_bytes}, {decimal_bytes_per_sec}, {eta} left",
    ),
    (56, "  {prefix:.dim}  {wide_bar:.cyan/dim}  {decimal_bytes} of {decimal_total_bytes}, {eta} left"),
    (0, "  {wide_bar:.cyan/dim} {percent} %, {eta} left"),
];
const WORKING: &str = "  {prefix:.dim}  {wide_msg}";
/// Rungs that are climbed, and those that are not.
const BAR: &str = "HH-";

/// Bytes of what is being fetched.
#[derive(Default)]
struct Arrived {
    /// In this climb.
    received: AtomicU64,
    /// In earlier ones.
    had: AtomicU64,
    /// All that the climb fetches.
    of: AtomicU64,
}

impl Arrived {
    fn position(&self) -> u64 {
        let all = self.had.load(Ordering::Relaxed).saturating_add(self.received.load(Ordering::Relaxed));
        all.min(self.of.load(Ordering::Relaxed))
    }
}

/// Moves the bar, and what stands above it, as long as they are drawn.
fn move_bar(progress: &Progress) {
    let (all, bar, width) = (progress.all.clone(), progress.bar.clone(), progress.out.drawing_width());
    let (arrived, live) = (Arc::downgrade(&progress.arrived), Arc::downgrade(&progress.live));
    let mut lines: Vec<ProgressBar> = Vec::new();
    thread::spawn(move || {
        while let (Some(arrived), Some(live)) = (arrived.upgrade(), live.upgrade()) {
            if bar.is_finished() {
                break;
            }
            bar.set_position(arrived.position());
            let told = live.read().unwrap_or_else(PoisonError::into_inner).lines(width);
            drop((arrived, live));
            while lines.len() < told.len() {
                let line = ProgressBar::new_spinner().with_style(style("{msg}"));
                lines.push(all.insert_before(&bar, line));
            }
            for line in lines.split_off(told.len()) {
                line.finish_and_clear();
                all.remove(&line);
            }
            for (line, text) in lines.iter().zip(told) {
                line.set_message(text);
            }
            thread::sleep(TICK);
        }
        for line in lines {
            line.finish_and_clear();
        }
    });
}

const TICK: Duration = Duration::from_millis(100);

/// The templates are fixed and were seen to parse; a bar without style still counts.
fn style(template: &str) -> ProgressStyle {
    let style = ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar());
    style.progress_chars(BAR)
}

fn fetching(width: usize) -> ProgressStyle {
    let fitting = FETCHING.iter().find(|(least, _)| width >= *least);
    style(fitting.map_or(WORKING, |(_, template)| template))
}

#[derive(Default)]
struct Now {
    /// The rung that is climbed.
    key: Option<RungKey>,
    /// Which rung of how many.
    rung: String,
    /// The rung's tool and version.
    name: String,
    done: Vec<String>,
    /// How long its set-up commands took.
    set_up: Vec<String>,
    checks: usize,
    /// Why claims were passed over.
    passed_over: Vec<String>,
    /// Files under way, for whichever rung.
    arriving: BTreeSet<String>,
    /// The bar is drawn, not the spinner.
    fetching: bool,
}

impl Progress {
    /// Begins to listen for an interruption; a second one ends the program at once.
    pub(crate) fn new(out: &Out) -> Result<Self, Problem> {
        let cancelled = Arc::new(AtomicBool::new(false));
        for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM, signal_hook::consts::SIGHUP] {
            let code = i32::from(Code::Interrupted as u8);
            signal_hook::flag::register_conditional_shutdown(signal, code, Arc::clone(&cancelled))
                .and_then(|_| signal_hook::flag::register(signal, Arc::clone(&cancelled)))
                .map_err(|error| Problem::output(&error))?;
        }
        let target = if out.draws() { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() };
        let all = MultiProgress::with_draw_target(target);
        let bar = all.add(ProgressBar::new_spinner());
        bar.set_style(style(WORKING));
        Ok(Self {
            out: out.clone(),
            cancelled,
            arrived: Arc::default(),
            all,
            bar,
            live: Arc::default(),
            drawn: AtomicBool::new(false),
            now: Mutex::default(),
        })
    }

    /// Takes the bar away.
    pub(crate) fn finish(&self) {
        self.bar.finish_and_clear();
        // A terminal that is gone needs no clearing.
        let _ = self.all.clear();
    }

    fn line(&self, text: &str) {
        // A reader that went away is noticed by the command's own output.
        let say = || self.out.say(text).unwrap_or_default();
        if self.drawn.load(Ordering::Relaxed) { self.all.suspend(say) } else { say() }
    }

    /// Draws what is under way: the bar while anything arrives, otherwise what is done with the rung.
    fn draw(&self, now: &mut Now, doing: &str) {
        // Not before there is something to draw: a question may stand on the screen until then.
        if !self.drawn.swap(true, Ordering::Relaxed) {
            self.bar.enable_steady_tick(TICK);
            move_bar(self);
        }
        let fetching = !now.arriving.is_empty();
        if fetching != now.fetching {
            self.bar.set_style(if fetching { self::fetching(self.out.drawing_width()) } else { style(WORKING) });
        }
        now.fetching = fetching;
        let doing = match now.arriving.len() {
            0 => doing.to_owned(),
            1 => format!("fetching {}", now.arriving.first().map(String::as_str).unwrap_or_default()),
            several => format!("fetching {}", count(several, "file")),
        };
        self.bar.set_prefix(now.rung.clone());
        let live = self.is_live();
        let message = match (fetching, live) {
            (true, _) => doing,
            (false, true) => "climbed".to_owned(),
            (false, false) => format!("{} {doing}", now.name),
        };
        self.bar.set_message(clean(&message));
    }

    /// Each rung in flight has its line.
    fn is_live(&self) -> bool {
        !self.live.read().unwrap_or_else(PoisonError::into_inner).is_empty()
    }

    fn live(&self, change: impl FnOnce(&mut Live)) {
        change(&mut self.live.write().unwrap_or_else(PoisonError::into_inner));
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
            if !now.passed_over.is_empty() {
                let (over, why) = (now.passed_over.len(), clean(&now.passed_over.join("; ")));
                now.done.push(format!("{over} passed over: {why}"));
            }
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
            Event::Fetching { .. }
            | Event::FetchedElsewhere { .. }
            | Event::Lingering { .. }
            | Event::Pausing { .. }
            | Event::YardFailed { .. }
            | Event::Fetched { .. } => self.on_the_way(now, event),
            Event::Waiting { .. } | Event::Recovered { .. } | Event::Ahead { .. } | Event::Landed { .. } => {
                self.around_the_climb(now, event);
            }
            _ => self.at_a_rung(now, event),
        }
    }

    fn cancelled(&self) -> bool {
        self.cancelled.load(Ordering::Relaxed)
    }

    fn event_of(&self, rung: &RungKey, event: &Event) {
        match event {
            Event::Fetching { had, .. } => self.live(|live| live.arrives(rung, true, *had)),
            Event::Fetched { .. } => self.live(|live| live.arrives(rung, false, 0)),
            _ => {}
        }
        self.event(event);
    }

    fn received(&self, rung: Option<&RungKey>, bytes: u64) {
        self.arrived.received.fetch_add(bytes, Ordering::Relaxed);
        if let Some(rung) = rung {
            self.live.read().unwrap_or_else(PoisonError::into_inner).received(rung, bytes);
        }
    }
}

/// What is shown of each event, by where it happens.
impl Progress {
    fn around_the_climb(&self, now: &mut Now, event: &Event) {
        match event {
            Event::Waiting { process } => {
                let who = process.map_or_else(|| "another process".into(), |process| format!("process {process}"));
                self.faint(&format!("waiting for {who}, which works on this home"));
                self.draw(now, &format!("waiting for {who}"));
            }
            Event::Recovered { process, finished } => {
                let what = if *finished { "all but done, and is finished now" } else { "cut short, and is undone" };
                self.line(&format!("  What process {process} did here was {what}."));
            }
            Event::Ahead { fetch, rungs } => {
                if self.out.drawing_width() >= NARROW {
                    self.live(|live| *live = Live::of(rungs));
                }
                self.arrived.of.store(*fetch, Ordering::Relaxed);
                self.bar.reset();
                self.bar.set_length(*fetch);
            }
            Event::Landed { .. } => self.finish(),
            _ => {}
        }
    }

    fn on_the_way(&self, now: &mut Now, event: &Event) {
        match event {
            Event::Fetching { file, had, .. } => {
                if now.arriving.insert(file.clone()) {
                    self.arrived.had.fetch_add(*had, Ordering::Relaxed);
                }
                self.draw(now, "");
            }
            Event::Lingering { neighbours } => self.faint(&format!(
                "{} still {} from here; Ctrl-C ends it",
                count(*neighbours, "neighbour"),
                if *neighbours == 1 { "takes" } else { "take" }
            )),
            Event::FetchedElsewhere { file } => self.faint(&format!("{file} is being fetched by another process")),
            Event::Pausing { file, time } => {
                self.faint(&format!("{file}: trying again in {:.1} s", time.as_secs_f64()));
            }
            Event::YardFailed { yard, reason, next } if yard == next => self.faint(&format!("{yard}: {reason}")),
            Event::YardFailed { yard, reason, next } => self.faint(&format!("{yard}: {reason}; trying {next}")),
            Event::Fetched { file, .. } => {
                now.arriving.remove(file);
                self.draw(now, "unpacking");
            }
            _ => {}
        }
    }

    fn at_a_rung(&self, now: &mut Now, event: &Event) {
        match event {
            Event::Rung { key, rung, number, of } => {
                self.live(|live| live.doing(key, "unpacking"));
                now.key = Some(key.clone());
                let width = of.to_string().len();
                (now.rung, now.name) = (format!("{number:>width$} of {of}"), format!("{} {}", rung.tool, rung.version));
                (now.done, now.set_up, now.checks) = (Vec::new(), Vec::new(), 0);
                now.passed_over.clear();
                self.draw(now, "unpacking");
            }
            Event::Code { name, from } => self.draw(now, &format!("{name} from {}", clean(from))),
            Event::OnHost { copy } => now.done.push(format!("the host's own, {}", words::host::copy(copy))),
            // It is told behind what was fetched, which is only known when all is on the shelf.
            Event::Worked { work: Work::SetUp, took, .. } => now.set_up.push(format!("set up in {}", time(*took))),
            Event::Worked { work: Work::FitOut, took, .. } => now.done.push(format!("fitted out in {}", time(*took))),
            Event::Shelved { files, fetched, from_cache, .. } => {
                for (amount, how) in [(fetched, "fetched"), (from_cache, "from the cache")] {
                    if *amount > 0 {
                        now.done.push(format!("{} {how}", bytes(*amount)));
                    }
                }
                now.done.push(format!("{} unpacked", count(*files, "file")));
                now.done.append(&mut now.set_up);
            }
            Event::Stopped { rung, number, of, why } => {
                self.live(|live| live.is_over(rung, false));
                let width = of.to_string().len();
                let place = styled(FAINT, format!("{number:>width$} of {of}"));
                let name = styled(STRONG, format!("{:<12}", clean(&rung.to_string())));
                self.line(&format!("  {place}  {name} {}: {}", styled(BAD, "not climbed"), clean(why)));
            }
            Event::Looked { done, of } => {
                let width = of.to_string().len();
                now.rung = format!("{done:>width$} of {of}");
            }
            Event::Checking { subject } => {
                let claim = words::claim(subject);
                if let Some(key) = &now.key {
                    self.live(|live| live.doing(key, &claim));
                }
                self.draw(now, &format!("{}: {claim}", words::owner(subject)));
            }
            Event::Checked(verdict) => match &verdict.outcome {
                Outcome::Passed => now.checks += 1,
                Outcome::Skipped(Skipped::PassedOver { reason }) => now.passed_over.push(reason.clone()),
                _ => {}
            },
            Event::Climbed { key, rung } => {
                self.live(|live| live.is_over(key, true));
                now.key = None;
                self.climbed(now, rung);
            }
            _ => {}
        }
    }
}
