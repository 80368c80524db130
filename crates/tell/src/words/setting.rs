//! What becomes of a person's files, in words.

use kladder_core::wire::placed::State;

use crate::text::clean;

/// What became of a file.
pub fn setting(state: &State, changed: bool) -> String {
    match state {
        State::Stands => "as the ladder wants it".to_owned(),
        State::ToWrite => "written".to_owned(),
        State::ToUndo => "as it was before".to_owned(),
        State::Differs if changed => "the ladder's now; what was there is kept".to_owned(),
        State::Differs => "yours is another one, and stays".to_owned(),
        State::Yours => "you changed it since, and it stays".to_owned(),
        State::Clash => "you and the ladder changed the same place; yours stays".to_owned(),
        State::Left(why) => format!("left as it is: {}", clean(why)),
    }
}

/// What a climb would do with a file; `The climb …` stands before it.
pub fn setting_ahead(state: &State) -> &'static str {
    match state {
        State::Differs => "asks whether the ladder's takes the place of yours in",
        State::ToUndo => "takes back what it put into",
        _ => "writes",
    }
}
