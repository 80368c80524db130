//! Each misbehaviour of a yard: what a user saw, and how long it took.

use std::path::Path;
use std::time::{Duration, Instant};

use kladder_yard::{Fault, Rule};

use crate::scene::{Checked, Scene};

/// Nothing may take longer than this with a patience of two seconds and two retries.
const LIMIT: Duration = Duration::from_secs(30);

/// Prints the table; fails where a climb hung, or ended well when it should not have, or the other way round.
pub fn table(kladder: &Path) -> Checked {
    let long = Duration::from_mins(1);
    let cases = [
        ("cut after 300 bytes, once", Fault::Cut(300), 1, true),
        ("cut after 300 bytes, each time", Fault::Cut(300), usize::MAX, true),
        ("reset after 300 bytes, once", Fault::Reset(300), 1, true),
        ("another byte in it", Fault::Corrupt(200), usize::MAX, false),
        ("status 404", Fault::Status(404), usize::MAX, false),
        ("status 500, once", Fault::Status(500), 1, true),
        ("status 500, each time", Fault::Status(500), usize::MAX, false),
        ("busy for 1 s, once", Fault::Busy(1), 1, true),
        ("busy for an hour", Fault::Busy(3600), usize::MAX, false),
        ("stalls before the first byte", Fault::Stall(long), usize::MAX, false),
        ("hangs in the middle, once", Fault::Hang(long), 1, true),
        ("a byte every 20 ms", Fault::Trickle(Duration::from_millis(20)), usize::MAX, false),
        ("lies about the length", Fault::Length(99), usize::MAX, false),
        ("sends other parts", Fault::OtherPart(7), usize::MAX, true),
        ("redirects in a circle", Fault::Circle, usize::MAX, false),
    ];
    println!("| the yard … | alone | | with a good one after it | |\n|---|---|---|---|---|");
    for (name, fault, times, ends_well) in cases {
        let rule = || vec![Rule::new("skerroc-1.1.tar.xz", fault.clone()).times(times)];
        let (good, alone) = (Scene::new(kladder, Vec::new())?, Scene::new(kladder, rule())?);
        let (alone_said, alone_took, alone_well) = climb(&alone)?;
        if alone_well != ends_well {
            return Err(format!("{name}: alone it ended {}: {alone_said}", if alone_well { "well" } else { "badly" }));
        }
        let second = Scene::new(kladder, rule())?;
        second.configure(&[&second.yard.url(), &good.yard.url()])?;
        let (said, took, well) = climb(&second)?;
        if !well {
            return Err(format!("{name}: with a good yard it ended badly: {said}"));
        }
        println!(
            "| {name} | {alone_said} | {:.1} s | {said} | {:.1} s |",
            alone_took.as_secs_f64(),
            took.as_secs_f64()
        );
    }
    Ok(())
}

/// What a climb said, how long it took, and whether it ended well; nothing may be left over either way.
fn climb(scene: &Scene) -> Checked<(String, Duration, bool)> {
    let started = Instant::now();
    let output = scene.run(&["climb"])?;
    let took = started.elapsed();
    if took > LIMIT {
        return Err(format!("it took {took:?}"));
    }
    let said =
        String::from_utf8_lossy(if output.status.success() { &output.stdout } else { &output.stderr }).into_owned();
    if output.status.success() {
        scene.whole(1)?;
        let tries = said.lines().filter(|line| line.contains("http://")).count();
        let told = if tries == 1 { "1 failure told".to_owned() } else { format!("{tries} failures told") };
        return Ok((if tries == 0 { "climbed".into() } else { format!("climbed, {told}") }, took, true));
    }
    let why = said.lines().find_map(|line| line.trim().strip_prefix("why")).unwrap_or(&said);
    let why = why.trim().split_once(": ").map_or(why, |(_, why)| why);
    Ok((format!("exit {}: {}", output.status.code().unwrap_or(-1), why.trim()), took, false))
}
