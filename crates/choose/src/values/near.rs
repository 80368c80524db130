//! Near misses: what someone may have meant.
//!
//! ```
//! use kladder_choose::near::near;
//!
//! assert_eq!(near("skerok", ["skerroc", "tidlow"]), ["skerroc"]);
//! assert!(near("zzz", ["skerroc", "tidlow"]).is_empty());
//! ```

/// The candidates that look like `typed`, most alike first, three at most.
pub fn near<'a>(typed: &str, candidates: impl IntoIterator<Item = &'a str>) -> Vec<String> {
    let mut scored: Vec<(f64, &str)> = candidates
        .into_iter()
        .map(|candidate| (strsim::jaro_winkler(typed, candidate), candidate))
        .filter(|&(score, _)| score > 0.82)
        .collect();
    scored.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| a.1.cmp(b.1)));
    scored.dedup_by_key(|(_, candidate)| *candidate);
    scored.into_iter().take(3).map(|(_, candidate)| candidate.to_owned()).collect()
}

#[cfg(test)]
mod tests {
    use super::near;

    #[test]
    fn slips_of_the_finger_are_recognised_and_strangers_are_not() {
        let tools = ["skerroc", "oarweld", "tidlow", "whimbrow"];
        assert_eq!(near("skeroc", tools), ["skerroc"]);
        assert_eq!(near("tildow", tools), ["tidlow"]);
        assert!(near("zzz", tools).is_empty());
    }
}
