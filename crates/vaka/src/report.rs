//! The journal as one self-contained page.

use base64ct::{Base64, Encoding};
use maud::{DOCTYPE, Markup, PreEscaped, html};
use plotters::prelude::*;
use vaka_base::checksum::sha256;
use vaka_base::size::Grouped;
use vaka_base::text;

use crate::journal::{Record, UnitHistory, units};
use crate::origin;

const STYLE: &str = include_str!("report.css");

/// Minimum number of bar positions, so that a few bars are not too wide.
const FEWEST: usize = 10;

/// The size of a plot in units of the page.
const PLOT: (u32, u32) = (390, 240);

struct Row {
    attempt: String,
    when: String,
    unit: String,
    product: String,
    file: String,
    outcome: String,
    good: bool,
    check: String,
    after: String,
    bytes: String,
    seconds: String,
    disconnects: String,
    error: String,
}

/// The last state of one unit.
struct UnitRow {
    name: String,
    when: String,
    attempts: usize,
    good: bool,
    state: String,
    version: String,
    pending_undo: String,
}

fn unit_row(unit: &UnitHistory<'_>) -> UnitRow {
    let last = unit.attempts.last();
    let state = last.and_then(|record| record.result().state.as_deref()).unwrap_or("-");
    let version = last.and_then(|record| record.version_after());
    let pending_undo = last.map(|record| record.pending_undo().join("; ")).unwrap_or_default();
    UnitRow {
        name: unit.name(),
        when: last.map(|record| moment(record)).unwrap_or_default(),
        attempts: unit.attempts.len(),
        good: last.is_some_and(|record| record.is_good()) && pending_undo.is_empty(),
        state: match last {
            Some(record) if record.ended.is_none() => "not ended".to_owned(),
            _ => state.replace('-', " "),
        },
        version: version.unwrap_or("-").to_owned(),
        pending_undo,
    }
}

fn moment(record: &Record) -> String {
    record.started.time.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M:%S").to_string()
}

/// The page with a summary, plots and a table. All text is escaped.
///
/// # Errors
/// A plot failed, which is a fault of this program.
pub fn page(records: &[&Record]) -> Result<String, Box<dyn std::error::Error>> {
    let updates: Vec<&Record> = records.iter().copied().filter(|record| !record.is_read()).collect();
    let records = &updates[..];
    let units: Vec<UnitRow> = units(records).iter().map(unit_row).collect();
    let span = match (records.first(), records.last()) {
        (Some(first), Some(last)) if day(first) == day(last) => day(first),
        (Some(first), Some(last)) => format!("{} to {}", day(first), day(last)),
        _ => "no attempt".to_owned(),
    };
    let plots = plots(records)?;
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta http-equiv="Content-Security-Policy" content=(policy());
                meta name="viewport" content="width=device-width";
                title { "Vaka journal, " (span) }
                style { (PreEscaped(STYLE)) }
            }
            body { main {
                h1 { "Firmware updates, " (span) }
                (summary(records, &units))
                (plots)
                h2 { "Units and their last state" }
                (unit_table(&units))
                h2 { "Attempts" }
                (attempt_table(records))
                footer {
                    "Made by vaka " (origin::VERSION) " from the journal on this machine. \"Good\" means exit "
                    "status 0: checked as strongly as requested and possible, and confirmed where the product sheet allows it."
                }
            } }
        }
    };
    Ok(text::visible_lines(&page.into_string()))
}

/// The page may load nothing and run nothing; it has one style. Source: W3C Content Security Policy
/// Level 3, section 2.3.1.
fn policy() -> String {
    let style = Base64::encode_string(&sha256(STYLE));
    format!("default-src 'none'; style-src 'sha256-{style}'; base-uri 'none'; form-action 'none'")
}

fn summary(records: &[&Record], units: &[UnitRow]) -> Markup {
    let good = records.iter().filter(|record| record.is_good()).count();
    let bad = records.len() - good;
    let open = units.iter().filter(|unit| !unit.good).count();
    html! {
        div.summary {
            div { b { (records.len()) } "attempts" }
            div { b.good { (good) } "successful" }
            div { b.bad[bad > 0] { (bad) } "unsuccessful" }
            div { b { (units.len()) } "units" }
            div { b.bad[open > 0] { (open) } "units whose last attempt failed" }
        }
    }
}

fn plots(records: &[&Record]) -> Result<Markup, Box<dyn std::error::Error>> {
    let (phases, rate, outcomes) = (phases(records)?, rate(records)?, outcomes(records)?);
    Ok(html! {
        div.plots {
            figure { (PreEscaped(phases)) (legend(&PHASES)) }
            figure { (PreEscaped(rate)) p { span { "attempts with writes, in order" } } }
            figure { (PreEscaped(outcomes)) (legend(&OUTCOMES)) }
        }
    })
}

