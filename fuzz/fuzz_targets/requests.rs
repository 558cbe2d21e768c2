//! What programs of a step send to the gateway.
#![no_main]

use gateway::request::{LONGEST_HEAD, Read, read};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| match read(bytes) {
    Read::Whole(request, length) => {
        assert!(length <= bytes.len(), "more was read than there is");
        let leads_up = request.path.split('/').any(|part| matches!(part, "." | ".."));
        assert!(!leads_up && !request.kind.contains('/'), "{request:?} gets out of its kind");
    }
    Read::Partial => assert!(bytes.len() < LONGEST_HEAD, "a head without an end"),
    Read::Refused(status, _) => assert!((400..500).contains(&status)),
});
