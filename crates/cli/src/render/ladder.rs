//! The ladder, drawn: its layers from the top down, so that what stands on nothing is at the bottom, between two rails.

use kladder_core::share::report::heights;
use kladder_tell::text::clean;
use textwrap::core::display_width;

use super::text::{BAD, FAINT, STRONG, TOLD, styled};

/// Narrower than this there is no room for rails.
pub(crate) const NARROW: usize = 56;
/// Wider than this a row is not easier to read.
const WIDE: usize = 130;
/// Longer names or versions than this are cut off.
const LONGEST: usize = 30;
/// Columns that the rails and the blanks around them take.
const RAILS: usize = 7;

/// How a rung of a drawing is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum State {
    Stands,
    ToClimb,
    Broken,
}

impl State {
    /// It tells the states apart without any colour.
    pub(crate) fn mark(self) -> String {
        match self {
            Self::Stands => "━".to_owned(),
            Self::ToClimb => styled(TOLD, "╌"),
            Self::Broken => styled(BAD, "!"),
        }
    }
}

/// A rung of a drawing.
#[derive(Clone, Debug)]
pub(crate) struct Drawn {
    pub(crate) name: String,
    pub(crate) version: String,
    /// Places of those that it stands on.
    pub(crate) needs: Vec<usize>,
    pub(crate) state: State,
}

fn cut(text: &str) -> String {
    let text = clean(text);
    if text.chars().count() <= LONGEST { text } else { text.chars().take(LONGEST - 1).chain(['…']).collect() }
}

impl Drawn {
    fn label(&self) -> String {
        format!("{} {} {}", self.state.mark(), styled(STRONG, cut(&self.name)), styled(FAINT, cut(&self.version)))
    }
}

/// The drawing; a rung a line where there is no room for rails.
pub(crate) fn drawing(rungs: &[Drawn], width: usize) -> String {
    let needs: Vec<Vec<usize>> = rungs.iter().map(|rung| rung.needs.clone()).collect();
    let heights = heights(&needs);
    let labels: Vec<String> = rungs.iter().map(Drawn::label).collect();
    let layers = (0..=heights.iter().copied().max().unwrap_or_default()).rev();
    let layers = layers.map(|height| (0..rungs.len()).filter(|at| heights[*at] == height).collect::<Vec<_>>());
    if width < NARROW {
        let lines = layers.flatten().map(|at| format!("  {}", labels[at]));
        return lines.collect::<Vec<_>>().join("\n");
    }
    let cell = labels.iter().map(|label| display_width(label)).max().unwrap_or_default() + 3;
    let in_a_row = ((width.min(WIDE) - RAILS) / cell).max(1);
    let most = layers.clone().map(|layer| layer.len()).max().unwrap_or_default().min(in_a_row);
    let rows = layers.flat_map(|layer| layer.chunks(in_a_row).map(<[usize]>::to_vec).collect::<Vec<_>>());
    let rail = styled(FAINT, "┃");
    let row = |row: Vec<usize>| {
        let cells = (0..most).map(|at| match row.get(at) {
            Some(rung) => format!("{}{}", labels[*rung], " ".repeat(cell - display_width(&labels[*rung]))),
            None => " ".repeat(cell),
        });
        format!("  {rail} {}{rail}", cells.collect::<String>())
    };
    rows.map(row).collect::<Vec<_>>().join("\n")
}

/// What the marks mean, of those that are there; nothing where all stand.
pub(crate) fn legend(rungs: &[Drawn]) -> String {
    if rungs.iter().all(|rung| rung.state == State::Stands) {
        return String::new();
    }
    let told = [(State::Stands, "stands"), (State::ToClimb, "to climb"), (State::Broken, "damaged")];
    let there = told.iter().filter(|(state, _)| rungs.iter().any(|rung| rung.state == *state));
    let all: Vec<String> = there.map(|(state, word)| format!("{} {}", state.mark(), styled(FAINT, word))).collect();
    format!("\n    {}", all.join("   "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn layers_stand_on_what_they_need_and_every_row_fits() {
        let rung = |at: usize| Drawn {
            name: format!("tool{}{}", at, "w".repeat(at % 40)),
            version: "1.2.3".to_owned(),
            needs: if at < 5 { Vec::new() } else { vec![at / 2, at - 5] },
            state: [State::Stands, State::ToClimb, State::Broken][at % 3],
        };
        let rungs: Vec<Drawn> = (0..60).map(rung).collect();
        for width in [30, 56, 80, 200] {
            let drawn = anstream::adapter::strip_str(&drawing(&rungs, width)).to_string();
            assert!(drawn.lines().all(|line| display_width(line) <= width.max(48)), "{drawn}");
            let line = |name: &str| drawn.lines().position(|line| line.split_whitespace().any(|word| word == name));
            assert!(line("tool0") > line("tool5w").or(line("tool5wwwww")), "{drawn}");
            assert_eq!(drawn.matches("1.2.3").count(), 60);
        }
        assert!(drawing(&[], 80).is_empty() || !drawing(&[], 80).contains("tool"));
    }
}
