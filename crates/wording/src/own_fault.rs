//! What is said when this program has a fault, in place of Rust's message.

use crate::worded::FAULT;
use crate::{Failure, report};
use render::{Format, Output};
use std::any::Any;
use std::panic;

/// From now on a panic, of whatever thread, is reported as an error and ends the program.
pub fn report_panics(format: Format) {
    panic::set_hook(Box::new(move |panic| {
        let place = panic.location().map(|location| format!("{}:{}", location.file(), location.line()));
        let failure = Failure::Fault { what: message(panic.payload()), place: place.unwrap_or_default() };
        report(&Output::new(format), &failure);
        std::process::exit(i32::from(FAULT));
    }));
}

fn message(payload: &(dyn Any + Send)) -> String {
    let text = payload.downcast_ref::<&str>().map(|text| (*text).to_owned());
    text.or_else(|| payload.downcast_ref::<String>().cloned()).unwrap_or_else(|| "no message".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_says_its_message() {
        let said = |panics: fn()| message(&*panic::catch_unwind(panics).unwrap_err());
        assert_eq!(said(|| panic!("fog")), "fog");
        assert_eq!(said(|| panic!("fog {}", 2)), "fog 2");
        assert_eq!(said(|| panic::panic_any(2)), "no message");
    }
}
