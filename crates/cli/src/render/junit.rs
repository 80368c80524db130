//! A verification as JUnit XML, as build servers read it: a suite for each rung and rehearsal, a case for each claim.

use std::path::Path;
use std::time::Duration;

use kladder_core::base::event::Outcome;
use kladder_core::base::files;
use kladder_tell::problem::Problem;
use kladder_tell::text::clean;
use kladder_tell::{shapes, words};
use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};

/// Writes it to a file, in one step.
pub(crate) fn write(verified: &shapes::Verify, file: &Path) -> Result<(), Problem> {
    let mut suites: Vec<TestSuite> = Vec::new();
    for one in &verified.verdicts {
        let owner = words::owner(&one.verdict.subject);
        let case = case_of(one, &owner);
        if let Some(suite) = suites.iter_mut().find(|suite| suite.name.as_str() == owner) {
            suite.add_test_case(case);
        } else {
            let mut suite = TestSuite::new(owner);
            suite.add_test_case(case);
            suites.push(suite);
        }
    }
    let mut report = Report::new("kladder verify");
    // They are counted when they are added.
    report.add_test_suites(suites);
    let text = report.to_string().map_err(|error| Problem::output(&std::io::Error::other(error)))?;
    Ok(files::hand_out(file, text.as_bytes())?)
}

fn case_of(one: &shapes::Verified, owner: &str) -> TestCase {
    let verdict = &one.verdict;
    let why = clean(verdict.why.as_deref().unwrap_or_default());
    let status = match &verdict.outcome {
        Outcome::Passed => TestCaseStatus::success(),
        Outcome::Skipped(_) => {
            let mut status = TestCaseStatus::skipped();
            status.set_message(why);
            status
        }
        Outcome::Failed { output, causes, .. } => {
            let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
            let mut lines = words::output(output);
            lines.extend(causes.iter().map(|cause| clean(&words::cause(cause))));
            lines.extend(one.mend.iter().map(|mend| clean(&mend.words)));
            status.set_message(why).set_type("failed").set_description(lines.join("\n"));
            status
        }
    };
    let mut case = TestCase::new(clean(&verdict.claim), status);
    case.set_classname(owner).set_time(Duration::from_secs_f64(verdict.seconds));
    case
}
