//! A ladder drawn as layers, bottom up: where each rung's box stands, and the lines to what it stands on. Pure; lengths are in pixels of
//! the drawing (user units of SVG 2).

use std::collections::BTreeMap;

use serde::Serialize;

use super::Report;

/// How wide a drawing is at most.
const WIDTH: f64 = 1080.0;
/// From box to box in a row.
const GAP: f64 = 14.0;
/// From the edge of the drawing to the first box.
const EDGE: f64 = 34.0;
/// How high a box is.
const HEIGHT: f64 = 42.0;
/// From layer to layer, and from row to row of one layer.
const LAYER_GAP: f64 = 40.0;
/// Likewise.
const ROW_GAP: f64 = 14.0;
/// How wide a character of a label is at most, at the size in which labels are set.
const CHARACTER: f64 = 7.6;
/// The narrowest box.
const NARROWEST: f64 = 76.0;
/// Characters of a label; what is longer is cut off, and told where one points at it.
const LONGEST: usize = 28;

/// A drawing.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Layers {
    /// Its width.
    pub width: f64,
    /// Its height.
    pub height: f64,
    /// The rungs, in the report's order.
    pub boxes: Vec<Box>,
    /// From a rung to those that it needs.
    pub lines: Vec<Line>,
}

/// A rung.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Box {
    /// Its left edge.
    pub x: f64,
    /// Its upper edge.
    pub y: f64,
    /// Its width.
    pub width: f64,
    /// Its height.
    pub height: f64,
    /// Its name, cut off where it is too long.
    pub name: String,
    /// Its version, likewise.
    pub version: String,
    /// How many layers stand below it at least.
    pub layer: usize,
}

/// A line from the lower edge of a rung to the upper edge of one that it needs.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Line {
    /// Position of the rung that needs.
    pub from: usize,
    /// Position of the one that is needed.
    pub to: usize,
    /// Where it begins.
    pub x1: f64,
    /// Likewise.
    pub y1: f64,
    /// Where it ends.
    pub x2: f64,
    /// Likewise.
    pub y2: f64,
}

fn cut(text: &str) -> String {
    if text.chars().count() <= LONGEST {
        return text.to_owned();
    }
    text.chars().take(LONGEST - 1).chain(['…']).collect()
}

impl Layers {
    /// The drawing of a report.
    pub fn of(report: &Report) -> Self {
        let places: BTreeMap<&str, usize> =
            report.rungs.iter().enumerate().map(|(at, rung)| (rung.rung.as_str(), at)).collect();
        let needs: Vec<Vec<usize>> = report
            .rungs
            .iter()
            .map(|rung| rung.needs.iter().filter_map(|need| places.get(need.as_str()).copied()).collect())
            .collect();
        let layers = heights(&needs);
        let mut boxes: Vec<Box> =
            report.rungs.iter().zip(&layers).map(|(rung, layer)| boxed(&rung.rung, &rung.version, *layer)).collect();
        let (width, height) = stack(&mut boxes, &needs);
        let middle = |one: &Box| one.x + one.width / 2.0;
        let line = |from: usize, to: usize| {
            let (upper, lower) = (&boxes[from], &boxes[to]);
            Line { from, to, x1: middle(upper), y1: upper.y + upper.height, x2: middle(lower), y2: lower.y }
        };
        let lines = needs.iter().enumerate().flat_map(|(from, all)| all.iter().map(move |to| (from, *to)));
        let lines = lines.map(|(from, to)| line(from, to)).collect();
        Self { width, height, boxes, lines }
    }
}

fn boxed(name: &str, version: &str, layer: usize) -> Box {
    let (name, version) = (cut(name), cut(version));
    #[expect(clippy::cast_precision_loss, reason = "a label is short")]
    let characters = name.chars().count().max(version.chars().count()) as f64;
    let width = (characters * CHARACTER + 20.0).max(NARROWEST);
    Box { x: 0.0, y: 0.0, width, height: HEIGHT, name, version, layer }
}

/// The layer of each rung, from 0: one more than the highest of what it needs, which stands before it; those that need each other count as
/// they come.
pub fn heights(needs: &[Vec<usize>]) -> Vec<usize> {
    let mut layers: Vec<usize> = Vec::new();
    for own in needs {
        let below = own.iter().filter_map(|need| layers.get(*need)).max();
        layers.push(below.map_or(0, |below| below + 1));
    }
    layers
}

