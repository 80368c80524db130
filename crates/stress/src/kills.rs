//! Climbs that are killed, and climbs that crowd one home.

use std::path::Path;
use std::time::{Duration, Instant};

use kladder_core::base::crash::POINTS;

use crate::scene::{Checked, Scene, Told, VERSIONS};

/// Kills a climb at every named point, and sees that the next one ends well.
pub fn points(kladder: &Path) -> Checked {
    println!("{:<18} {:>6}  {:<22} the next climb said", "killed at", "times", "current after that");
    for point in POINTS {
        let scene = Scene::new(kladder, Vec::new())?;
        // The point is passed the first time, and in the middle of the work.
        let mut killed = 0;
        let (mut after, mut said) = ("", String::new());
        for nth in [1, 4] {
            scene.want(1)?;
            scene.succeed(&["climb", "--quiet"])?;
            scene.want(2)?;
            scene.succeed(&["climb", "--quiet"])?;
            let arguments = if point == "pins-put-back" { &["back", "1"][..] } else { &["climb", "--quiet"] };
            let target = if point == "pins-put-back" { 1 } else { 2 + nth };
            scene.want(target)?;
            let ended = scene.command(arguments).env("FAILPOINTS", at(point, nth)).output().told("starting")?;
            let was_killed = !ended.status.success();
            killed += u32::from(was_killed);
            if nth == 1 && !was_killed {
                return Err(format!("the point {point} was never passed"));
            }
            let current = scene.current().map_err(|what| format!("killed at {point}: {what}"))?;
            if current != Some(2) && current != Some(target) {
                return Err(format!("killed at {point}: {current:?} is current"));
            }
            let next = scene.succeed(&["climb"])?;
            if was_killed {
                after = if current == Some(2) { "the old landing" } else { "the new landing" };
                next.lines().next().unwrap_or_default().trim().clone_into(&mut said);
            }
            scene.whole(target).map_err(|what| format!("after a kill at {point}: {what}"))?;
        }
        println!("{point:<18} {killed:>6}  {after:<22} {said}");
    }
    Ok(())
}

/// The setting that kills the program the n-th time it comes by.
fn at(point: &str, nth: u64) -> String {
    if nth == 1 { format!("{point}=return") } else { format!("{point}={}*off->return", nth - 1) }
}

/// Kills climbs at random moments.
pub fn random(kladder: &Path, times: u64, seed: u64) -> Checked {
    let mut dice = fastrand::Rng::with_seed(seed);
    let started = Instant::now();
    let (mut killed, mut early, mut moved, mut told) = (0, 0, 0, 0);
    let mut scene = Scene::new(kladder, Vec::new())?;
    let mut usual = Duration::from_millis(300);
    let mut version = 0;
    for time in 0..times {
        if time % 50 == 0 {
            scene = Scene::new(kladder, Vec::new())?;
            version = 0;
        }
        let before = scene.current()?;
        version = 1 + (version + dice.u64(0..VERSIONS - 1)) % VERSIONS;
        scene.want(version)?;
        let mut child = scene.start(&["climb", "--quiet"])?;
        std::thread::sleep(usual.mul_f64(dice.f64() * 1.1));
        let was_killed = child.try_wait().told("waiting")?.is_none();
        child.kill().told("killing")?;
        child.wait().told("waiting")?;
        killed += u64::from(was_killed);
        early += u64::from(!was_killed);
        let what = |what: String| format!("time {time} of seed {seed}: {what}");
        let current = scene.current().map_err(what)?;
        if current != before && current != Some(version) {
            return Err(what(format!("{before:?} was current, {version} was climbed, and {current:?} is current")));
        }
        moved += u64::from(was_killed && current == Some(version) && current != before);
        let next = Instant::now();
        let said = scene.succeed(&["climb"]).map_err(what)?;
        told += u64::from(said.contains("What process"));
        scene.whole(version).map_err(what)?;
        if said.contains("unpacked") {
            usual = (usual * 7 + next.elapsed()) / 8;
        }
        // The next climb has everything to do again.
        scene.succeed(&["clear", "--yes", "--quiet", "--keep", "1", "--cache", "1 B"]).map_err(what)?;
        if time % 25 == 0 {
            scene.succeed(&["verify", "--quiet"]).map_err(what)?;
        }
    }
    println!(
        "{times} random moments, seed {seed}: {killed} killed under way ({moved} of them had landed already), {early} had ended; \
         {told} times the next climb told of it; every landing was whole, every next climb ended well; {:.0} s",
        started.elapsed().as_secs_f64()
    );
    Ok(())
}

/// Eight climbs at once.
pub fn crowd(kladder: &Path, times: u64) -> Checked {
    let mut slowest = Duration::ZERO;
    for time in 0..times {
        let scene = Scene::new(kladder, Vec::new())?;
        scene.want(1 + time % VERSIONS)?;
        scene.succeed(&["pin", "--quiet"])?;
        let started = Instant::now();
        let crowd: Vec<_> = (0..8).map(|_| scene.start(&["climb"])).collect::<Checked<_>>()?;
        for mut child in crowd {
            let status = child.wait().told("waiting")?;
            if !status.success() {
                return Err(format!("one of the crowd ended with {status}"));
            }
        }
        slowest = slowest.max(started.elapsed());
        scene.whole(1 + time % VERSIONS)?;
    }
    println!("{times} times eight climbs at once on one home: all ended well; the slowest eight took {slowest:.2?}");
    Ok(())
}
