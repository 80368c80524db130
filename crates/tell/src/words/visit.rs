//! What a person must fetch.

use kladder_choose::catalog::Visit;

use crate::text::bytes;

/// Which file, how large, from which page, and what that asks for.
pub fn to_visit(file: &str, size: u64, visit: &Visit) -> String {
    let asks = visit.asks.as_ref().map(|asks| format!("; it asks for {asks}"));
    let costs = visit.costs.as_ref().map(|costs| format!("; it costs {costs}"));
    let (asks, costs) = (asks.unwrap_or_default(), costs.unwrap_or_default());
    format!("{file}, {}, is on {}{asks}{costs}", bytes(size), visit.page)
}
