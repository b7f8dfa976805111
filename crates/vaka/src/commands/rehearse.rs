//! `vaka rehearse`

use serde_json::json;
use vaka_base::text;
use vaka_core::event::ExitCode;

use super::print_line;
use crate::args::{Common, OutputFormat, Rehearse};
use crate::cli_error::Outcome;
use crate::environment::{self, announce};
use crate::files;
use crate::output_options::OutputOptions;
use crate::rehearsal::{self, Rehearsal, Row};
use crate::release_store;
use crate::render::json;

pub fn run(args: &Rehearse, common: &Common, setting: &OutputOptions) -> Outcome {
    if let Some(path) = &args.report {
        files::may_store(path, args.replace)?;
    }
    let release = release_store::read(&args.release)?;
    let given = if common.sheets.is_some() { environment::sheets(common)? } else { Vec::new() };
    let sheet = release_store::sheet(&release, &args.release, given)?;
    let previous = args.previous.as_ref().map(|path| release_store::read(path)).transpose()?;
    let title = format!("Rehearsal of {} {}", sheet.product.name, release.manifest.version);
    let mut rows: Vec<Row> = Vec::new();
    let mut group = None;
    let mut take = |row: Row| {
        let own = Some((row.variant.clone(), row.stage.clone(), row.route.clone()));
        if setting.format == OutputFormat::Json {
            json::line(&row);
        } else if group != own {
            print_line(&format!("\n{}, stage {}, route {}", row.variant, row.stage, row.route));
            group = own;
        }
        if setting.format == OutputFormat::Text {
            print(&row);
        }
        rows.push(row);
    };
    announce(common, format!("{title}, on simulated units"));
    Rehearsal { sheet: &sheet, release: &release, previous: previous.as_ref() }.run(&mut take)?;
    let wrong = rows.iter().filter(|row| !row.as_expected).count();
    match setting.format {
        OutputFormat::Json => json::line(&json!({ "event": "rehearsal", "cases": rows.len(), "unexpected": wrong })),
        OutputFormat::Text => {
            let cases = text::count(rows.len(), "case");
            print_line("");
            print_line(&match wrong {
                0 => format!("{cases}: all as expected."),
                wrong => format!("{cases}: {wrong} ended otherwise than expected."),
            });
        }
    }
    if let Some(path) = &args.report {
        files::store(path, args.replace, &[rehearsal::html(&title, &rows).as_bytes()])?;
        announce(common, format!("Report: {}", path.display()));
    }
    Ok(if wrong == 0 { ExitCode::Done } else { ExitCode::Differs })
}

/// One case: what was done, and what happened; with the expectation if it was not met.
fn print(row: &Row) {
    let mark = if row.as_expected { "ok  " } else { "FAIL" };
    print_line(&format!("  {mark}  {}: {}", row.case, row.found));
    if !row.as_expected {
        print_line(&format!("        expected: {}", row.expected));
    }
}
