//! A soak as SVG: rows of loads over time, hot spot as shade, faults as marks, and what each row proves at its end.
//!
//! ```text
//!   title, what it came to
//!   kiln      ▓▓▓        ▓▓▓▓▓      1 h 20 min without a fault, < 2.3 /h
//!   doldrums      ░░░░        ░░▲   …
//!             0 h      1 h
//! ```

use plotters::prelude::*;
use yard_step_core::{CardDescription, Celsius, LoadKind, SPANS, Soaked};

use crate::ReportError;
use crate::chart::{FAINT, INK};
use crate::font::{FONT, in_any_fixed_width};
use crate::frontier::broken;
use crate::svg::cut;

const WIDTH: u32 = 1_200;
/// Height of the head, of a row, and of what stands below the rows.
const HEAD: i32 = 110;
const ROW: i32 = 34;
const FOOT: i32 = 120;
/// Where the rows begin and end.
const LEFT: i32 = 170;
const RIGHT: i32 = 830;
const BAD: RGBColor = RGBColor(190, 60, 60);
const VOID: RGBColor = RGBColor(200, 204, 208);
/// Coolest and hottest shade, and their hot spots, °C.
const SHADES: ((f64, RGBColor), (f64, RGBColor)) =
    ((40.0, RGBColor(206, 228, 230)), (95.0, RGBColor(10, 62, 70)));
/// Characters of a load's name.
const MOST_NAME: usize = 16;
/// Characters of a line.
const COLUMNS: usize = 130;

/// Draws a soak as SVG.
///
/// # Errors
/// The chart cannot be drawn.
pub fn draw_soak(card: &CardDescription, soaked: &Soaked) -> Result<String, ReportError> {
    let mut svg = String::new();
    draw(&mut svg, card, soaked).map_err(|error| ReportError::Chart(error.to_string()))?;
    Ok(in_any_fixed_width(&svg))
}

fn draw(
    svg: &mut String,
    card: &CardDescription,
    soaked: &Soaked,
) -> Result<(), Box<dyn std::error::Error>> {
    let rows = soaked.soak.loads.len() as i32;
    let height = HEAD + ROW * rows + FOOT;
    let root = SVGBackend::with_string(svg, (WIDTH, height as u32)).into_drawing_area();
    root.fill(&WHITE)?;
    let text = |size: i32| (FONT, size).into_font().color(&INK);
    let title = format!("{} · unit {} · soak of {}", card.name, card.serial, soaked.soak.of);
    root.draw_text(&title, &text(22), (30, 20))?;
    for (index, line) in broken(&yard_step_words::soaked(soaked), COLUMNS).into_iter().enumerate() {
        root.draw_text(&line, &text(14), (30, 56 + 18 * index as i32))?;
    }
    let total = soaked.spent.value().max(600.0);
    let x = |at: f64| LEFT + ((at / total).clamp(0.0, 1.0) * f64::from(RIGHT - LEFT)) as i32;
    for (place, load) in soaked.soak.loads.iter().enumerate() {
        let top = HEAD + ROW * place as i32;
        root.draw_text(&cut(&load.name(), MOST_NAME), &text(14), (30, top + 8))?;
        root.draw(&PathElement::new(vec![(LEFT, top + ROW - 4), (RIGHT, top + ROW - 4)], FAINT))?;
        for run in soaked.runs.iter().filter(|run| run.place == Some(place)) {
            let (from, to) = (x(run.began.value()), x((run.began + run.seconds).value()));
            let told = run.verdict.is_fault() || run.verdict.is_without_fault();
            let colour = if told { shade(run.hottest) } else { VOID };
            let bar = [(from, top + 4), (to.max(from + 1), top + ROW - 8)];
            root.draw(&Rectangle::new(bar, colour.filled()))?;
            if run.verdict.is_fault() {
                let mark = vec![(to - 6, top + ROW - 6), (to + 6, top + ROW - 6), (to, top + 2)];
                root.draw(&Polygon::new(mark, BAD.filled()))?;
            }
        }
        root.draw_text(&figures(soaked, load.main_kind()), &text(13), (RIGHT + 14, top + 9))?;
    }
    let axis = HEAD + ROW * rows + 4;
    let hours = total / 3_600.0;
    let step = [0.25, 0.5, 1.0, 2.0, 4.0, 8.0, 24.0, 48.0, 168.0]
        .into_iter()
        .find(|step| hours / step <= 10.0)
        .unwrap_or(336.0);
    let mut at = 0.0;
    while at <= hours + 1e-9 {
        root.draw_text(&format!("{at} h"), &text(12), (x(at * 3_600.0), axis))?;
        at += step;
    }
    let foot = [
        yard_step_words::believed(&soaked.assurance),
        yard_step_words::to_raise(&soaked.assurance, SPANS[0].1),
        "At the end of a row: time without a fault, and the rate of faults that it excludes with 95 %. The darker, the hotter.".into(),
    ];
    for (index, line) in foot.iter().enumerate() {
        root.draw_text(line, &text(13), (30, axis + 30 + 20 * index as i32))?;
    }
    root.present()?;
    Ok(())
}

