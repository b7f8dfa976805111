//! The table of a rehearsal as a page.

use maud::{DOCTYPE, PreEscaped, html as page};

use super::cases::Row;

const STYLE: &str = "body{font:15px/1.45 system-ui,sans-serif;margin:2rem auto;max-width:68rem;padding:0 1rem;color:#1b1f24}\
table{border-collapse:collapse;width:100%;margin:.5rem 0 1.5rem}\
th,td{text-align:left;vertical-align:top;padding:.3rem .6rem;border-bottom:1px solid #d5d9de}\
th{border-bottom:2px solid #8a929c}td:first-child{width:32%}td:nth-child(2){width:22%}\
.wrong td{background:#fdecea}.wrong td:last-child{font-weight:600}\
.sum{font-size:1.1rem}p.note{color:#57606a}@media print{body{margin:0}}";

/// A self-contained page with one table for each variant, stage and route.
pub fn html(title: &str, rows: &[Row]) -> String {
    let groups = rows.chunk_by(|a, b| (&a.variant, &a.stage, &a.route) == (&b.variant, &b.stage, &b.route));
    let wrong = rows.iter().filter(|row| !row.as_expected).count();
    let markup = page! {
        (DOCTYPE)
        html lang="en" {
            head { meta charset="utf-8"; title { (title) } style { (PreEscaped(STYLE)) } }
            body {
                h1 { (title) }
                p.sum {
                    @if wrong == 0 { "All " (rows.len()) " cases ended as expected." }
                    @else { (wrong) " of " (rows.len()) " cases ended otherwise than expected." }
                }
                p.note {
                    "Rehearsed on simulated units that follow the product sheet. This proves nothing about the \
                     real bootloader."
                }
                @for group in groups {
                    h2 { (group[0].variant) ", stage " (group[0].stage) ", route " (group[0].route) }
                    table {
                        tr { th { "case" } th { "expected" } th { "found" } }
                        @for row in group {
                            tr .wrong[!row.as_expected] { td { (row.case) } td { (row.expected) } td { (row.found) } }
                        }
                    }
                }
            }
        }
    };
    markup.into_string()
}
