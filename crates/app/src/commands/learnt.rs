//! `yard-step learnt`: what earlier climbs have taught of each kind of card, and how to have it forgotten.

use std::fmt::Write as _;

use clap::Args;
use serde::Serialize;
use yard_step_core::{Domain, Experience};
use yard_step_ledger::{KindExperience, Ledger};

use crate::failure::Failure;
use crate::opening::open_ledger;
use crate::options::DataDirOption;
use crate::output::{json, note, print};

#[derive(Debug, Args)]
pub(crate) struct LearntOptions {
    /// Have future climbs ignore the climbs made so far on this kind of card, such as "Tarn 310"
    #[arg(long, value_name = "KIND", conflicts_with = "forget_all")]
    pub forget: Option<String>,
    /// The same for every kind of card
    #[arg(long)]
    pub forget_all: bool,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

/// What is known of a kind of card, as JSON.
#[derive(Serialize)]
struct Known {
    kind: String,
    climbs: usize,
    climbs_on_other_kinds: usize,
    core: Of,
    memory: Of,
    machine_down_share: f64,
    hours_to_unrelated_fault: f64,
}

/// What is expected of one domain, percent of its clock.
#[derive(Serialize)]
struct Of {
    edge_percent: f64,
    edge_spread_percent: f64,
    e_fold_percent: f64,
    e_fold_low_percent: f64,
    e_fold_high_percent: f64,
}

impl Of {
    fn new(experience: &Experience, domain: Domain) -> Self {
        let expected = experience.expectation(domain);
        Self {
            edge_percent: expected.edge_percent.0,
            edge_spread_percent: expected.edge_percent.1,
            e_fold_percent: expected.e_fold_percent.0,
            e_fold_low_percent: expected.e_fold_percent.1,
            e_fold_high_percent: expected.e_fold_percent.2,
        }
    }
}

pub(crate) fn learnt(dir: &DataDirOption, options: &LearntOptions) -> Result<(), Failure> {
    let (ledger, told) = open_ledger(&dir.resolve()?)?;
    told.iter().for_each(|told| note(told));
    if options.forget_all || options.forget.is_some() {
        return forget(&ledger, options.forget.as_deref());
    }
    let known = ledger.experiences()?;
    if options.json {
        let known: Vec<Known> = known.iter().map(as_known).collect();
        return print(&json(&known)?);
    }
    print(&table(&known))
}

fn as_known(KindExperience { kind, experience }: &KindExperience) -> Known {
    Known {
        kind: kind.clone(),
        climbs: experience.climbs,
        climbs_on_other_kinds: experience.others,
        core: Of::new(experience, Domain::Core),
        memory: Of::new(experience, Domain::Memory),
        machine_down_share: experience.machine_down_share(),
        hours_to_unrelated_fault: experience.hours_to_unrelated_fault(),
    }
}

fn forget(ledger: &Ledger, kind: Option<&str>) -> Result<(), Failure> {
    let any = ledger.forget(kind)?;
    if let Some(kind) = kind.filter(|_| !any) {
        let known: Vec<String> =
            ledger.experiences()?.into_iter().map(|known| known.kind).collect();
        return Err(Failure::usage(match known.is_empty() {
            true => {
                format!("nothing was learnt of \"{kind}\": no climb in the ledger to learn from")
            }
            false => format!("nothing was learnt of \"{kind}\"; there are: {}", known.join(", ")),
        }));
    }
    let what = kind.map_or_else(|| "any card".to_owned(), |kind| format!("a {kind}"));
    print(&format!(
        "Future climbs on {what} will not use the climbs made so far. Climbs that have begun do not change.\n"
    ))
}

fn table(known: &[KindExperience]) -> String {
    if known.is_empty() {
        return "Nothing was learnt yet: the first climb on a kind of card begins with general assumptions.\n".into();
    }
    let mut text = String::new();
    for KindExperience { kind, experience } in known {
        let from = yard_step_words::learnt_from(experience).unwrap_or_default();
        let _ = writeln!(text, "{kind}: {from}");
        for domain in [Domain::Core, Domain::Memory] {
            let edge = yard_step_words::expected_edge(experience, domain);
            let e_fold = yard_step_words::expected_e_fold(experience, domain);
            let _ = writeln!(text, "  {:<8} edge {edge}, e-fold {e_fold}", domain.label());
        }
        let _ = writeln!(
            text,
            "  faults   {:.1} % of those near the edge take the machine down; one unrelated to the settings every {:.0} h",
            experience.machine_down_share() * 100.0,
            experience.hours_to_unrelated_fault()
        );
    }
    text += "\nedge: where one fault a day is to be expected, above the clock at stock, ± standard deviation.\n\
             e-fold: clock in which faults become 2.7 times as frequent, in percent of the clock at stock: median, and the range \
             that holds in eight of ten cards.\n";
    text
}
