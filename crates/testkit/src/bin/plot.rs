//! Draws what the benchmark has measured: the cost of a row against the number of rows, once for light and once for dark pages.
//!
//! `plot FIGURES.jsonl ENGINE WORK TITLE OUT` reads the lines that `bench/bench.py --out` has written, and writes `OUT-light.svg` and
//! `OUT-dark.svg`.

use std::collections::BTreeMap;
use std::error::Error;

use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};

/// Colours of one kind of page.
struct Page {
    name: &'static str,
    ground: RGBColor,
    ink: RGBColor,
    faint: RGBColor,
    /// Ours, and the same by hand.
    lines: [RGBColor; 2],
}

const PAGES: [Page; 2] = [
    Page {
        name: "light",
        ground: RGBColor(255, 255, 255),
        ink: RGBColor(31, 35, 40),
        faint: RGBColor(218, 222, 227),
        lines: [RGBColor(158, 90, 0), RGBColor(30, 96, 145)],
    },
    Page {
        name: "dark",
        ground: RGBColor(13, 17, 23),
        ink: RGBColor(230, 237, 243),
        faint: RGBColor(48, 54, 61),
        lines: [RGBColor(240, 180, 60), RGBColor(110, 175, 230)],
    },
];

/// What is drawn: the case, what it is called, whether it is by hand, and whether its line is broken.
const CASES: [(&str, &str, usize, bool); 4] = [
    ("apply", "apply", 0, false),
    ("full", "by hand", 1, false),
    ("undo", "undo", 0, true),
    ("restore", "restore by hand", 1, true),
];

/// Microseconds a row, by case and by the number of rows.
type Costs = BTreeMap<String, BTreeMap<u64, f64>>;

fn costs(file: &str, engine: &str, work: &str) -> Result<Costs, Box<dyn Error>> {
    let mut all: BTreeMap<(String, u64), Vec<f64>> = BTreeMap::new();
    for line in std::fs::read_to_string(file)?.lines() {
        let line: serde_json::Value = serde_json::from_str(line)?;
        let text = |name: &str| line.get(name).and_then(serde_json::Value::as_str).unwrap_or_default();
        let number = |name: &str| line.get(name).and_then(serde_json::Value::as_f64);
        let (Some(rows), Some(wall)) = (line.get("rows").and_then(serde_json::Value::as_u64), number("wall"))
        else {
            continue;
        };
        if text("engine") == engine && text("work") == work {
            all.entry((text("case").to_owned(), rows)).or_default().push(wall);
        }
    }
    let mut costs = Costs::new();
    for ((case, rows), mut walls) in all {
        walls.sort_by(f64::total_cmp);
        #[expect(clippy::cast_precision_loss, reason = "it is drawn")]
        let each = walls.get(walls.len() / 2).map_or(0.0, |wall| wall * 1e6 / rows as f64);
        costs.entry(case).or_default().insert(rows, each);
    }
    Ok(costs)
}

#[expect(clippy::cast_precision_loss, reason = "it is drawn")]
fn draw(page: &Page, costs: &Costs, title: &str, out: &str) -> Result<(), Box<dyn Error>> {
    let path = format!("{out}-{}.svg", page.name);
    let area = SVGBackend::new(&path, (860, 440)).into_drawing_area();
    area.fill(&page.ground)?;
    let rows = || costs.values().flat_map(BTreeMap::keys).copied();
    let (Some(least), Some(most)) = (rows().min(), rows().max()) else {
        return Err("nothing was measured".into());
    };
    let highest = costs.values().flat_map(BTreeMap::values).copied().fold(0.0, f64::max);
    let font = |size: u32| ("sans-serif", size).into_font().color(&page.ink);
    let mut chart = ChartBuilder::on(&area)
        .caption(title, font(17))
        .margin(14)
        .margin_right(150)
        .x_label_area_size(46)
        .y_label_area_size(58)
        .build_cartesian_2d((least as f64..most as f64).log_scale(), 0.0..highest * 1.1)?;
    chart
        .configure_mesh()
        .axis_style(page.ink)
        .bold_line_style(page.faint)
        .light_line_style(page.ground)
        .label_style(font(13))
        .x_desc("rows")
        .y_desc("microseconds a row")
        .x_label_formatter(&|rows| match *rows {
            n if n >= 1e6 => format!("{} M", n / 1e6),
            n => format!("{} k", n / 1e3),
        })
        .y_label_formatter(&|each| format!("{each:.0}"))
        .draw()?;
    for (case, name, whose, broken) in CASES {
        let Some(points) = costs.get(case) else { continue };
        let colour = page.lines.get(whose).copied().unwrap_or(page.ink);
        let style = colour.stroke_width(2);
        let points: Vec<(f64, f64)> = points.iter().map(|(rows, each)| (*rows as f64, *each)).collect();
        if broken {
            chart.draw_series(DashedLineSeries::new(points.iter().copied(), 7, 5, style))?;
        } else {
            chart.draw_series(LineSeries::new(points.iter().copied(), style))?;
        }
        chart.draw_series(points.iter().map(|at| Circle::new(*at, 3, colour.filled())))?;
        // The name stands at the end of its line, so that no colour has to be told from another.
        if let Some(end) = points.last() {
            let style = ("sans-serif", 13).into_font().color(&colour).pos(Pos::new(HPos::Left, VPos::Center));
            let (x, y) = chart.backend_coord(end);
            area.draw(&Text::new(name, (x + 9, y), style))?;
        }
    }
    area.present()?;
    Ok(())
}

fn main() -> Result<(), Box<dyn Error>> {
    let given: Vec<String> = std::env::args().skip(1).collect();
    let [file, engine, work, title, out] = given.as_slice() else {
        return Err("plot FIGURES.jsonl ENGINE WORK TITLE OUT".into());
    };
    let costs = costs(file, engine, work)?;
    PAGES.iter().try_for_each(|page| draw(page, &costs, title, out))
}