/// Names and colours below a plot, where they cover nothing.
fn legend(of: &[(&str, RGBColor)]) -> Markup {
    html! {
        p {
            @for (name, RGBColor(red, green, blue)) in of {
                span {
                    svg viewBox="0 0 10 10" { rect width="10" height="10" fill=(format!("#{red:02x}{green:02x}{blue:02x}")) {} }
                    (name)
                }
            }
        }
    }
}

/// The units; those with pending work come first.
fn unit_table(units: &[UnitRow]) -> Markup {
    let open = units.iter().filter(|unit| !unit.good);
    html! {
        table {
            (heads(&["unit", "last attempt", "attempts", "state", "version", "still to undo"]))
            @for unit in open.chain(units.iter().filter(|unit| unit.good)) {
                tr {
                    td { (unit.name) }
                    td { (unit.when) }
                    td.number { (unit.attempts) }
                    td.good[unit.good].bad[!unit.good] { (unit.state) }
                    td { (unit.version) }
                    td { (unit.pending_undo) }
                }
            }
        }
    }
}

fn attempt_table(records: &[&Record]) -> Markup {
    let names = [
        "started",
        "unit",
        "product",
        "file",
        "outcome",
        "check",
        "after",
        "bytes written",
        "seconds",
        "interrupted",
        "error",
    ];
    html! {
        table {
            (heads(&names))
            @for row in records.iter().rev().map(|record| row(record)) {
                tr {
                    td title=(row.attempt) { (row.when) }
                    td { (row.unit) }
                    td { (row.product) }
                    td { (row.file) }
                    td.good[row.good].bad[!row.good] { (row.outcome) }
                    td { (row.check) }
                    td { (row.after) }
                    td.number { (row.bytes) }
                    td.number { (row.seconds) }
                    td.number { (row.disconnects) }
                    td { (row.error) }
                }
            }
        }
    }
}

fn heads(names: &[&str]) -> Markup {
    html! { tr { @for name in names { th { (name) } } } }
}

fn day(record: &Record) -> String {
    record.started.time.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d").to_string()
}

fn row(record: &Record) -> Row {
    let result = record.result();
    let text = |field: &Option<String>| field.clone().unwrap_or_else(|| "-".to_owned());
    let product = [record.result().product.as_deref(), record.result().variant.as_deref()]
        .into_iter()
        .flatten()
        .collect::<Vec<_>>()
        .join(" ");
    let name = std::path::Path::new(&record.started.file.name).file_name();
    Row {
        attempt: record.attempt.clone(),
        when: moment(record),
        unit: [text(&result.unit)]
            .into_iter()
            .chain(record.serials().into_iter().map(str::to_owned))
            .collect::<Vec<_>>()
            .join(", "),
        disconnects: record.result().disconnects.map_or("-".into(), |count| count.to_string()),
        product,
        file: name.map(|name| name.to_string_lossy().into_owned()).unwrap_or_default(),
        outcome: record.outcome().to_owned(),
        good: record.is_good(),
        check: text(&result.check),
        after: text(&result.after),
        bytes: record.result().bytes_written.map_or("-".into(), |bytes| Grouped(bytes).to_string()),
        seconds: format!("{:.2}", seconds(record)),
        error: record.error().unwrap_or_default().to_owned(),
    }
}

#[allow(clippy::cast_precision_loss)] // for the eye
fn seconds(record: &Record) -> f64 {
    record.durations().iter().map(|(_, ms)| *ms).sum::<u64>() as f64 / 1000.0
}

type ChartResult = Result<String, Box<dyn std::error::Error>>;

const PHASES: [(&str, RGBColor); 9] = [
    ("enter", RGBColor(148, 163, 184)),
    ("read", RGBColor(190, 160, 210)),
    ("compare", RGBColor(56, 132, 160)),
    ("erase", RGBColor(217, 144, 48)),
    ("write", RGBColor(40, 110, 180)),
    ("finish", RGBColor(120, 94, 168)),
    ("read-back", RGBColor(64, 145, 108)),
    ("restart", RGBColor(196, 122, 122)),
    ("confirm", RGBColor(110, 118, 129)),
];

const OUTCOMES: [(&str, RGBColor); 2] =
    [("successful", RGBColor(64, 145, 108)), ("unsuccessful", RGBColor(190, 74, 64))];

