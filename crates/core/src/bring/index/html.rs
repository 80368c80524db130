//! The links of a page (HTML living standard, section 13.2, as far as tokens go).

use html5gum::{Token, Tokenizer};

/// A link: where it leads, what it says, and its other attributes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Link {
    pub(super) href: String,
    pub(super) text: String,
    pub(super) withdrawn: bool,
    pub(super) requires_python: Option<String>,
    pub(super) metadata: Option<String>,
}

/// The links of a page, in their order.
pub(super) fn links(page: &str) -> Vec<Link> {
    let (mut links, mut open) = (Vec::new(), None::<Link>);
    for Ok(token) in Tokenizer::new(page) {
        match token {
            Token::StartTag(tag) if *tag.name == b"a"[..] => {
                links.extend(open.take());
                let of =
                    |name: &[u8]| tag.attributes.get(name).map(|value| String::from_utf8_lossy(value).into_owned());
                open = of(b"href").map(|href| Link {
                    href,
                    text: String::new(),
                    withdrawn: of(b"data-yanked").is_some(),
                    requires_python: of(b"data-requires-python"),
                    metadata: of(b"data-core-metadata").or_else(|| of(b"data-dist-info-metadata")),
                });
            }
            Token::EndTag(tag) if *tag.name == b"a"[..] => links.extend(open.take()),
            Token::String(text) => {
                if let Some(link) = &mut open {
                    link.text.push_str(&String::from_utf8_lossy(&text));
                }
            }
            _ => {}
        }
    }
    links.extend(open);
    links
}

/// Whether a document is a page, by what it says it is and how it begins.
pub(super) fn is_page(kind: Option<&str>, text: &str) -> bool {
    let begins = || text.trim_start_matches('\u{feff}').trim_start().starts_with('<');
    match kind {
        Some(kind) if kind.ends_with("html") || kind.ends_with("xhtml+xml") => true,
        Some(kind) if kind.ends_with("json") => false,
        _ => begins(),
    }
}
