//! A feed of releases: Atom (RFC 4287) or RSS 2.0. An entry whose title names a version is a release; what it encloses is its file.
//! One that says in words until when a version is looked after is word of that, and no release.

use jiff::fmt::rfc2822;
use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};
use regex::Regex;

use super::{Listed, day, last_segment, segments, text};
use crate::bring::fetch::{Document, resolved};

/// More entries than these are not looked at.
const MOST: usize = 10_000;

pub(super) fn url(address: &str, project: &str) -> String {
    format!("{address}{}", segments(project))
}

/// One entry, as far as it is read.
#[derive(Default)]
struct Entry {
    title: String,
    summary: String,
    date: String,
    link: Option<String>,
    file: Option<String>,
}

pub(super) fn list(document: &Document) -> Result<Vec<Listed>, String> {
    let mut reader = Reader::from_str(text(document)?);
    let (mut found, mut entry, mut within) = (Vec::new(), None::<Entry>, String::new());
    let mut is_feed = false;
    loop {
        match reader.read_event().map_err(|error| error.to_string())? {
            Event::Eof => break,
            Event::Start(tag) => {
                within = name(&tag);
                is_feed |= within == "feed" || within == "rss";
                if within == "entry" || within == "item" {
                    entry = Some(Entry::default());
                } else if let Some(entry) = &mut entry {
                    entry.attributes(&tag);
                }
            }
            Event::Empty(tag) => {
                if let Some(entry) = &mut entry {
                    entry.attributes(&tag);
                }
            }
            Event::Text(content) => {
                if let Some(entry) = &mut entry {
                    entry.text(&within, &content);
                }
            }
            Event::CData(content) => {
                if let Some(entry) = &mut entry {
                    entry.text(&within, &content);
                }
            }
            Event::End(tag) => {
                let ended = tag.local_name().as_ref().to_owned();
                if ended == "entry" || ended == "item" {
                    found.extend(entry.take());
                }
                within.clear();
            }
            _ => {}
        }
        if found.len() > MOST {
            break;
        }
    }
    if !is_feed {
        return Err("it is neither Atom nor RSS".to_owned());
    }
    let words = Words::new().map_err(|error| error.to_string())?;
    Ok(found.into_iter().flat_map(|entry| entry.listed(&words, document)).collect())
}

/// What is looked for in what people wrote.
struct Words {
    version: Regex,
    series: Regex,
    until: Regex,
}

impl Words {
    fn new() -> Result<Self, regex::Error> {
        Ok(Self {
            version: Regex::new(r"\d+(?:\.\d+)+[0-9A-Za-z.+-]*")?,
            series: Regex::new(r"\d+(?:\.\d+)*")?,
            until: Regex::new(
                r"(?i)(?:end[- ]of[- ](?:life|support|maintenance)|\bEOL\b|(?:supported|maintained|looked after) until)\D{0,40}(\d{4}-\d{2}-\d{2})",
            )?,
        })
    }

    /// The versions in a text, and the days until which they are looked after: each sentence that tells such a day names the
    /// version before it, or the title does.
    fn supported(&self, title: &str, text: &str) -> Vec<(String, String)> {
        let of_sentence = |sentence: &str| {
            let said = self.until.captures(sentence)?;
            let until = day(&said[1])?;
            let before = &sentence[..said.get(0)?.start()];
            let series = self.series.find_iter(before).last().or_else(|| self.series.find(title))?;
            Some((series.as_str().to_owned(), until))
        };
        text.split([';', '\n', '<']).flat_map(|part| part.split(". ")).filter_map(of_sentence).collect()
    }
}

fn name(tag: &BytesStart<'_>) -> String {
    tag.local_name().as_ref().to_owned()
}

impl Entry {
    fn attributes(&mut self, tag: &BytesStart<'_>) {
        let value = |wanted: &str| {
            let one = tag.try_get_attribute(wanted).ok()??;
            Some(one.value.replace("&amp;", "&"))
        };
        match (name(tag).as_str(), value("rel").as_deref()) {
            ("enclosure", _) => self.file = value("url"),
            ("link", Some("enclosure")) => self.file = value("href"),
            ("link", None | Some("alternate")) => self.link = self.link.take().or_else(|| value("href")),
            _ => {}
        }
    }

    fn text(&mut self, within: &str, text: &str) {
        match within {
            "title" => self.title.push_str(text),
            "summary" | "content" | "description" | "encoded" => self.summary.push_str(text),
            "updated" | "published" | "pubDate" | "date" if self.date.is_empty() => {
                text.trim().clone_into(&mut self.date);
            }
            "link" if !text.trim().is_empty() => self.link = Some(text.trim().to_owned()),
            _ => {}
        }
    }

