//! Licences on the way: what is still to be accepted, and what came of asking.

use kladder_choose::catalog::{CatalogError, Catalogs};

use crate::keep::terms::{Asked, Terms};
use crate::tasks::Rung;

/// The licences of some rungs that were not accepted yet, each once, in the order of the climb.
///
/// # Errors
/// [`CatalogError`] where the text of a licence cannot be read.
pub fn open(rungs: &[&Rung], catalogs: &Catalogs, terms: &Terms) -> Result<Vec<Asked>, CatalogError> {
    let mut asked: Vec<Asked> = Vec::new();
    for rung in rungs {
        for id in &rung.definition.says.licences {
            let licence = catalogs.licence_of(&rung.key.tool, id)?;
            if let Some(known) = asked.iter_mut().find(|known| known.licence == licence) {
                known.tools.push(rung.key.tool.clone());
            } else if !terms.has(&licence) {
                asked.push(Asked { licence, tools: vec![rung.key.tool.clone()] });
            }
        }
    }
    Ok(asked)
}
