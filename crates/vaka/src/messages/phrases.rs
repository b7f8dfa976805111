//! Parts of sentences.

/// The first letter as a capital.
pub(super) fn capitalised(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |first| first.to_uppercase().chain(letters).collect())
}

/// `1. Hold SET; 2. Tap RESET`
pub(super) fn numbered(steps: &[String]) -> String {
    let steps: Vec<String> = (1..).zip(steps).map(|(number, step)| format!("{number}. {step}")).collect();
    steps.join("; ")
}
