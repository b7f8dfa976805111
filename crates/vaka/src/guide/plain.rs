//! A guide as plain text.

use std::fmt::Write;

use super::content::{Content, Part, Step};
use super::hands::Hand;
use crate::render::wrap;

/// Columns of the text.
const WIDTH: usize = 78;

/// The guide as plain text with a check box for each step.
pub fn plain(content: &Content) -> String {
    let rule = "=".repeat(content.title.chars().count());
    let mut out = format!("{}\n{rule}\n{}\n", content.title, content.subtitle);
    list(&mut out, "What you need", &content.needs);
    list(&mut out, "What will be lost", &content.losses);
    if !content.boards.is_empty() {
        heading(&mut out, "Which board do you have?");
        for board in &content.boards {
            let _ = writeln!(out, "  {}", board.name);
            for (place, reads) in &board.labels {
                paragraph(&mut out, "    - ", &format!("{place}: \"{reads}\""));
            }
        }
        content.no_labels.iter().for_each(|label| paragraph(&mut out, "  ", label));
    }
    content.parts.iter().for_each(|part| steps(&mut out, part));
    heading(&mut out, "If something goes wrong");
    for (seen, remedy) in &content.trouble {
        paragraph(&mut out, "  - ", &format!("{seen} {remedy}"));
    }
    out
}

fn heading(out: &mut String, title: &str) {
    let _ = write!(out, "\n{title}\n{}\n", "-".repeat(title.chars().count()));
}

fn list(out: &mut String, title: &str, items: &[String]) {
    if !items.is_empty() {
        heading(out, title);
        items.iter().for_each(|item| paragraph(out, "  - ", item));
    }
}

/// A paragraph whose further lines are indented like its text.
fn paragraph(out: &mut String, first: &str, text: &str) {
    let indent = " ".repeat(first.chars().count());
    let wrapped = wrap::wrapped(text, WIDTH - indent.len());
    for (number, line) in wrapped.lines().enumerate() {
        let _ = writeln!(out, "{}{}", if number == 0 { first } else { &indent }, line.trim_start());
    }
}

fn steps(out: &mut String, part: &Part) {
    heading(out, &part.board.as_ref().map_or("Steps".to_owned(), |board| format!("Steps for {board}")));
    let mut number = 0;
    for step in &part.steps {
        if !matches!(step, Step::Heading(_)) {
            number += 1;
        }
        let mark = format!("{number:>3}  [ ] ");
        match step {
            Step::Heading(text) => {
                let _ = write!(out, "\n  {text}\n");
            }
            Step::Command { text, then } => {
                // A command stays on one line, to be copied.
                let _ = write!(out, "{mark}Type:\n\n        {text}\n\n");
                paragraph(out, "         ", then);
            }
            Step::Hand(hand) => by_hand(out, &mark, hand),
            Step::See(text) => paragraph(out, &mark, text),
        }
    }
}

fn by_hand(out: &mut String, mark: &str, hand: &Hand) {
    let when = hand.when.as_ref().map(|when| format!("{when}: ")).unwrap_or_default();
    paragraph(out, mark, &format!("{when}{}", hand.action));
    let see = hand.see.iter().map(|see| format!("You see: {see}"));
    let mistakes = hand.mistakes.iter().map(|(seen, mistake)| format!("{seen}: {mistake}"));
    let picture = hand.picture.iter().map(|picture| format!("Picture: {picture}"));
    for line in hand.why.iter().cloned().chain(see).chain(mistakes).chain(picture) {
        paragraph(out, "         ", &line);
    }
}
