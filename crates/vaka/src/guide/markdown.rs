//! A guide as Markdown.

use std::fmt::Write;

use super::content::{Content, Part, Step};
use super::hands::Hand;

/// The guide as Markdown. Pictures are links to files beside it.
pub fn markdown(content: &Content) -> String {
    let mut out = format!("# {}\n\n{}\n", content.title, content.subtitle);
    list(&mut out, "What you need", &content.needs);
    list(&mut out, "What will be lost", &content.losses);
    if !content.boards.is_empty() {
        out.push_str("\n## Which board do you have?\n\n| board | look at | it reads |\n|---|---|---|\n");
        for board in &content.boards {
            for (place, reads) in &board.labels {
                let _ = writeln!(out, "| {} | {} | `{reads}` |", board.name, cell(place));
            }
        }
        if !content.no_labels.is_empty() {
            out.push('\n');
            content.no_labels.iter().for_each(|label| push(&mut out, &format!("- {label}")));
        }
    }
    content.parts.iter().for_each(|part| steps(&mut out, part));
    out.push_str("\n## If something goes wrong\n\n");
    for (seen, remedy) in &content.trouble {
        push(&mut out, &format!("- **{seen}** {remedy}"));
    }
    out
}

fn push(out: &mut String, line: &str) {
    out.push_str(line);
    out.push('\n');
}

fn cell(text: &str) -> String {
    text.replace('|', "\\|")
}

fn list(out: &mut String, title: &str, items: &[String]) {
    if !items.is_empty() {
        let _ = write!(out, "\n## {title}\n\n");
        items.iter().for_each(|item| push(out, &format!("- {item}")));
    }
}

fn steps(out: &mut String, part: &Part) {
    let title = part.board.as_ref().map_or("Steps".to_owned(), |board| format!("Steps for {board}"));
    let _ = write!(out, "\n## {title}\n");
    let mut number = 0;
    for step in &part.steps {
        if !matches!(step, Step::Heading(_)) {
            number += 1;
        }
        match step {
            Step::Heading(text) => {
                let _ = write!(out, "\n### {text}\n");
            }
            Step::Command { text, then } => {
                let _ = write!(out, "\n{number}. Type:\n\n   ```sh\n   {text}\n   ```\n\n   {then}\n");
            }
            Step::Hand(hand) => by_hand(out, number, hand),
            Step::See(text) => {
                let _ = write!(out, "\n{number}. {text}\n");
            }
        }
    }
}

fn by_hand(out: &mut String, number: usize, hand: &Hand) {
    let when = hand.when.as_ref().map(|when| format!("{when}: ")).unwrap_or_default();
    let _ = write!(out, "\n{number}. {when}**{}**", hand.action);
    push(out, &hand.why.as_ref().map(|why| format!(" {why}")).unwrap_or_default());
    for line in hand.see.iter().map(|see| format!("   - You see: {see}")) {
        push(out, &line);
    }
    for (seen, mistake) in &hand.mistakes {
        push(out, &format!("   - {seen}: {mistake}"));
    }
    if let Some(picture) = &hand.picture {
        let _ = write!(out, "\n   ![{}]({})\n", hand.action, picture.replace(' ', "%20"));
    }
}
