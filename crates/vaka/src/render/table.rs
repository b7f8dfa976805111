//! Plain tables: columns, no lines.

use comfy_table::{Cell, ContentArrangement, Table, presets};

/// A table that fits this many columns, indented by two blanks.
pub fn plain(width: u16, head: &[&str], rows: Vec<Vec<String>>) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic).set_width(width);
    if !head.is_empty() {
        table.set_header(head.iter().map(Cell::new));
    }
    table.add_rows(rows);
    for column in table.column_iter_mut() {
        column.set_padding((1, 1));
    }
    let text = table.to_string();
    text.lines().map(|line| format!(" {}\n", line.trim_end())).collect()
}
