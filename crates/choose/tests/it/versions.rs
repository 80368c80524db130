//! The order of versions: the examples of the documentation, and what makes an order.

use std::cmp::Ordering;

use kladder_choose::version::{Requirement, Scheme, Version};
use proptest::prelude::*;

const SCHEMES: [(&str, Scheme); 5] = [
    ("common", Scheme::Common),
    ("semantic", Scheme::Semantic),
    ("letters", Scheme::Letters),
    ("decimal", Scheme::Decimal),
    ("packaged", Scheme::Packaged),
];

fn version(text: &str) -> Version {
    text.parse().unwrap()
}

#[test]
fn the_documented_examples_are_ordered_as_documented() {
    let page = include_str!("../../../../docs/versions.md");
    let mut chains = 0;
    for (name, scheme) in SCHEMES {
        for line in page.lines().filter_map(|line| line.strip_prefix(name)).filter(|line| line.contains(" < ")) {
            chains += 1;
            let row: Vec<Version> = line.trim().split(" < ").map(version).collect();
            for (at, one) in row.iter().enumerate() {
                for later in &row[at + 1..] {
                    assert_eq!(scheme.compare(one, later), Ordering::Less, "{name}: {one} < {later}");
                }
            }
        }
    }
    assert_eq!(chains, 22);
}

#[test]
fn what_is_a_preview_depends_on_the_scheme() {
    let previews = |scheme: Scheme, texts: &[&str]| texts.iter().all(|text| scheme.is_preview(&version(text)));
    let finals = |scheme: Scheme, texts: &[&str]| !texts.iter().any(|text| scheme.is_preview(&version(text)));
    assert!(previews(Scheme::Common, &["3.11.0b2", "1.5.0-rc.1", "1.95.0-nightly.3", "22-ea+36", "8u392-b08"]));
    assert!(finals(Scheme::Common, &["3.2.0b", "r27c", "2024.3.1 Patch 2", "1.0.0-works", "21.0.2+13"]));
    assert!(previews(Scheme::Semantic, &["1.0.0-works", "1.0.0-7"]) && finals(Scheme::Semantic, &["1.0.0+rc.1"]));
    assert!(finals(Scheme::Letters, &["8u392-b08"]) && previews(Scheme::Letters, &["8u392-rc1"]));
}

#[test]
fn a_requirement_is_held_against_the_scheme() {
    let allows = |text: &str, scheme, v: &str| text.parse::<Requirement>().unwrap().allows_by(scheme, &version(v));
    assert!(allows("<3.2", Scheme::Decimal, "3.14") && !allows("<3.2", Scheme::Common, "3.14"));
    assert!(allows("1.0.0-alpha", Scheme::Semantic, "1.0.0-alpha.1"));
    assert!(allows("1.0", Scheme::Semantic, "1.0.7+sum") && !allows("1.0", Scheme::Semantic, "1.10.0"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4000))]

    #[test]
    fn every_scheme_is_a_total_order_and_keeps_the_text(
        texts in prop::array::uniform3("v?[0-9]{1,2}([.+_ -]?(rc|b|q|alpha|Patch|[0-9]{1,2})){0,3}"),
    ) {
        let [a, b, c] = texts.clone().map(|text| version(&text));
        prop_assert_eq!(a.to_string(), texts[0].as_str());
        for (name, scheme) in SCHEMES {
            let order = |one: &Version, other: &Version| scheme.compare(one, other);
            prop_assert_eq!(order(&a, &b), order(&b, &a).reverse(), "{}", name);
            prop_assert_eq!(order(&a, &b) == Ordering::Equal, a == b, "{}", name);
            if order(&a, &b).is_le() && order(&b, &c).is_le() {
                prop_assert!(order(&a, &c).is_le(), "{}: {} {} {}", name, a, b, c);
            }
            prop_assert!(scheme.starts_with(&a, &a), "{}", name);
        }
    }
}
