//! How questions look, and what keys they are answered with.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, LazyLock};

use inquire::ui::{Color, RenderConfig, StyleSheet, Styled};
use signal_hook::consts::{SIGHUP, SIGTERM};

/// What the keys do where one of a list is chosen.
pub(crate) const CHOOSING: &str = "arrow keys choose, Enter answers, Esc goes back";
/// What the keys do where several of a list are taken.
pub(crate) const TAKING: &str = "space takes one or leaves it, Enter answers, Esc goes back";

/// Asks. A terminal that goes away while a question stands there never answers it, so that the program ends with it, as it does
/// when it is told to; what was begun is mended by the next one.
pub(crate) fn asking<T>(question: impl FnOnce() -> T) -> T {
    static ASKING: LazyLock<Arc<AtomicBool>> = LazyLock::new(|| {
        let asking = Arc::default();
        for (signal, code) in [(SIGHUP, 129), (SIGTERM, 143)] {
            // Where that cannot be had, the question stands until it is answered.
            let _ = signal_hook::flag::register_conditional_shutdown(signal, code, Arc::clone(&asking));
        }
        asking
    });
    ASKING.store(true, Ordering::SeqCst);
    let answer = question();
    ASKING.store(false, Ordering::SeqCst);
    answer
}

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