    /// A release, where its title names a version; and what it says of versions that are looked after.
    fn listed(self, words: &Words, document: &Document) -> Vec<Listed> {
        let supported = |text: &str| words.supported(&self.title, text);
        let (in_title, in_text) = (supported(&self.title), supported(&self.summary));
        let is_release = in_title.is_empty();
        let supported = in_title.into_iter().chain(in_text);
        let mut listed: Vec<Listed> = supported
            .map(|(series, until)| Listed { version: Some(series), until: Some(until), ..Listed::default() })
            .collect();
        listed.extend(is_release.then(|| self.release(&words.version, document)).flatten());
        listed
    }

    fn release(self, version: &Regex, document: &Document) -> Option<Listed> {
        let version = version.find(&self.title)?.as_str().trim_end_matches('.').to_owned();
        let url = resolved(&document.url, self.file.as_deref().or(self.link.as_deref()).unwrap_or_default())?;
        let file = if self.file.is_some() { last_segment(&url) } else { version.clone() };
        let date = day(&self.date).or_else(|| Some(rfc2822::parse(&self.date).ok()?.date().to_string()));
        Some(Listed { file, url, version: Some(version), date, ..Listed::default() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn listed(text: &str) -> Result<Vec<Listed>, String> {
        let url = "https://news.example/skerroc.atom".to_owned();
        list(&Document { url, kind: None, bytes: text.as_bytes().to_vec() })
    }

    #[test]
    fn both_kinds_of_feeds_tell_versions_and_days() {
        let atom = r#"<?xml version="1.0"?><feed xmlns="http://www.w3.org/2005/Atom"><title>Skerroc 9.9</title>
            <entry><title>Skerroc 1.5.0</title><updated>2026-03-04T05:06:07Z</updated><link href="/releases/1.5.0"/></entry>
            <entry><title>Our new home</title><updated>2026-03-01T00:00:00Z</updated></entry></feed>"#;
        let rss = r#"<rss version="2.0"><channel><item><title><![CDATA[v1.5.0-rc.1 is out]]></title>
            <pubDate>Wed, 04 Mar 2026 05:06:07 GMT</pubDate><enclosure url="https://dist.example/skerroc-1.5.0.tar.gz?a=1&amp;b=2"/>
            </item></channel></rss>"#;
        let atom = listed(atom).unwrap();
        assert_eq!(atom.len(), 1, "{atom:?}");
        assert_eq!((atom[0].version.as_deref(), atom[0].date.as_deref()), (Some("1.5.0"), Some("2026-03-04")));
        assert_eq!(atom[0].url, "https://news.example/releases/1.5.0");
        let rss = listed(rss).unwrap();
        assert_eq!((rss[0].version.as_deref(), rss[0].date.as_deref()), (Some("1.5.0-rc.1"), Some("2026-03-04")));
        assert_eq!((rss[0].file.as_str(), rss[0].url.ends_with("?a=1&b=2")), ("skerroc-1.5.0.tar.gz", true));
    }

    #[test]
    fn an_entry_may_say_until_when_a_series_is_looked_after() {
        let feed = r#"<feed><entry><title>Series 1.4 is supported until 2027-06-30</title></entry>
            <entry><title>Skerroc 1.5.0</title><summary>Faster. 1.2 reaches its end of life on 2026-01-31; 2 is maintained until
            2030-02-30 or so</summary></entry>
            <entry><title>Series 3</title><content type="html">&lt;p>EOL: 2031-12-01&lt;/p></content></entry></feed>"#;
        let listed = listed(feed).unwrap();
        let told = |one: &Listed| (one.version.clone().unwrap(), one.until.clone());
        let told: Vec<_> = listed.iter().map(told).collect();
        let told: Vec<_> = told.iter().map(|(version, until)| (version.as_str(), until.as_deref())).collect();
        assert_eq!(
            told,
            [("1.4", Some("2027-06-30")), ("1.2", Some("2026-01-31")), ("1.5.0", None), ("3", Some("2031-12-01"))]
        );
    }

    #[test]
    fn what_is_no_feed_is_told() {
        assert!(listed("<html><body>Sign in</body></html>").is_err());
        assert!(listed(r#"{"releases": []}"#).unwrap_err().contains("neither Atom nor RSS"));
        assert!(listed("<feed><entry>").is_ok_and(|all| all.is_empty()) || listed("<feed><entry>").is_err());
    }
}
