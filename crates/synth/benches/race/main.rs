//! The resolver against general solver libraries on the same generated instances, in one run and in turns.
//!
//! Everybody gets the instance in memory, with ranges already turned into sets of versions, through the provider
//! interface of each library; what is timed is a whole solve by a fresh solver. Run with
//! `cargo bench -p kladder-synth --bench race`.

mod instance;
mod others;
mod ours;

use std::time::{Duration, Instant};

use instance::Instance;
use kladder_synth::Shape;

const ROUNDS: usize = 7;

struct Case {
    name: &'static str,
    shape: Shape,
    wishes: usize,
    /// Wishes for the newest release of as many tools, and ten times as many for the oldest releases of popular ones,
    /// which nothing new can live with.
    old: usize,
}

fn main() {
    let base = Shape::default();
    let planted = Shape { planted: true, seed: 2, ..base };
    let cases = [
        Case { name: "wide ranges", shape: Shape { tight: 0, ..base }, wishes: 20, old: 0 },
        Case { name: "as found", shape: base, wishes: 20, old: 0 },
        Case { name: "as found, 200 wishes", shape: base, wishes: 200, old: 0 },
        Case { name: "as found, 3 wishes", shape: Shape { seed: 6, ..base }, wishes: 3, old: 0 },
        Case { name: "exclusions", shape: Shape { exclusions: 20, seed: 4, ..base }, wishes: 20, old: 0 },
        Case { name: "capabilities", shape: Shape { capabilities: 20, seed: 5, ..base }, wishes: 20, old: 0 },
        Case { name: "tight", shape: Shape { tight: 60, ..planted }, wishes: 2, old: 0 },
        Case { name: "very tight", shape: Shape { tight: 100, ..planted }, wishes: 20, old: 0 },
        Case { name: "no solution", shape: Shape { seed: 7, ..base }, wishes: 20, old: 3 },
    ];
    println!("| instance | chosen | ours | resolvo | pubgrub | ours / best other |");
    println!("|---|---|---|---|---|---|");
    for case in &cases {
        run(case);
    }
}

fn run(case: &Case) {
    let instance = Instance::new(&case.shape, case.wishes, case.old);
    let laid = instance.is_plain().then(|| others::Laid::out(&instance));
    let mut times = [const { Vec::new() }; 3];
    let mut answers = [None; 3];
    for _ in 0..ROUNDS {
        let mut turn = |at: usize, answer: Option<Option<usize>>, took: Duration| {
            times[at].push(took);
            answers[at] = answer;
        };
        let (answer, took) = timed(|| ours::solve(&instance));
        turn(0, Some(answer), took);
        let (answer, took) = timed(|| others::resolvo(&instance));
        turn(1, Some(answer), took);
        // The tight ones take it more than ten seconds each.
        if let Some(laid) = laid.as_ref().filter(|_| case.name != "tight") {
            let (answer, took) = timed(|| laid.solve(&instance));
            turn(2, Some(answer), took);
        }
    }
    let solvable: Vec<bool> = answers.iter().flatten().map(Option::is_some).collect();
    assert!(solvable.windows(2).all(|pair| pair[0] == pair[1]), "{}: {answers:?}", case.name);
    let median = |at: usize| {
        let mut all = times[at].clone();
        all.sort();
        all.get(ROUNDS / 2).copied()
    };
    let shown =
        |at: usize| median(at).map_or_else(|| "-".to_owned(), |took| format!("{:.1} ms", 1000.0 * took.as_secs_f64()));
    let best = [median(1), median(2)].into_iter().flatten().min().unwrap_or_default();
    let ratio = median(0).unwrap_or_default().as_secs_f64() / best.as_secs_f64();
    let chosen = answers[0].flatten().map_or_else(|| "none".to_owned(), |count| count.to_string());
    println!("| {} | {chosen} | {} | {} | {} | {ratio:.2} |", case.name, shown(0), shown(1), shown(2));
}

fn timed<T>(work: impl FnOnce() -> T) -> (T, Duration) {
    let start = Instant::now();
    let done = work();
    (done, start.elapsed())
}
