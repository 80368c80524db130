//! How a machine stands, sent to whoever collects that for a room.

use super::report::Report;
use crate::base::digest::Digest;
use crate::base::files::{self, FileError};
use crate::bring::fetch::{Network, YardError, put_text};
use crate::settings::Home;

/// Why a standing could not be sent.
#[derive(Debug, thiserror::Error)]
pub enum CollectError {
    /// The collector does not take it.
    #[error(transparent)]
    Refused(#[from] YardError),
    /// The machine's own mark cannot be kept.
    #[error(transparent)]
    File(#[from] FileError),
}

/// Sends a report to a collector, under the machine's name and a mark that is this home's alone: machines of a room may be called alike.
///
/// # Errors
/// [`CollectError`].
pub fn send(report: &Report, to: &str, home: &Home, network: &Network) -> Result<(), CollectError> {
    let plain = |c: char| if c.is_ascii_alphanumeric() { c } else { '-' };
    let name: String = report.machine.chars().map(plain).take(40).collect();
    let url = format!("{to}/standings/{}-{}.json", name.trim_matches('-'), mark(home)?);
    // A value of plain facts has a text.
    let text = serde_json::to_string(report).unwrap_or_default();
    Ok(put_text(&url, &text, network)?)
}

/// Eight digits, made once for a home.
fn mark(home: &Home) -> Result<String, FileError> {
    let path = home.data.join("standing-mark");
    let kept = files::read(&path).ok().and_then(|bytes| String::from_utf8(bytes).ok());
    let is_one = |text: &String| text.len() == 8 && text.chars().all(|c| c.is_ascii_hexdigit());
    if let Some(mark) = kept.filter(is_one) {
        return Ok(mark);
    }
    let now = jiff::Timestamp::now().as_nanosecond();
    let text = Digest::of(format!("{now} {} {}", std::process::id(), home.data.display()).as_bytes()).hex();
    files::replace(&path, &text.as_bytes()[..8])?;
    Ok(text[..8].to_owned())
}
