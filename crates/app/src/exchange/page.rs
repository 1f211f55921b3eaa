//! The page to show, made of what the ledger knows of a card and written as SVG, PDF, Markdown, HTML or plain text.

use std::path::Path;

use jiff::Zoned;
use strum::VariantNames as _;
use yard_step_core::{
    CardDescription, Cost, Fan, Frontier, MOST_VARIANTS, Meaning, Mhz, Percent, Profile,
    ReferenceScore, RunAt, Settings, UseOfIt, Variant, VariantTable, VfCurve, WeighNotes, Weighed,
};
use yard_step_engine::ProfileView;
use yard_step_ledger::Ledger;
use yard_step_report::{Page, PageLook, PagePart, to_pdf, with_font};

use crate::failure::Failure;
use crate::output::write_new;

/// Time in which a card comes up from its idle clock, s: no part of a clock line.
const RISE: f64 = 10.0;
/// Points of a clock line.
const POINTS: usize = 400;

/// What a page is wanted for.
#[derive(Debug, Clone, PartialEq)]
pub struct PageWish {
    /// The settings it is about, as a profile; kept or not.
    pub about: Profile,
    /// Its title; none for the name of the settings.
    pub title: Option<String>,
    /// How it looks.
    pub look: PageLook,
    /// Scores to hold beside, besides those that were noted.
    pub references: Vec<ReferenceScore>,
    /// Hours of use a day; none for what was noted.
    pub hours_a_day: Option<f64>,
    /// Price of a kilowatt-hour with its unit; none for what was noted.
    pub price: Option<(f64, String)>,
}

impl PageWish {
    /// A page about settings, as it looks where nobody says otherwise.
    pub(crate) fn about(profile: Profile) -> Self {
        Self {
            about: profile,
            title: None,
            look: PageLook::default(),
            references: Vec::new(),
            hours_a_day: None,
            price: None,
        }
    }
}

/// Forms of a page, each by the end of its file's name.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, strum::EnumString, strum::VariantNames, strum::IntoStaticStr,
)]
#[strum(serialize_all = "lowercase")]
pub(crate) enum PageForm {
    Svg,
    Pdf,
    #[strum(to_string = "md", serialize = "markdown")]
    Md,
    Html,
    #[strum(to_string = "txt", serialize = "text")]
    Txt,
}

impl PageForm {
    /// The form that a file's name says.
    pub(crate) fn of(path: &Path) -> Result<Self, String> {
        let end = path.extension().and_then(|end| end.to_str()).unwrap_or_default();
        end.to_lowercase().parse().map_err(|_| {
            format!("{}: the file of a page ends in .svg, .pdf, .md, .html or .txt", path.display())
        })
    }

    /// The page in this form.
    pub(crate) fn bytes(self, page: &Page, look: &PageLook) -> Result<Vec<u8>, Failure> {
        Ok(match self {
            Self::Svg => with_font(&page.to_svg(look)).into_bytes(),
            Self::Pdf => to_pdf(&page.to_svg(look))?,
            Self::Md => page.to_markdown(look).into_bytes(),
            Self::Html => page.to_html(look).into_bytes(),
            Self::Txt => page.to_text().into_bytes(),
        })
    }
}

/// Reads the name of a part.
pub(crate) fn part(name: &str) -> Result<PagePart, String> {
    let all = PagePart::VARIANTS.join(", ");
    name.parse().map_err(|_| format!("there is no part \"{name}\"; there are: {all}"))
}

/// Writes a page into a new file; returns what there is to say, or why it was not written.
pub(crate) fn write_page(
    ledger: &Ledger,
    card: &CardDescription,
    wish: &PageWish,
    path: &Path,
) -> Result<String, String> {
    let form = PageForm::of(path)?;
    let made = page(ledger, card, wish).and_then(|page| form.bytes(&page, &wish.look));
    let bytes = made.map_err(|failure| failure.text().to_owned())?;
    write_new(path, &bytes)?;
    Ok(format!("The page is in {}.", path.display()))
}

