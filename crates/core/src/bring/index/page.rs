//! A page of links: a folder as a web server shows it, or a page made by hand.

use super::html::links;
use super::{Listed, last_segment, segments, text};
use crate::bring::fetch::{Document, resolved};

pub(super) fn url(address: &str, project: &str) -> String {
    format!("{address}{}/", segments(project))
}

pub(super) fn list(document: &Document) -> Result<Vec<Listed>, String> {
    let listed = links(text(document)?).into_iter().filter_map(|link| {
        let url = resolved(&document.url, &link.href)?;
        let file = last_segment(&url);
        (!file.is_empty()).then(|| Listed { file, url, ..Listed::default() })
    });
    let listed: Vec<_> = listed.collect();
    if listed.is_empty() { Err("it has no link to a file".to_owned()) } else { Ok(listed) }
}
