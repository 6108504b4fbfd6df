//! What a column's values were and become, drawn as two rows of bars over one axis.

use marktwice_core::totals::Spread;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};

/// Bars of each side.
const BARS: usize = 32;
/// Fewer rows than these are read and not drawn.
const FEWEST: u64 = 20;

/// Width and height of a side's bars, and what stands around them.
const WIDE: i32 = 640;
const HIGH: i32 = 62;
const LEFT: i32 = 64;

/// The drawing, where there is enough to draw. Its colours are those of the page, whichever that is.
pub(super) fn spread(spread: &Spread, name: &str) -> Option<String> {
    if spread.of < FEWEST || spread.pairs.is_empty() {
        return None;
    }
    let all = || spread.pairs.iter().flat_map(|(was, becomes)| [*was, *becomes]);
    let (least, most) = (all().fold(f64::INFINITY, f64::min), all().fold(f64::NEG_INFINITY, f64::max));
    let wide = most - least;
    if !wide.is_finite() || wide <= 0.0 {
        return None;
    }
    let mut sides = [[0u32; BARS]; 2];
    for (was, becomes) in &spread.pairs {
        for (side, value) in sides.iter_mut().zip([was, becomes]) {
            #[expect(
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "between 0 and the number of bars"
            )]
            let at = (((value - least) / wide * BARS as f64) as usize).min(BARS - 1);
            if let Some(bar) = side.get_mut(at) {
                *bar += 1;
            }
        }
    }
    let mut svg = String::new();
    drawn(&mut svg, &sides, (least, most)).ok()?;
    let said = format!("What {name} is before and after, from {} to {}", text(least), text(most));
    // Colours are given by class where the page is known; the drawing itself has but three.
    let svg = svg
        // Within a page it needs no name of its own kind.
        .replace(" xmlns=\"http://www.w3.org/2000/svg\"", "")
        .replace(&colour(WAS), "var(--was)")
        .replace(&colour(IS), "var(--is)")
        .replace(&colour(INK), "var(--soft)");
    let svg = svg.replacen("<svg ", &format!("<svg role=\"img\" aria-label=\"{}\" ", escaped(&said)), 1);
    Some(svg)
}

const WAS: RGBColor = RGBColor(1, 2, 3);
const IS: RGBColor = RGBColor(4, 5, 6);
const INK: RGBColor = RGBColor(7, 8, 9);

fn colour(RGBColor(r, g, b): RGBColor) -> String {
    format!("#{r:02X}{g:02X}{b:02X}")
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;")
}

/// A number as it stands under an axis.
fn text(number: f64) -> String {
    let rounded: f64 = format!("{number:.3}").parse().unwrap_or(number);
    if rounded.abs() < 1e15 { format!("{rounded}") } else { format!("{number:e}") }
}

fn drawn(
    svg: &mut String,
    sides: &[[u32; BARS]; 2],
    (least, most): (f64, f64),
) -> Result<(), Box<dyn std::error::Error>> {
    let (across, down) = (LEFT + WIDE + 20, 2 * HIGH + 40);
    let area = SVGBackend::with_string(svg, (across.unsigned_abs(), down.unsigned_abs())).into_drawing_area();
    let font = |hpos| ("sans-serif", 15).into_font().color(&INK).pos(Pos::new(hpos, VPos::Center));
    let highest = sides.iter().flatten().copied().max().unwrap_or(1).max(1);
    let bar = WIDE / i32::try_from(BARS)?;
    for (at, (side, (name, style))) in (0..).zip(sides.iter().zip([("before", WAS), ("after", IS)])) {
        let ground = 8 + (at + 1) * HIGH + at * 6;
        area.draw(&Text::new(name, (LEFT - 10, ground - 10), font(HPos::Right)))?;
        for (nth, count) in (0..).zip(side) {
            if *count == 0 {
                continue;
            }
            let high =
                i32::try_from(u64::from(*count) * u64::from((HIGH - 8).unsigned_abs()) / u64::from(highest))?
                    .max(1);
            let x = LEFT + nth * bar;
            area.draw(&Rectangle::new([(x, ground - high), (x + bar - 2, ground)], style.filled()))?;
        }
        area.draw(&PathElement::new(vec![(LEFT, ground), (LEFT + WIDE, ground)], INK.stroke_width(1)))?;
    }
    let under = 8 + 2 * HIGH + 6 + 14;
    area.draw(&Text::new(text(least), (LEFT, under), font(HPos::Left)))?;
    area.draw(&Text::new(text(most), (LEFT + WIDE, under), font(HPos::Right)))?;
    area.present()?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use marktwice_core::Value;
    use marktwice_core::totals::Totals;

    use super::*;

    fn of(values: impl Iterator<Item = (Value, Value)>) -> Option<String> {
        let mut totals = Totals::new([0]);
        values.for_each(|(was, becomes)| totals.add(&[was], &[becomes]));
        totals.finish(|_| "price".to_owned()).first().and_then(|t| spread(&t.spread, "a <b> & \"c\""))
    }

    #[test]
    fn is_drawn_where_there_is_enough() {
        let some = |n: i64| (0..n).map(|i| (Value::Int(i), Value::Int(i * 2 + 1)));
        assert_eq!(of(some(19)), None);
        let svg = of(some(20)).expect("a drawing");
        assert!(svg.starts_with("<svg role=\"img\" aria-label=\"What a &lt;b> &amp; &quot;c&quot; is before and after, from 0 to 39\""));
        for part in ["var(--was)", "var(--is)", ">\nbefore\n<", ">\nafter\n<", "</svg>"] {
            assert!(svg.contains(part), "{part} in {svg}");
        }
        assert!(!svg.contains("#010203") && !svg.contains("NaN"), "{svg}");
        let odd = (0..30).map(|i| (Value::Real(f64::MAX), Value::Real(-f64::MAX / f64::from(i + 1))));
        assert!(of(odd).is_none_or(|svg| !svg.contains("inf")));
    }
}
