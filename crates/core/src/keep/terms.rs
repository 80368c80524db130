//! Licences: which text was accepted, when, and for what.
//!
//! `data/terms.json`, format 1. An acceptance holds for one text, by its digest: when the text changes it is asked anew.

use std::path::Path;

use kladder_choose::catalog::Licence;
use kladder_choose::names::ToolName;
use serde::{Deserialize, Serialize};

use crate::base::digest::Digest;
use crate::base::files::FileError;
use crate::base::record::{self, RecordError};

const FORMAT: u32 = 1;

/// What was accepted.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Terms {
    format: u32,
    /// Each acceptance, oldest first.
    pub accepted: Vec<Accepted>,
}

/// One acceptance.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Accepted {
    /// The licence.
    pub licence: String,
    /// Digest of the text that was shown.
    pub text: Digest,
    /// The tools for which it was asked.
    pub tools: Vec<ToolName>,
    /// When.
    pub at: jiff::Timestamp,
}

/// A licence that must be accepted, and the rungs it is for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Asked {
    /// The licence and its text.
    pub licence: Licence,
    /// The tools that come under it.
    pub tools: Vec<ToolName>,
}

impl Terms {
    /// Reads the record in the folder `data`; a missing one is empty.
    ///
    /// # Errors
    /// [`RecordError`] where the record is damaged or newer than this program: nothing counts as accepted then.
    pub fn read(data: &Path) -> Result<Self, RecordError> {
        let path = data.join("terms.json");
        if path.exists() { record::read(&path, FORMAT) } else { Ok(Self { format: FORMAT, accepted: Vec::new() }) }
    }

    /// Writes the record.
    pub fn write(&self, data: &Path) -> Result<(), FileError> {
        record::write(&data.join("terms.json"), self)
    }

    /// Whether this very text was accepted.
    pub fn has(&self, licence: &Licence) -> bool {
        let digest = licence.digest();
        self.accepted.iter().any(|accepted| accepted.licence == licence.id && accepted.text == digest)
    }

    /// Records an acceptance, in the place of earlier ones of the same text.
    pub fn accept(&mut self, asked: &Asked) {
        let (id, digest) = (&asked.licence.id, asked.licence.digest());
        self.accepted.retain(|accepted| accepted.licence != *id || accepted.text != digest);
        self.accepted.push(Accepted {
            licence: asked.licence.id.clone(),
            text: asked.licence.digest(),
            tools: asked.tools.clone(),
            at: jiff::Timestamp::now(),
        });
    }

    /// Takes an acceptance back; tells whether there was one.
    pub fn withdraw(&mut self, id: &str) -> bool {
        let before = self.accepted.len();
        self.accepted.retain(|accepted| accepted.licence != id);
        self.accepted.len() < before
    }
}
