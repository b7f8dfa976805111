//! Events as JSON, which other programs read.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use serde_json::{Value, json};
use vaka_core::event::{Event, ExitCode, FailureText, Finding, Report, RunOutcome, Severity, Transfers};
use vaka_core::unit_state::UnitState;

fn value(event: &Event) -> Value {
    serde_json::to_value(event).unwrap()
}

#[test]
fn a_finding_has_its_weight() {
    let cases = [
        (Finding::ok("usb", "bus 1", "as it should be"), Severity::Ok, "ok"),
        (Finding::note("usb", "bus 1", "slow"), Severity::Note, "note"),
        (Finding::problem("usb", "bus 1", "broken").remedy("Repair it."), Severity::Problem, "problem"),
    ];
    for (finding, severity, name) in cases {
        assert_eq!(finding.severity, severity);
        let has_cure = finding.remedy.is_some();
        let json = value(&Event::Finding(finding));
        assert_eq!((&json["event"], &json["severity"]), (&json!("finding"), &json!(name)));
        assert_eq!(json.get("remedy").is_some(), has_cure, "{json}");
    }
    assert!(Severity::Ok < Severity::Note && Severity::Note < Severity::Problem);
}

#[test]
fn a_result_leaves_out_what_is_not_known() {
    let json = value(&Event::Result(Box::new(Report::empty())));
    for absent in
        ["unit", "state", "undo", "pending_undo", "disconnects", "record_failure", "application", "undo_later"]
    {
        assert!(json.get(absent).is_none(), "{absent}: {json}");
    }
    assert_eq!((&json["code"], &json["outcome"], &json["check"]), (&json!(1), &json!("failed"), &json!("none")));
    let known = Report {
        disconnects: 2,
        state: Some(UnitState::PartlyWritten),
        pending_undo: vec!["Set J3 back.".into()],
        code: ExitCode::Stopped,
        ..Report::empty()
    };
    let json = value(&Event::Result(Box::new(known)));
    assert_eq!((&json["disconnects"], &json["state"]), (&json!(2), &json!("partly-written")));
    assert_eq!((&json["pending_undo"], &json["code"]), (&json!(["Set J3 back."]), &json!(130)));
}

/// The outcome of a run that changed nothing follows from its exit status.
#[test]
fn a_run_that_changed_nothing_was_refused_stopped_or_failed() {
    use ExitCode as X;
    for code in [X::Refused, X::NoUnit, X::File, X::Access, X::Usage] {
        assert_eq!(code.outcome_unchanged(), RunOutcome::Refused, "{code:?}");
    }
    assert_eq!(X::Stopped.outcome_unchanged(), RunOutcome::Stopped);
    for code in [X::Internal, X::Transfer, X::Differs, X::NotBack, X::Record] {
        assert_eq!(code.outcome_unchanged(), RunOutcome::Failed, "{code:?}");
    }
}

#[test]
fn values_become_sentences_and_nothing_else_changes() {
    let words = |event: Event<i32, char>| {
        value(&event.with_words(
            |code| FailureText::new(ExitCode::Transfer, format!("It failed with {code}.")).remedy("Run it again."),
            |letter| format!("Note {letter}."),
        ))
    };
    assert_eq!(
        words(Event::Error(7)),
        json!({"event": "error", "code": 5, "message": "It failed with 7.", "remedy": "Run it again."})
    );
    assert_eq!(words(Event::Warning { text: 'x' }), json!({"event": "warning", "text": "Note x."}));
    assert_eq!(
        words(Event::Waiting { waiting_for: "it".into(), left_ms: Some(5) }),
        json!({"event": "waiting", "waiting_for": "it", "left_ms": 5})
    );
}

#[test]
fn transfers_of_several_attempts_are_added() {
    let one = Transfers { compare: 1, erase: 2, write: 3, finish: 4, read_back: 5, blocks: 6, runs: 7 };
    let mut sum = one;
    sum.add(&one);
    assert_eq!(sum, Transfers { compare: 2, erase: 4, write: 6, finish: 8, read_back: 10, blocks: 12, runs: 14 });
}