/// Gives each box its place, the lowest layer at the bottom; returns width and height.
fn stack(boxes: &mut [Box], needs: &[Vec<usize>]) -> (f64, f64) {
    let highest = boxes.iter().map(|one| one.layer).max().unwrap_or_default();
    // From the bottom up, as if the bottom were zero; turned around at the end.
    let mut floor = 0.0;
    for layer in 0..=highest {
        let mut own: Vec<usize> = (0..boxes.len()).filter(|at| boxes[*at].layer == layer).collect();
        // Above the middle of what it stands on, so that lines are short.
        let pull = |at: &usize| {
            let below: Vec<f64> =
                needs[*at].iter().filter(|need| boxes[**need].layer < layer).map(|need| boxes[*need].x).collect();
            #[expect(clippy::cast_precision_loss, reason = "a rung has few needs")]
            let many = below.len().max(1) as f64;
            below.iter().sum::<f64>() / many
        };
        let mut pulled: Vec<(f64, usize)> = own.iter().map(|at| (pull(at), *at)).collect();
        pulled.sort_by(|one, other| one.0.total_cmp(&other.0).then(one.1.cmp(&other.1)));
        own = pulled.into_iter().map(|(_, at)| at).collect();
        let mut rows: Vec<Vec<usize>> = vec![Vec::new()];
        let mut filled = 0.0;
        for at in own {
            let width = boxes[at].width;
            if filled > 0.0 && filled + GAP + width > WIDTH - 2.0 * EDGE {
                rows.push(Vec::new());
                filled = 0.0;
            }
            filled += if filled > 0.0 { GAP + width } else { width };
            if let Some(row) = rows.last_mut() {
                row.push(at);
            }
        }
        for row in rows {
            let whole: f64 = row.iter().map(|at| boxes[*at].width + GAP).sum::<f64>() - GAP;
            let mut x = (WIDTH - whole) / 2.0;
            for at in row {
                boxes[at].x = x;
                boxes[at].y = floor;
                x += boxes[at].width + GAP;
            }
            floor += HEIGHT + ROW_GAP;
        }
        floor += LAYER_GAP - ROW_GAP;
    }
    let height = floor - LAYER_GAP + 2.0 * EDGE;
    let left = boxes.iter().map(|one| one.x).fold(WIDTH / 2.0, f64::min) - EDGE;
    for one in boxes.iter_mut() {
        one.y = height - EDGE - HEIGHT - one.y;
        one.x -= left;
    }
    // Rows stand in the middle, so that both sides are alike.
    (WIDTH - 2.0 * left, height)
}

#[cfg(test)]
mod tests {
    use super::super::ReportRung;
    use super::*;

    fn report(many: usize, seed: u64) -> Report {
        let mut random = fastrand::Rng::with_seed(seed);
        let rung = |at: usize| {
            let length = 3 + (at * 7 + 5) % 30;
            let needs = (0..random.usize(0..4)).filter(|_| at > 0).map(|_| random.usize(0..at));
            ReportRung {
                rung: format!("{at}{}", "w".repeat(length)),
                version: "1.22.333".to_owned(),
                needs: needs.map(|need| format!("{need}{}", "w".repeat(3 + (need * 7 + 5) % 30))).collect(),
                ..ReportRung::default()
            }
        };
        Report { rungs: (0..many).map(rung).collect(), ..Report::default() }
    }

    #[test]
    fn no_box_covers_another_and_each_stands_above_what_it_needs() {
        for many in [0, 1, 2, 11, 40, 150, 400] {
            for seed in 0..5 {
                let drawn = Layers::of(&report(many, seed));
                assert_eq!(drawn.boxes.len(), many);
                for (at, one) in drawn.boxes.iter().enumerate() {
                    assert!(one.x >= 0.0 && one.y >= 0.0 && one.x + one.width <= drawn.width, "{one:?}");
                    assert!(one.y + one.height <= drawn.height, "{one:?} {}", drawn.height);
                    for other in &drawn.boxes[at + 1..] {
                        let beside = one.x + one.width <= other.x || other.x + other.width <= one.x;
                        let above = one.y + one.height <= other.y || other.y + other.height <= one.y;
                        assert!(beside || above, "{one:?} {other:?}");
                    }
                }
                for line in &drawn.lines {
                    assert!(line.y1 < line.y2, "{line:?}");
                }
            }
        }
    }
}
