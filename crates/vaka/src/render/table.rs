//! Plain tables: columns, no lines.

use comfy_table::{Cell, ColumnConstraint, ContentArrangement, Table, Width, presets};

use super::wrap::{columns, tokens, width, wrapped};

/// Blank that does not end a word.
const HARD_BLANK: char = '\u{A0}';

/// Blanks between the left edge and the first column.
const INDENT: usize = 2;

/// A table indented by two blanks. Where the output is too narrow for it, cells wrap between words;
/// where that is not enough, each row becomes a block of lines.
pub fn plain(head: &[&str], rows: Vec<Vec<String>>) -> String {
    fitted(width(), head, rows)
}

fn fitted(width: u16, head: &[&str], rows: Vec<Vec<String>>) -> String {
    // A last column of sentences is easier to read below its rows than in a narrow column.
    let is_prose = |row: &Vec<String>| row.last().is_some_and(|cell| cell.split(' ').count() > 2);
    if rows.iter().any(is_prose)
        && let Some(table) = hanging(width.into(), head, &rows)
    {
        return table;
    }
    let narrowest = narrowest(head, &rows);
    if narrowest.iter().map(|column| column + 2).sum::<usize>() + INDENT > usize::from(width) {
        return blocks(width.into(), head, &rows);
    }
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic).set_width(width - 1);
    if !head.is_empty() {
        table.set_header(head.iter().map(Cell::new));
    }
    table.add_rows(rows.iter().map(|row| row.iter().map(|cell| hardened(cell))));
    for (column, narrowest) in table.column_iter_mut().zip(narrowest) {
        let with_padding = u16::try_from(narrowest + 2).unwrap_or(u16::MAX);
        column.set_padding((1, 1)).set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(with_padding)));
    }
    let text = table.to_string().replace(HARD_BLANK, " ");
    text.lines().map(|line| format!(" {}\n", line.trim_end())).collect()
}

/// A table whose last cells, where they do not fit, stand below their rows; `None` if all cells fit
/// or if the other columns alone are too wide.
fn hanging(width: usize, head: &[&str], rows: &[Vec<String>]) -> Option<String> {
    const UNDER: usize = 8;
    let head = heading(head);
    let all = || head.iter().chain(rows);
    let count = all().map(Vec::len).max()?;
    let widths: Vec<usize> =
        (0..count).map(|i| all().filter_map(|row| row.get(i)).map(|cell| columns(cell)).max().unwrap_or(0)).collect();
    let (last, others) = widths.split_last()?;
    let before = INDENT + others.iter().map(|width| width + 2).sum::<usize>();
    if before > width || before + last <= width || rows.iter().any(|row| row.len() != count) {
        return None;
    }
    let line = |row: &Vec<String>| {
        let cells =
            row.iter().zip(others).map(|(cell, width)| format!("{cell}{}", " ".repeat(width + 2 - columns(cell))));
        let start = format!("{}{}", " ".repeat(INDENT), cells.collect::<String>());
        let last = row.last().map_or("", String::as_str);
        match before + columns(last) <= width {
            true => format!("{}\n", format!("{start}{last}").trim_end()),
            false => {
                let below = wrapped(last, width.saturating_sub(UNDER)).replace("\n  ", "\n");
                let below: String = below.lines().map(|line| format!("{}{line}\n", " ".repeat(UNDER))).collect();
                format!("{}\n{below}", start.trim_end())
            }
        }
    };
    Some(all().map(line).collect())
}

/// The heading as a row; `None` if the table has no heading.
fn heading(head: &[&str]) -> Option<Vec<String>> {
    let head: Vec<String> = head.iter().map(|cell| (*cell).to_owned()).collect();
    Some(head).filter(|head| !head.is_empty())
}

/// The longest word of each column.
fn narrowest(head: &[&str], rows: &[Vec<String>]) -> Vec<usize> {
    let count = rows.iter().map(Vec::len).max().unwrap_or(0).max(head.len());
    let word = |text: &str| hardened(text).split(' ').map(columns).max().unwrap_or(0);
    let column = |index: usize| {
        let cells = rows.iter().filter_map(|row| row.get(index)).map(|cell| word(cell));
        cells.chain(head.get(index).map(|cell| word(cell))).max().unwrap_or(0)
    };
    (0..count).map(column).collect()
}

/// The text with hard blanks inside numbers: `20 772`.
fn hardened(text: &str) -> String {
    tokens(text)
        .iter()
        .map(|token| {
            let word = token.trim_start_matches(' ');
            " ".repeat(token.len() - word.len()) + &word.replace(' ', &HARD_BLANK.to_string())
        })
        .collect()
}

/// Each row as a block of lines, its cells two blanks apart.
fn blocks(width: usize, head: &[&str], rows: &[Vec<String>]) -> String {
    let head = heading(head);
    let block = |row: &Vec<String>| {
        let cells: Vec<&str> = row.iter().map(String::as_str).filter(|cell| !cell.is_empty()).collect();
        wrapped(&format!("{}{}\n", " ".repeat(INDENT), cells.join("  ")), width)
    };
    head.iter().chain(rows).map(block).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_fits_its_width_and_breaks_no_word() {
        let rows = || {
            vec![
                vec!["unit".to_owned(), "48 sectors of 3 KiB at 0x0A00_0000".to_owned(), "the flash of r1".to_owned()],
                vec!["file".to_owned(), "20 772 bytes".to_owned(), String::new()],
            ]
        };
        let words = |text: &str| text.split_whitespace().map(str::to_owned).collect::<Vec<_>>();
        let mut expected = words(&fitted(200, &["looked at", "says", "means"], rows()));
        expected.sort();
        for width in [30, 44, 60, 200] {
            let table = fitted(width, &["looked at", "says", "means"], rows());
            let longest = table.lines().map(columns).max().unwrap();
            assert!(longest <= usize::from(width), "{longest} columns of {width}:\n{table}");
            let mut found = words(&table);
            found.sort();
            assert_eq!(found, expected, "{table}");
            assert!(table.contains("20 772"), "{table}");
        }
    }
}
