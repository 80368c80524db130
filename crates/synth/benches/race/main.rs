//! The resolver against general solver libraries on the same generated instances.
//!
//! Everybody gets the instance in memory, with ranges already turned into sets of versions, through the provider
//! interface of each library; what is timed is a whole solve by a fresh solver, the median of seven. Each solver runs in
//! a process of its own, so that nobody inherits another's heap; they take turns from instance to instance. Run with
//! `cargo bench -p kladder-synth --bench race`.

mod instance;
mod others;
mod ours;

use std::env;
use std::process::Command;
use std::time::Instant;

use instance::Instance;
use kladder_synth::Shape;

const ROUNDS: usize = 7;
const ONE: &str = "RACE_ONE";

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
    // A process that was started by the one below: the case and the solver to time.
    if let Ok(one) = env::var(ONE) {
        let (case, solver) = one.split_once(' ').expect("a case and a solver");
        let case = &cases[case.parse::<usize>().expect("a number")];
        return time(case, solver);
    }
    println!("| instance | chosen | ours | resolvo | pubgrub | ours / best other |");
    println!("|---|---|---|---|---|---|");
    for (at, case) in cases.iter().enumerate() {
        race(at, case);
    }
}

/// Prints how many packages were chosen, 0 for none, and how long it took in nanoseconds.
fn time(case: &Case, solver: &str) {
    let instance = Instance::new(&case.shape, case.wishes, case.old);
    let laid = (solver == "pubgrub").then(|| others::Laid::out(&instance));
    let mut times = Vec::new();
    let mut chosen = None;
    for _ in 0..ROUNDS {
        let start = Instant::now();
        let answer = match (solver, &laid) {
            ("ours", _) => ours::solve(&instance),
            ("resolvo", _) => others::resolvo(&instance),
            (_, Some(laid)) => laid.solve(&instance),
            _ => return,
        };
        times.push(start.elapsed().as_nanos());
        chosen = answer;
    }
    times.sort_unstable();
    println!("{} {}", chosen.unwrap_or(0), times[ROUNDS / 2]);
}

fn race(at: usize, case: &Case) {
    let plain = case.shape.exclusions == 0 && case.shape.capabilities == 0;
    // The tight ones take pubgrub more than ten seconds each.
    let enters = |solver: &str| solver != "pubgrub" || (plain && case.name != "tight");
    let results = ["ours", "resolvo", "pubgrub"].map(|solver| enters(solver).then(|| result(at, solver)));
    let counts: Vec<usize> = results.iter().flatten().map(|(count, _)| *count).collect();
    assert!(counts.windows(2).all(|pair| (pair[0] == 0) == (pair[1] == 0)), "{}: {counts:?}", case.name);
    let shown = |at: usize| results[at].map_or_else(|| "-".to_owned(), |(_, ms)| format!("{ms:.1} ms"));
    let took = |at: usize| results[at].map_or(f64::INFINITY, |(_, ms)| ms);
    let ratio = took(0) / took(1).min(took(2));
    let chosen = if counts[0] == 0 { "none".to_owned() } else { counts[0].to_string() };
    println!("| {} | {chosen} | {} | {} | {} | {ratio:.2} |", case.name, shown(0), shown(1), shown(2));
}

/// How many were chosen, and the time in milliseconds.
fn result(case: usize, solver: &str) -> (usize, f64) {
    let me = env::current_exe().expect("this program has a file");
    let output = Command::new(me).env(ONE, format!("{case} {solver}")).output().expect("it can be started");
    let text = String::from_utf8(output.stdout).expect("numbers");
    let (chosen, nanoseconds) = text.trim().split_once(' ').expect("two numbers");
    (chosen.parse().expect("a number"), nanoseconds.parse::<f64>().expect("a number") / 1e6)
}