/// Time by phase: a stacked bar for each of the last attempts.
#[allow(clippy::cast_precision_loss)] // for the eye
fn phases(records: &[&Record]) -> ChartResult {
    let shown: Vec<&&Record> = records.iter().filter(|record| !record.durations().is_empty()).collect();
    let shown = &shown[shown.len().saturating_sub(40)..];
    let top = shown.iter().map(|record| seconds(record)).fold(0.1, f64::max) * 1.25;
    draw("Time by phase, last attempts", "seconds", shown.len(), top, |chart| {
        for (name, colour) in PHASES {
            let bars = shown.iter().enumerate().filter_map(|(index, record)| {
                let durations = record.durations();
                let of = |wanted: &str| {
                    durations.iter().filter(|(step, _)| step == wanted).map(|(_, ms)| *ms as f64).sum::<f64>() / 1000.0
                };
                let below: f64 =
                    PHASES.iter().take_while(|(other, _)| *other != name).map(|(other, _)| of(other)).sum();
                let here = of(name);
                let x = index as f64;
                (here > 0.0).then(|| Rectangle::new([(x + 0.12, below), (x + 0.88, below + here)], colour.filled()))
            });
            chart.draw_series(bars)?;
        }
        Ok(())
    })
}

/// Write rate by attempt.
#[allow(clippy::cast_precision_loss)] // for the eye
fn rate(records: &[&Record]) -> ChartResult {
    let rate = |record: &&&Record| {
        let ms: u64 = record.durations().iter().filter(|(step, _)| step == "write").map(|(_, ms)| *ms).sum();
        let bytes = record.result().bytes_written?;
        (ms > 0 && bytes > 0).then(|| bytes as f64 / 1.024 / ms as f64)
    };
    let rates: Vec<f64> = records.iter().filter_map(|record| rate(&record)).collect();
    let top = rates.iter().copied().fold(1.0, f64::max) * 1.25;
    let colour = RGBColor(40, 110, 180);
    draw("Write rate by attempt", "KiB/s", rates.len(), top, |chart| {
        let points: Vec<(f64, f64)> =
            rates.iter().enumerate().map(|(index, rate)| (index as f64 + 0.5, *rate)).collect();
        chart.draw_series(LineSeries::new(points.clone(), colour.stroke_width(2)))?;
        chart.draw_series(points.iter().map(|point| Circle::new(*point, 3, colour.filled())))?;
        Ok(())
    })
}

/// Good and other outcomes, day by day.
#[allow(clippy::cast_precision_loss)] // for the eye
fn outcomes(records: &[&Record]) -> ChartResult {
    let mut days: Vec<(String, [usize; 2])> = Vec::new();
    for record in records {
        let day = day(record);
        if days.last().is_none_or(|(last, _)| *last != day) {
            days.push((day, [0, 0]));
        }
        if let Some((_, counts)) = days.last_mut() {
            counts[usize::from(!record.is_good())] += 1;
        }
    }
    let days = &days[days.len().saturating_sub(40)..];
    let top = days.iter().map(|(_, [good, bad])| good + bad).max().unwrap_or(1) as f64 * 1.25;
    draw("Outcomes by day, oldest first", "attempts", days.len(), top, |chart| {
        for (which, (_, colour)) in OUTCOMES.into_iter().enumerate() {
            let bars =
                days.iter().enumerate().filter(|(_, (_, counts))| counts[which] > 0).map(|(index, (_, counts))| {
                    let (x, below) = (index as f64, if which == 0 { 0 } else { counts[0] } as f64);
                    Rectangle::new([(x + 0.12, below), (x + 0.88, below + counts[which] as f64)], colour.filled())
                });
            chart.draw_series(bars)?;
        }
        Ok(())
    })
}

type Chart<'a, 'b> = ChartContext<
    'a,
    SVGBackend<'b>,
    Cartesian2d<plotters::coord::types::RangedCoordf64, plotters::coord::types::RangedCoordf64>,
>;

/// A plot with axes from 0; the caller draws its content.
#[allow(clippy::cast_precision_loss)] // for the eye
fn draw(
    title: &str,
    unit: &str,
    count: usize,
    top: f64,
    fill: impl for<'a, 'b> FnOnce(&mut Chart<'a, 'b>) -> Result<(), Box<dyn std::error::Error>>,
) -> ChartResult {
    let mut svg = String::new();
    {
        let area = SVGBackend::with_string(&mut svg, PLOT).into_drawing_area();
        area.fill(&WHITE)?;
        let mut chart = ChartBuilder::on(&area)
            .caption(title, ("sans-serif", 15))
            .margin(8)
            .x_label_area_size(18)
            .y_label_area_size(48)
            .build_cartesian_2d(0.0..count.max(FEWEST) as f64, 0.0..top)?;
        chart.configure_mesh().disable_x_mesh().x_labels(0).y_labels(5).y_desc(unit).light_line_style(WHITE).draw()?;
        fill(&mut chart)?;
        area.present()?;
    }
    Ok(svg)
}