fn shade(hottest: Option<Celsius>) -> RGBColor {
    let ((low, cool), (high, hot)) = SHADES;
    let share = hottest.map_or(0.0, |at| ((at.value() - low) / (high - low)).clamp(0.0, 1.0));
    let mix = |a: u8, b: u8| (f64::from(a) + (f64::from(b) - f64::from(a)) * share) as u8;
    RGBColor(mix(cool.0, hot.0), mix(cool.1, hot.1), mix(cool.2, hot.2))
}

fn figures(soaked: &Soaked, kind: LoadKind) -> String {
    match soaked.assurance.bound(kind) {
        None => "not run".into(),
        Some(bound) => {
            let clean = soaked.assurance.exposure().clean(kind).in_words();
            format!("{clean}, < {bound:.2} faults an hour")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yard_step_card::{Card, CardChoice};
    use yard_step_core::{
        Assurance, Exposure, Goal, OnFault, ProofRun, Seconds, Settings, Soak, SoakEnd, SoakRun,
        Verdict,
    };

    #[test]
    fn every_load_has_its_row_and_a_fault_its_mark() {
        let card = CardChoice::all()[0].open(3, 0).unwrap().description().clone();
        let soak = Soak {
            settings: Settings::stock(&card),
            of: "profile \"a name of forty characters, no more of it\"".into(),
            loads: Soak::usual_loads(),
            goal: Goal::Hours(1.0),
            on_fault: OnFault::Stop,
            reserve: 0,
            after: 0,
            before: Exposure::default(),
            claim: None,
            ended: false,
            check: None,
        };
        let mut exposure = Exposure::default();
        let seconds = Seconds(600.0);
        exposure.add(&ProofRun {
            load: "kiln",
            mean_load: None,
            is_cold: false,
            seconds,
            failed: true,
        });
        let run = |place, verdict| SoakRun {
            trial: 1,
            place: Some(place),
            began: Seconds(600.0 * place as f64),
            seconds,
            verdict,
            hottest: Some(Celsius(80.0)),
        };
        let soaked = Soaked {
            at: soak.settings,
            stands: soak.settings,
            assurance: Assurance::new(exposure, &soak.shares(), None, (0.06, 80.0)),
            runs: vec![run(0, Verdict::Artifacts), run(1, Verdict::Clean), run(2, Verdict::Void)],
            counts: vec![1; 7],
            faults: Vec::new(),
            spent: Seconds(1_800.0),
            end: Some(SoakEnd::Failed),
            soak,
        };
        let svg = draw_soak(&card, &soaked).unwrap();
        for text in ["kiln", "squall, cold", "not run", "faults an hour", "Believed to hold"] {
            assert!(svg.contains(text), "{text} is missing");
        }
        assert_eq!(svg.matches("<polygon").count(), 1, "one fault");
        assert!(crate::to_pdf(&svg).unwrap().starts_with(b"%PDF"));
    }
}
