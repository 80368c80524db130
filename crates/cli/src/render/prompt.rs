//! How questions look, and what keys they are answered with.

use inquire::ui::{Color, RenderConfig, StyleSheet, Styled};

/// What the keys do where one of a list is chosen.
pub(crate) const CHOOSING: &str = "arrow keys choose, Enter answers, Esc goes back";
/// What the keys do where several of a list are taken.
pub(crate) const TAKING: &str = "space takes one or leaves it, Enter answers, Esc goes back";

/// One look for all questions.
pub(crate) fn look() -> RenderConfig<'static> {
    let mark = |text: &'static str| Styled::new(text).with_fg(Color::LightCyan);
    RenderConfig::default()
        .with_prompt_prefix(mark("|"))
        .with_answered_prompt_prefix(mark("|"))
        .with_highlighted_option_prefix(mark(">"))
        .with_selected_checkbox(mark("(x)"))
        .with_unselected_checkbox(Styled::new("( )"))
        .with_canceled_prompt_indicator(Styled::new("(back)"))
        .with_answer(StyleSheet::new().with_fg(Color::LightCyan))
}
