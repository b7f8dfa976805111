//! A guide as a self-contained page for screen and print.

use std::collections::BTreeMap;

use maud::{DOCTYPE, Markup, PreEscaped, html};

use super::content::{Content, Part, Step};
use super::hands::Hand;

const STYLE: &str = include_str!("page.css");

/// The guide as a page; `pictures` are `data:` addresses by file name.
pub fn page(content: &Content, pictures: &BTreeMap<String, String>) -> String {
    let markup = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (content.title) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                h1 { (content.title) }
                p.subtitle { (content.subtitle) }
                (list("What you need", "needs", &content.needs))
                (list("What will be lost", "losses", &content.losses))
                (boards(content))
                @for part in &content.parts { (steps(part, pictures)) }
                section {
                    h2 { "If something goes wrong" }
                    dl { @for (seen, remedy) in &content.trouble { div { dt { (seen) } dd { (remedy) } } } }
                }
            }
        }
    };
    markup.into_string()
}

fn list(title: &str, class: &str, items: &[String]) -> Markup {
    html! {
        @if !items.is_empty() {
            section class=(class) { h2 { (title) } ul { @for item in items { li { (item) } } } }
        }
    }
}

fn boards(content: &Content) -> Markup {
    html! {
        @if !content.boards.is_empty() {
            section {
                h2 { "Which board do you have?" }
                table {
                    thead { tr { th { "board" } th { "look at" } th { "it reads" } } }
                    tbody {
                        @for board in &content.boards {
                            @for (line, (place, reads)) in board.labels.iter().enumerate() {
                                tr {
                                    @if line == 0 { th rowspan=(board.labels.len()) { (board.name) } }
                                    td { (place) }
                                    td { span.label { (reads) } }
                                }
                            }
                        }
                    }
                }
                @for label in &content.no_labels { p { (label) } }
            }
        }
    }
}

fn steps(part: &Part, pictures: &BTreeMap<String, String>) -> Markup {
    let title = part.board.as_ref().map_or("Steps".to_owned(), |board| format!("Steps for {board}"));
    // Headings stand between the steps, whose numbers go on.
    let groups = part.steps.chunk_by(|_, next| !matches!(next, Step::Heading(_)));
    let mut start = 1;
    html! {
        section.steps {
            h2 { (title) }
            @for group in groups {
                @let (heading, steps) = match group { [Step::Heading(text), rest @ ..] => (Some(text), rest), all => (None, all) };
                @if let Some(text) = heading { h3 { (text) } }
                ol start=(start) { @for step in steps { li { (one(step, pictures)) } } }
                @let () = { start += steps.len() };
            }
        }
    }
}

fn one(step: &Step, pictures: &BTreeMap<String, String>) -> Markup {
    html! {
        label { input type="checkbox";
            @match step {
                Step::Heading(text) | Step::See(text) => { span { (text) } }
                Step::Command { .. } => { span { "Type:" } }
                Step::Hand(hand) => { span {
                    @if let Some(when) = &hand.when { (when) ": " }
                    strong { (hand.action) }
                } }
            }
        }
        @match step {
            Step::Heading(_) | Step::See(_) => {}
            Step::Command { text, then } => { pre { code { (command(text)) } } p { (then) } }
            Step::Hand(hand) => { (details(hand, pictures)) }
        }
    }
}

/// A command, whose lines break between options only.
fn command(text: &str) -> Markup {
    let (start, options) = text.split_once(" --").unwrap_or((text, ""));
    html! {
        (start)
        @for option in options.split(" --").filter(|option| !option.is_empty()) { " " span { "--" (option) } }
    }
}

fn details(hand: &Hand, pictures: &BTreeMap<String, String>) -> Markup {
    let picture = hand.picture.as_ref().and_then(|name| pictures.get(name));
    html! {
        @if let Some(why) = &hand.why { p { (why) } }
        @if let Some(see) = &hand.see { p.see { b { "You see: " } (see) } }
        @for (seen, mistake) in &hand.mistakes { p.mistake { b { (seen) ": " } (mistake) } }
        @if let Some(picture) = picture { img src=(picture) alt=(hand.action); }
    }
}
