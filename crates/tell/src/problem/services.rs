//! Problems with services.

use kladder_core::serve::ServeError;

use super::{Code, Problem};
use crate::words;

/// What leads back to a good state.
fn in_order(name: &str) -> String {
    format!("`kladder services {name} --stop` puts its folder in order; then start it again")
}

impl From<ServeError> for Problem {
    fn from(error: ServeError) -> Self {
        match &error {
            ServeError::NoSuch { there, .. } => {
                let problem = Self::of(Code::Usage, &error);
                if there.is_empty() {
                    problem.why("none of its rungs has a service")
                } else {
                    problem.why(format!("it has: {}", there.join(", ")))
                }
            }
            ServeError::Taken { name, port, holder } => {
                let problem = Self::of(Code::ServiceFailed, &error);
                let problem = match holder {
                    Some(holder) => problem.why(format!("{} has it, process {}", holder.name, holder.process)),
                    None => problem.why("whoever has it belongs to another account, or the system does not tell"),
                };
                problem.next(format!(
                    "end that one, or write another port than {port} into the ladder, under `[services.{name}]`, and climb"
                ))
            }
            ServeError::Ends { name, ended, output } => {
                let problem = Self::of(Code::ServiceFailed, &error);
                let problem = ended.iter().fold(problem, |problem, ended| problem.why(words::ended(ended)));
                let problem = if let Some(Err(_)) = ended { problem.next(in_order(name)) } else { problem };
                output.lines().fold(problem, |problem, line| problem.why(format!("  {line}")))
            }
            ServeError::NotReady { name, output, .. } => {
                let problem = Self::of(Code::ServiceFailed, &error);
                let problem = output.lines().fold(problem, |problem, line| problem.why(format!("  {line}")));
                problem.next(format!("`kladder services {name}` looks again, with `--stop` it ends"))
            }
            ServeError::Watcher { name, .. } => Self::of(Code::ServiceFailed, &error).next(in_order(name)),
            ServeError::Verify(error) => super::climbs::verify(error),
            ServeError::File(error) => Self::file(error),
            ServeError::Cancelled(_) => Self::interrupted(),
        }
    }
}