/// The settings a page puts side by side: stock, those it is about, the trials that were put there, and the card's other
/// profiles.
fn variants(
    ledger: &Ledger,
    card: &CardDescription,
    about: &Profile,
    notes: &WeighNotes,
) -> Result<Vec<Variant>, Failure> {
    let of = |name: &str, settings: Settings, failed: bool| {
        let moved = settings.moved_but_fan(card);
        let what = if moved.is_empty() { "stock".into() } else { moved.join(", ") };
        Variant { name: name.to_owned(), settings, what, failed }
    };
    let mut variants = vec![of("stock", Settings::stock(card), false)];
    let others = ProfileView::all(ledger, card).map_err(Failure::failed)?;
    let own = others.iter().find(|view| view.profile.settings == about.settings);
    let failed = own.is_some_and(|view| view.backing.failed.is_some());
    if !about.settings.moved_but_fan(card).is_empty() {
        let name = if about.name.is_empty() { "these settings" } else { &about.name };
        variants.push(of(name, about.settings, failed));
    }
    let mut add = |name: &str, settings: Settings, failed: bool| {
        let same = |variant: &Variant| variant.settings.is_but_for_fan(&settings);
        if variants.len() < MOST_VARIANTS && !variants.iter().any(same) {
            variants.push(of(name, settings, failed));
        }
    };
    let ran = if notes.trials.is_empty() { Vec::new() } else { ledger.weighed(card)? };
    for (climb, trial) in &notes.trials {
        // One that was deleted has nothing to show.
        let Some(run) = ran.iter().find(|run| (run.climb, run.trial) == (*climb, *trial)) else {
            continue;
        };
        let failed = |other: &Weighed| {
            other.asked.is_but_for_fan(&run.asked) && other.verdict.meaning() == Meaning::TooMuch
        };
        let name = format!("trial {trial} of climb {climb}");
        add(&name, run.asked, ran.iter().any(failed));
    }
    for view in &others {
        let failed = view.backing.failed.is_some();
        add(&view.profile.name, view.profile.settings, failed);
    }
    Ok(variants)
}

/// The settings side by side, as far as they ran.
pub(crate) fn side_by_side(
    ledger: &Ledger,
    card: &CardDescription,
    about: &Profile,
    notes: &WeighNotes,
) -> Result<(VariantTable, Vec<Vec<RunAt>>), Failure> {
    let variants = variants(ledger, card, about, notes)?;
    let runs: Vec<Vec<RunAt>> = variants
        .iter()
        .map(|variant| ledger.runs_at(card, &variant.settings))
        .collect::<Result<_, _>>()?;
    Ok((VariantTable::of(variants, &runs), runs))
}

/// The page.
pub(crate) fn page(
    ledger: &Ledger,
    card: &CardDescription,
    wish: &PageWish,
) -> Result<Page, Failure> {
    let notes = ledger.weigh_notes(card)?;
    let (table, runs) = side_by_side(ledger, card, &wish.about, &notes)?;
    let about = usize::from(
        table.variants.len() > 1 && !wish.about.settings.moved_but_fan(card).is_empty(),
    );
    let view = ProfileView::standing(ledger, card, wish.about.clone()).map_err(Failure::failed)?;
    let experience = ledger.experience(card)?;
    let (clock_load, clock_lines) = clock_lines(ledger, &table, &runs, about)?;
    let name = if wish.about.name.is_empty() { "these settings" } else { &wish.about.name };
    let frontier = frontier(ledger, card, table.loads.first())?;
    let title = wish.title.clone().unwrap_or_else(|| format!("{}: {name}", card.name));
    Ok(Page {
        title,
        facts: facts(ledger, card, &table)?,
        changed: wish.about.settings.moved_from_stock(card),
        table,
        about,
        references: notes.references.into_iter().chain(wish.references.clone()).collect(),
        clock_lines,
        clock_load,
        frontier,
        curves: curves(card, &wish.about.settings, name),
        fan: match wish.about.settings.fan {
            Some(Fan::Curve(curve)) => Some(curve),
            _ => None,
        },
        assurance: view.assurance(&experience, card),
        proof: view.why(),
        use_of_it: UseOfIt {
            hours_a_day: wish.hours_a_day.unwrap_or(notes.use_of_it.hours_a_day),
            price: wish.price.clone().or(notes.use_of_it.price),
        },
    })
}

