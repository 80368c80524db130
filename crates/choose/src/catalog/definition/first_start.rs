//! Files that a tool looks for at its first start, with what the person chose filled in.
//!
//! ```toml
//! corners = ["settings"]
//! [first-start]
//! "settings/accepted" = "yes"                     # laid there where there is no file of this name
//! "settings/look.toml" = 'theme = "@theme@"'
//! [choices.theme]                                 # `[choices.whimbrow] theme = "dark"` in the ladder
//! question = "Dark or light?"
//! default = "light"
//! pattern = "dark|light"
//! rule = "`dark` or `light`"
//! ```

use std::collections::BTreeMap;

use super::Says;
use crate::catalog::fill_words;
use crate::near::near;
use crate::path::InnerPath;

/// What is wrong with a choice of a ladder.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum WrongChoice {
    /// The tool offers no such choice.
    #[error("there is no choice `{name}`")]
    Unknown {
        /// What was chosen.
        name: String,
        /// Those that there are, most alike first.
        there: Vec<String>,
    },
    /// The choice breaks its rule.
    #[error("`{value}` cannot be the {name}{}", rule.as_ref().map(|rule| format!(": {rule}")).unwrap_or_default())]
    Refused {
        /// What it is for.
        name: String,
        /// What was chosen.
        value: String,
        /// The rule.
        rule: Option<String>,
    },
}

impl Says {
    /// The files for the first start, by their paths below the tool's folder.
    ///
    /// # Errors
    /// [`WrongChoice`] for a choice that means nothing here, or breaks its rule.
    pub fn first_start_with(
        &self,
        chosen: &BTreeMap<String, String>,
    ) -> Result<BTreeMap<InnerPath, String>, WrongChoice> {
        for (name, value) in chosen {
            let Some(ask) = self.choices.get(name) else {
                let mut there = near(name, self.choices.keys().map(String::as_str));
                there.extend(self.choices.keys().filter(|known| !there.contains(known)).cloned().collect::<Vec<_>>());
                return Err(WrongChoice::Unknown { name: name.clone(), there });
            };
            if !ask.allows(value) {
                let (name, value, rule) = (name.clone(), value.clone(), ask.rule.clone());
                return Err(WrongChoice::Refused { name, value, rule });
            }
        }
        let known = |word: &str| chosen.get(word).or_else(|| Some(&self.choices.get(word)?.default)).cloned();
        Ok(self.first_start.iter().map(|(path, text)| (path.clone(), fill_words(text, &known))).collect())
    }
}
