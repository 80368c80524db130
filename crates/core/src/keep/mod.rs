//! What is kept from climb to climb: berths, landings, the journal, licences, rates; and what of it may go.

pub mod berth;
pub mod clear;
pub mod landing;
pub mod rates;
pub mod state;
pub mod terms;
pub mod whose;
