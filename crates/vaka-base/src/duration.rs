//! Durations as users write and read them.

use std::time::Duration;

use crate::ParseError;

/// Reads `45s`, `45 s`, `500 ms`, `2 min` or `0`.
///
/// # Errors
/// The text has none of these forms, or is too large.
///
/// # Examples
/// ```
/// use std::time::Duration;
/// use vaka_base::duration::parse;
///
/// assert_eq!(parse("500 ms"), Ok(Duration::from_millis(500)));
/// assert_eq!(parse("2 min"), Ok(Duration::from_secs(120)));
/// assert!(parse("soon").is_err());
/// ```
pub fn parse(text: &str) -> Result<Duration, ParseError> {
    let trimmed = text.trim();
    let split = trimmed.find(|c: char| !c.is_ascii_digit()).unwrap_or(trimmed.len());
    let (digits, unit) = trimmed.split_at(split);
    let factor_ms: u64 = match unit.trim() {
        "ms" => 1,
        "s" => 1000,
        "min" => 60_000,
        "" if digits == "0" => 1,
        _ => 0,
    };
    let number = digits.parse::<u64>().ok().filter(|_| factor_ms > 0);
    number.and_then(|number| number.checked_mul(factor_ms)).map(Duration::from_millis).ok_or_else(|| {
        let forms = "write it like \"45s\", \"500 ms\", \"2 min\" or \"0\"";
        ParseError::new(format!("'{text}' is not a time; {forms}"))
    })
}

/// `0.8 s`, `45 s`, `2 min 5 s`.
pub fn words(time: Duration) -> String {
    let seconds = time.as_secs();
    match seconds {
        0..10 => format!("{:.1} s", time.as_secs_f64()),
        10..60 => format!("{seconds} s"),
        _ if seconds.is_multiple_of(60) => format!("{} min", seconds / 60),
        _ => format!("{} min {} s", seconds / 60, seconds % 60),
    }
}

/// A measured time: `4 ms`, `0.23 s`, `75.10 s`.
pub fn measured(time: Duration) -> String {
    match time.as_millis() {
        ms @ 0..100 => format!("{ms} ms"),
        _ => format!("{:.2} s", time.as_secs_f64()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_read_and_print() {
        for (text, ms) in [("45s", 45_000), ("500 ms", 500), (" 2 min ", 120_000), ("0", 0)] {
            assert_eq!(parse(text), Ok(Duration::from_millis(ms)), "{text}");
        }
        for bad in ["", "5", "s", "-1s", "1h", "1.5s", "99999999999999999999s", "18446744073709551615min"] {
            assert!(parse(bad).is_err(), "{bad}");
        }
        for (ms, text) in [(4, "4 ms"), (99, "99 ms"), (230, "0.23 s"), (75_100, "75.10 s")] {
            assert_eq!(measured(Duration::from_millis(ms)), text);
        }
        for (ms, text) in [(840, "0.8 s"), (45_400, "45 s"), (120_000, "2 min"), (125_000, "2 min 5 s")] {
            assert_eq!(words(Duration::from_millis(ms)), text);
        }
    }
}