/// Work against power of everything that ran under a load.
fn frontier(
    ledger: &Ledger,
    card: &CardDescription,
    load: Option<&String>,
) -> Result<Option<(String, Frontier)>, Failure> {
    let Some(load) = load else { return Ok(None) };
    let mut runs = ledger.weighed(card)?;
    runs.retain(|run| run.load == *load);
    let frontier = Frontier::of(&runs, card, Cost::Watts, None);
    Ok((!frontier.points.is_empty()).then(|| (load.clone(), frontier)))
}

/// The card's own V/F curve beside the one it is asked for, where that is another.
fn curves(card: &CardDescription, settings: &Settings, name: &str) -> Vec<(String, VfCurve)> {
    let own = card.curve.as_ref().map(|offer| offer.factory);
    match (own, settings.curve) {
        (Some(own), Some(asked)) if own != asked => {
            vec![("stock".into(), own), (name.to_owned(), asked)]
        }
        _ => Vec::new(),
    }
}

fn facts(
    ledger: &Ledger,
    card: &CardDescription,
    table: &VariantTable,
) -> Result<Vec<String>, Failure> {
    let machine = ledger.machine()?;
    let mut facts = vec![
        format!("{}, unit {}", card.name, card.serial),
        machine.memory_of(card).0,
        format!("driver {}", card.driver),
    ];
    facts.extend(machine.room.map(|room| format!("room {:.0} °C", room.ambient.value())));
    facts.push(format!("scatter of a run {:.1} %", table.scatter_percent));
    facts.push(Zoned::now().strftime("%Y-%m-%d").to_string());
    facts.push(format!("Yard Step {}", env!("CARGO_PKG_VERSION")));
    Ok(facts)
}

type ClockLines = (String, Vec<(String, Vec<(f64, Mhz)>)>);

/// Clock lines of stock and of the settings a page is about, under the first load that both ran for long enough.
fn clock_lines(
    ledger: &Ledger,
    table: &VariantTable,
    runs: &[Vec<RunAt>],
    about: usize,
) -> Result<ClockLines, Failure> {
    for load in &table.loads {
        let mut lines = Vec::new();
        let mut places = vec![0];
        places.extend((about > 0).then_some(about));
        for place in places.iter().copied() {
            let ran = runs[place].iter().filter(|run| {
                run.load == *load && run.verdict.is_without_fault() && run.seconds.value() >= 60.0
            });
            let Some(newest) = ran.max_by_key(|run| run.row) else { continue };
            let line = clock_line(ledger, newest)?;
            if !line.is_empty() {
                lines.push((table.variants[place].name.clone(), line));
            }
        }
        if lines.len() == places.len() {
            // As long as the shorter of both.
            let ends = lines.iter().filter_map(|(_, line)| line.last().map(|(at, _)| *at));
            let end = ends.fold(f64::INFINITY, f64::min);
            lines.iter_mut().for_each(|(_, line)| line.retain(|(at, _)| *at <= end));
            return Ok((load.clone(), lines));
        }
    }
    Ok((table.loads.first().cloned().unwrap_or_default(), Vec::new()))
}

/// The clock of a run over time, averaged so that it has few points.
fn clock_line(ledger: &Ledger, run: &RunAt) -> Result<Vec<(f64, Mhz)>, Failure> {
    let samples = ledger.samples(run.row)?;
    let readings: Vec<(f64, f64)> = samples
        .iter()
        .filter(|sample| sample.at.value() >= RISE)
        .filter(|sample| sample.load.is_none_or(|load| load > Percent(30.0)))
        .filter_map(|sample| Some((sample.at.value(), sample.core_clock?.value())))
        .collect();
    let chunk = readings.len().div_ceil(POINTS).max(1);
    let mean = |part: &[(f64, f64)]| {
        let count = part.len().max(1) as f64;
        let clock = part.iter().map(|(_, clock)| clock).sum::<f64>() / count;
        part.first().map(|(at, _)| (*at, Mhz(clock)))
    };
    Ok(readings.chunks(chunk).filter_map(mean).collect())
}
