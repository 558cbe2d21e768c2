//! Percent-encoding.

/// The text without percent-encoding (RFC 3986, 2.1); what only looks like it stays.
pub fn decoded(text: &str) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut rest = text.as_bytes();
    while let [first, after @ ..] = rest {
        let code = after.get(..2).filter(|_| *first == b'%').and_then(|c| std::str::from_utf8(c).ok());
        match code.and_then(|code| u8::from_str_radix(code, 16).ok()) {
            Some(byte) => {
                bytes.push(byte);
                rest = &after[2..];
            }
            None => {
                bytes.push(*first);
                rest = after;
            }
        }
    }
    bytes
}
