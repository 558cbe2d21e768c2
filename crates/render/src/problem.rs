//! Problems that a preflight finds, in lines.

use crate::{BAD, BUSY, TYPED, styled, words};
use workshop::check::{Problem, Severity};

/// A problem with its code, its place, and what to do.
pub fn lines(problem: &Problem) -> [String; 2] {
    let style = if problem.severity == Severity::Error { BAD } else { BUSY };
    let place = problem.place.as_ref().map(|p| format!("{}: ", words::place(p))).unwrap_or_default();
    [
        format!("  {}  {place}{}", styled(style, problem.code), problem.what),
        format!("    {} {}", styled(TYPED, "what to do:"), problem.advice),
    ]
}
