//! Days in releases and statements.

/// Whether a text is a day in the form `2026-11-23`.
pub(super) fn is_date(text: &str) -> bool {
    let date: Result<jiff::civil::Date, _> = text.parse();
    // Other forms of the same day are other texts in the release.
    date.is_ok_and(|date| date.to_string() == text)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_date_is_a_day_of_the_calendar() {
        for good in ["2026-11-23", "2024-02-29", "2000-02-29"] {
            assert!(is_date(good), "{good}");
        }
        for bad in [
            "2026-02-29",
            "2100-02-29",
            "2026-13-01",
            "2026-00-10",
            "2026-11-31",
            "26-11-23",
            "2026/11/23",
            "2026-11-2x",
        ] {
            assert!(!is_date(bad), "{bad}");
        }
    }
}
