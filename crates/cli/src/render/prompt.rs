//! How questions look.

use inquire::ui::{Color, RenderConfig, StyleSheet, Styled};

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
