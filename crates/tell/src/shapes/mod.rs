//! What programs are told: a JSON value a command, whose `format` names its shape and the shape's version. A shape's
//! version goes up when a field changes its meaning or goes; new fields may come at any time.
//!
//! [`schemas`] has a JSON Schema (2020-12) of each; `docs/schemas/` holds them as files. Paths are absolute; one that is not
//! UTF-8 is written as `percent:` and its bytes, percent-encoded.

mod catalog;
mod climb;
mod host;
mod kept;
mod pins;
mod problem;
mod reach;
mod rehearsed;
mod services;
mod sets;
mod shared;
mod verify;

pub use catalog::{
    About, AboutPiece, AboutRelease, CatalogCheck, CatalogDraft, CatalogEnter, CatalogFile, CatalogHere, CatalogLook,
    CatalogNews, CatalogRemark, CatalogSeries, CatalogTried, CatalogTry, CatalogVersion, Catalogs, Found, Search,
};
pub use climb::{Climb, ClimbRung, Code, Gate, Leaving, Licence, Route, RouteFile, RouteRung, RouteVisit, SettingFile};
pub use host::{Ran, Served, Started, Surveyed, TakenFile, YardTaken};
pub use kept::{
    Accepted, Back, Change, Clear, ClearItem, Landing, Landings, LicenceText, Log, LogRun, LogStep, Standing, Terms,
    Withdrawn,
};
pub use pins::{Answer, New, Newer, NewerRung, PassedOver, Pin, Pinned, Why};
pub use problem::{Place, Problem};
pub use reach::{AnsweredAt, Answers, Vars, Wire, WiredFile};
pub use rehearsed::{Rehearsal, Rehearsals, Rehearsed, RehearsedStep};
pub use services::{PortHolder, Service, Services};
pub use sets::{LibraryElsewhere, LibraryInSet, LibraryMoved, WhyLibrary};
pub use shared::{
    Bale, BaleCheck, BaleDamage, BaleFile, Compare, CompareDifference, CompareOther, Shared, YardCheck, YardFile,
    YardFilled,
};
pub use verify::{Mend, Needed, Pair, Together, Verdict, Verified, Verify};

use std::path::Path;

use kladder_core::base::record::path as encoded;
use kladder_core::share::report::Report;
use schemars::{Schema, schema_for};

/// A path as a program is told of it.
pub fn path(path: &Path) -> String {
    path.to_str().map_or_else(|| format!("percent:{}", encoded::to_text(path)), str::to_owned)
}

/// By format: the JSON Schema of each shape.
pub fn schemas() -> Vec<(&'static str, Schema)> {
    vec![
        (About::FORMAT, schema_for!(About)),
        (Answers::FORMAT, schema_for!(Answers)),
        (Back::FORMAT, schema_for!(Back)),
        (Bale::FORMAT, schema_for!(Bale)),
        (BaleCheck::FORMAT, schema_for!(BaleCheck)),
        (Clear::FORMAT, schema_for!(Clear)),
        (Climb::FORMAT, schema_for!(Climb)),
        (Compare::FORMAT, schema_for!(Compare)),
        (Report::FORMAT, schema_for!(Report)),
        (Landings::FORMAT, schema_for!(Landings)),
        (LicenceText::FORMAT, schema_for!(LicenceText)),
        (Log::FORMAT, schema_for!(Log)),
        (Newer::FORMAT, schema_for!(Newer)),
        (Pin::FORMAT, schema_for!(Pin)),
        (Problem::FORMAT, schema_for!(Problem)),
        (Ran::FORMAT, schema_for!(Ran)),
        (Rehearsals::FORMAT, schema_for!(Rehearsals)),
        (Rehearsed::FORMAT, schema_for!(Rehearsed)),
        (Route::FORMAT, schema_for!(Route)),
        (Search::FORMAT, schema_for!(Search)),
        (Served::FORMAT, schema_for!(Served)),
        (Services::FORMAT, schema_for!(Services)),
        (Catalogs::FORMAT, schema_for!(Catalogs)),
        (CatalogCheck::FORMAT, schema_for!(CatalogCheck)),
        (CatalogDraft::FORMAT, schema_for!(CatalogDraft)),
        (CatalogEnter::FORMAT, schema_for!(CatalogEnter)),
        (CatalogLook::FORMAT, schema_for!(CatalogLook)),
        (CatalogTry::FORMAT, schema_for!(CatalogTry)),
        (Standing::FORMAT, schema_for!(Standing)),
        (Started::FORMAT, schema_for!(Started)),
        (Surveyed::FORMAT, schema_for!(Surveyed)),
        (Terms::FORMAT, schema_for!(Terms)),
        (Vars::FORMAT, schema_for!(Vars)),
        (Verify::FORMAT, schema_for!(Verify)),
        (Why::FORMAT, schema_for!(Why)),
        (WhyLibrary::FORMAT, schema_for!(WhyLibrary)),
        (Wire::FORMAT, schema_for!(Wire)),
        (Withdrawn::FORMAT, schema_for!(Withdrawn)),
        (YardCheck::FORMAT, schema_for!(YardCheck)),
        (YardFilled::FORMAT, schema_for!(YardFilled)),
        (Shared::FORMAT, schema_for!(Shared)),
        (YardTaken::FORMAT, schema_for!(YardTaken)),
    ]
}
