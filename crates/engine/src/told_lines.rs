//! What an error shows of a program's last lines.

use std::collections::VecDeque;

/// How many lines are shown.
const SHOWN: usize = 40;
/// How many frames of a stack are shown.
const FRAMES: usize = 4;

/// The last lines, of which long stacks keep only their first frames: the cause is often printed before them.
pub(super) fn of(lines: VecDeque<String>) -> Vec<String> {
    let mut told: Vec<String> = Vec::new();
    let mut frames = 0;
    for line in lines {
        if !is_frame(&line) {
            told.extend(left_out(frames));
            frames = 0;
        } else {
            frames += 1;
            if frames > FRAMES {
                continue;
            }
        }
        told.push(line);
    }
    told.extend(left_out(frames));
    told.split_off(told.len().saturating_sub(SHOWN))
}

fn left_out(frames: usize) -> Option<String> {
    let more = frames.checked_sub(FRAMES).filter(|more| *more > 0)?;
    Some(format!("  ({more} more frames)"))
}

/// Whether a line is a frame of a stack, as Ruby, Node, Java and PHP write them.
fn is_frame(line: &str) -> bool {
    let text = line.trim_start();
    let is_number = |rest: &str| rest.starts_with(|c: char| c.is_ascii_digit());
    let is_of_ruby = text.contains(":in `") || text.contains(":in '");
    let is_of_php = text.strip_prefix('#').is_some_and(is_number);
    let is_at = text.starts_with("at ") && line.starts_with([' ', '\t']);
    let is_from = text.starts_with("from ") && line.starts_with([' ', '\t']);
    (is_of_ruby && text.starts_with(['/', '.']) && !text.contains("Error)")) || is_of_php || is_at || is_from
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_went_wrong_is_shown_before_a_long_stack() {
        let mut lines = VecDeque::from(["cannot load fog (LoadError)".to_owned()]);
        lines.extend((0..100).map(|number| format!("\tfrom /gems/fog.rb:{number}:in `require'")));
        lines.push_back("it ended".to_owned());
        let told = of(lines);
        assert_eq!(told.len(), 7);
        assert_eq!(told[0], "cannot load fog (LoadError)");
        assert_eq!(told[5], "  (96 more frames)");
        assert_eq!(told[6], "it ended");
    }

    #[test]
    fn frames_of_several_languages_are_known_and_other_lines_are_kept() {
        for frame in [
            "    at Object.<anonymous> (/app/a.js:1:7)",
            "\tat ferry.App.main(App.java:5)",
            "#0 /app/index.php(3): fog()",
            "/app/a.rb:3:in `fog'",
        ] {
            assert!(is_frame(frame), "{frame}");
        }
        for line in
            ["at last", "a.rb:3: syntax error", "/app/a.rb:3:in `fog': gone (NameError)", "# a comment", ""]
        {
            assert!(!is_frame(line), "{line}");
        }
        let many: VecDeque<String> = (0..100).map(|number| number.to_string()).collect();
        assert_eq!(of(many).first().map(String::as_str), Some("60"));
    }
}
