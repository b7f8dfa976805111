//! Patterns with the wildcards `*` (any characters) and `?` (one character).

/// Whether `text` as a whole matches `pattern`. The comparison is case-sensitive.
///
/// # Examples
/// ```
/// use vaka_base::pattern::matches;
///
/// assert!(matches("tern-*", "tern-r1"));
/// assert!(!matches("tern-*", "gannet"));
/// ```
pub fn matches(pattern: &str, text: &str) -> bool {
    let (pattern, text): (Vec<char>, Vec<char>) = (pattern.chars().collect(), text.chars().collect());
    let (mut at, mut in_pattern) = (0, 0);
    // The last star, and the end of the text that it currently matches.
    let mut star: Option<(usize, usize)> = None;
    while at < text.len() {
        match pattern.get(in_pattern) {
            Some('*') => {
                star = Some((in_pattern, at));
                in_pattern += 1;
            }
            Some(c) if *c == '?' || *c == text[at] => {
                (at, in_pattern) = (at + 1, in_pattern + 1);
            }
            _ => match &mut star {
                Some((place, end)) => {
                    *end += 1;
                    (in_pattern, at) = (*place + 1, *end);
                }
                None => return false,
            },
        }
    }
    pattern[in_pattern..].iter().all(|c| *c == '*')
}

#[cfg(test)]
mod tests {
    use super::matches;

    #[test]
    fn stars_and_question_marks_match() {
        for (pattern, text, fits) in [
            ("T1-*", "T1-00217", true),
            ("T1-*", "T2-00217", false),
            ("T?-?????", "T1-00217", true),
            ("T?-?????", "T1-0217", false),
            ("*17", "T1-00217", true),
            ("*1*7", "T1-00217", true),
            ("*18", "T1-00217", false),
            ("T1", "T1-00217", false),
            ("*", "", true),
            ("", "", true),
            ("", "a", false),
            ("12*", "1209", true),
            ("a", "A", false),
        ] {
            assert_eq!(matches(pattern, text), fits, "{pattern} {text}");
        }
    }
}
