//! Why a trial comes next, why none can, and what it may do: as data. The crate `words` makes
//! sentences of it.

use crate::card::description::SettingKind;
use crate::climb::record::Stage;
use crate::judge::verdict::Verdict;
use crate::load::artifact::Domain;
use crate::machine::supply::SupplyHeadroom;
use crate::proof::soak::SoakWhy;
use crate::units::{Mhz, Seconds};

/// A setting's value as its scale shows it, such as `+120 MHz` or `−50 mV`.
pub type Shown = String;

/// Why a trial is proposed.
#[derive(Debug, Clone, PartialEq)]
pub enum Reason {
    /// The first baseline run.
    BaselineFirst {
        /// Runs wanted.
        runs: u32,
        /// Longest warm-up before it.
        warm_up: Seconds,
        /// The load, where the climb has several.
        load: Option<String>,
    },
    /// One more baseline run.
    BaselineNext {
        /// Runs that count.
        done: usize,
        /// Runs wanted.
        runs: u32,
        /// The load, where the climb has several.
        load: Option<String>,
    },
    /// A baseline run again, since the newest does not count.
    BaselineAgain {
        /// Number of that trial.
        trial: u32,
        /// Its verdict.
        verdict: Verdict,
        /// Runs that count.
        done: usize,
        /// Runs wanted.
        runs: u32,
        /// The load, where the climb has several.
        load: Option<String>,
    },
    /// One run at a power limit beyond the maker's, on the way to the highest.
    BeyondMakers {
        /// The power limit, as the card counts it.
        limit: Shown,
        /// The maker's highest.
        makers: Shown,
        /// The highest that is in force.
        highest: Shown,
    },
    /// What the raised limits alone bring.
    LimitsRaised {
        /// Each raised limit with its value.
        limits: Vec<Shown>,
        /// Runs there that count.
        done: usize,
        /// Runs wanted.
        runs: u32,
        /// Whether higher limits have failed.
        is_halved: bool,
        /// The load, where the climb has several.
        load: Option<String>,
    },
    /// What was found, run as it is before it is settled.
    SettleFrom,
    /// One setting a step down, to settle.
    SettleStep {
        /// Which.
        what: SettingKind,
        /// From where.
        from: Shown,
        /// To where.
        to: Shown,
        /// Score lost so far, percent.
        lost_percent: f64,
        /// Score that may be lost, percent.
        permitted_percent: f64,
    },
    /// What settling came to, proven with its own fan.
    SettleProof {
        /// What it moves.
        at: String,
        /// By how much hotter the core is than where it was found, K.
        hotter: f64,
        /// Length of the run.
        length: Seconds,
    },
    /// What was found, under another load.
    CrossCheck {
        /// The settings.
        at: Shown,
        /// The load.
        load: String,
        /// Length of the run.
        length: Seconds,
        /// The run under one of those loads that failed at bolder settings: its number, its load and its verdict.
        after: Option<(u32, String, Verdict)>,
    },
    /// A step up from what held.
    StepUp {
        /// Boldest value that held.
        from: Shown,
        /// Mildest that failed, and how.
        failed: Option<(Shown, Verdict)>,
        /// How large the step is.
        size: StepSize,
        /// Value to be tried.
        to: Shown,
    },
    /// A step on the way to a value that was said to hold.
    TowardsKnown {
        /// That value.
        known: Shown,
        /// Value to be tried.
        at: Shown,
    },
    /// A long run at what held.
    Confirm {
        /// Value to be confirmed.
        at: Shown,
        /// What ended the steps up.
        above: Above,
        /// Length of the run.
        length: Seconds,
    },
    /// A run at what is kept once the margin is taken off.
    Settle {
        /// Value confirmed.
        confirmed: Shown,
        /// How long it held.
        held_for: Seconds,
        /// Fine steps taken off.
        fine_steps: i32,
        /// Value kept.
        at: Shown,
    },
    /// The most informative trial per minute.
    Informative {
        /// Chance of a fault, 0 to 1.
        fault: f64,
        /// Chance that the machine goes down, 0 to 1.
        machine_down: f64,
        /// Where the edge is believed, with 90 %; none where two edges are looked for at once.
        edge: Option<(Shown, Shown)>,
        /// What holds so far, where two edges are looked for at once.
        holds: Option<Shown>,
    },
    /// A run that measures what is believed to hold.
    Measure {
        /// The value.
        at: Shown,
        /// What it is to hold for, where that is told.
        purpose: Option<&'static str>,
        /// Length of the run.
        length: Seconds,
    },
    /// A fault on which the outcome hangs, once more.
    Doubted {
        /// The trial that failed.
        trial: u32,
        /// Its value.
        at: Shown,
    },
    /// The same again after a trial that proves nothing.
    Again {
        /// Number of that trial.
        trial: u32,
        /// Its verdict.
        verdict: Verdict,
        /// The value.
        at: Shown,
    },
    /// The same again, since its gain is not clear of the noise.
    GainUnclear {
        /// The value.
        at: Shown,
        /// Its gain over stock, percent.
        gain_percent: f64,
        /// Standard error of that, percent.
        error_percent: f64,
        /// The smallest gain that counts, percent.
        least_percent: f64,
    },
    /// Both clocks as found, together.
    BothTogether {
        /// Both values.
        at: Shown,
        /// Length of the run.
        length: Seconds,
    },
    /// Which of the two was it, with one of them back at stock.
    WhichOne {
        /// The trial that failed.
        trial: u32,
        /// Its verdict.
        verdict: Verdict,
        /// The one that stays raised.
        raised: Domain,
    },
    /// Which settings was it, with some of them back at stock.
    Isolating {
        /// The trial that failed.
        trial: u32,
        /// Its verdict.
        verdict: Verdict,
        /// Those that stay as they were.
        kept: Vec<SettingKind>,
        /// Those that go back to stock.
        back: Vec<SettingKind>,
    },
    /// The first of some settings that are compared.
    CompareFirst {
        /// What it is.
        what: Shown,
    },
    /// The next of them.
    CompareNext {
        /// What it is.
        what: Shown,
        /// How many are left, this one included.
        left: usize,
    },
    /// One of two again, since it is not clear which is better.
    CompareAgain {
        /// The better one so far.
        better: Shown,
        /// By how much, percent.
        gain_percent: f64,
        /// What it is compared with.
        than: Shown,
        /// The one that runs again.
        again: Shown,
    },
    /// What a strategy keeps, under another power limit.
    OtherLimit {
        /// What it keeps.
        at: Shown,
        /// Why another limit.
        why: OtherLimit,
        /// That limit.
        limit: Shown,
        /// Length of the run.
        length: Seconds,
    },
    /// As `0` says, with the voltage at its ceiling.
    AtFullVoltage(Box<Reason>),
    /// As `0` says, with the clock held at `1`.
    HoldingClock(Box<Reason>, Mhz),
    /// The user moved a value of what was proposed.
    YourNudge {
        /// The value.
        to: Shown,
    },
    /// Settings of the user's own.
    YourSettings {
        /// What differs from stock.
        moved: Vec<Shown>,
    },
    /// A run of a soak.
    Soak {
        /// Whose settings it proves.
        of: String,
        /// The load.
        load: String,
        /// Length of the run.
        length: Seconds,
        /// How long the card idles before it, so that it begins cold.
        rest: Seconds,
        /// Why this load.
        why: SoakWhy,
        /// The newest fault, after which the settings went back a step: its trial, its load and its verdict.
        after: Option<(u32, String, Verdict)>,
    },
    /// What one of the kept settings brings, by leaving it out.
    LeftOut {
        /// Its name.
        what: &'static str,
    },
}

/// How large a step up is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StepSize {
    /// The first step of all, where the plan gives it.
    First,
    /// A coarse step.
    Coarse,
    /// A fine step.
    Fine,
    /// Halfway between what held and what failed.
    Half,
}

/// What ended the steps up.
#[derive(Debug, Clone, PartialEq)]
pub enum Above {
    /// A failure.
    Failed {
        /// Boldest value that held.
        floor: Shown,
        /// Mildest that failed.
        at: Shown,
        /// In which trial.
        trial: u32,
        /// How.
        verdict: Verdict,
    },
    /// What lies above took the machine down.
    TookMachineDown,
    /// More brings no score.
    BringsNothing,
    /// The card's range.
    CardEnds,
}

/// Why a strategy tries another power limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OtherLimit {
    /// The clock line still dips for want of power.
    Dips,
    /// It draws no less than at stock.
    DrawsNoLess,
}

/// Why a climb cannot go on.
#[derive(Debug, Clone, PartialEq)]
pub enum Stuck {
    /// The baseline was ended before a run counted.
    NoBaseline,
    /// The load ended by itself in every newest baseline run.
    LoadEnds {
        /// The load.
        load: String,
        /// How many runs.
        runs: usize,
        /// What the newest trial was told to be.
        last: String,
    },
    /// The newest baseline runs do not count.
    BaselineInVain {
        /// How many.
        runs: usize,
        /// What the newest trial was told to be.
        last: String,
        /// The card, where it fails at stock settings.
        fails: Option<String>,
    },
    /// The newest runs of a stage went well and have no score, though its baseline goes by scores: they are too
    /// short for one, or nobody told it.
    NoScore {
        /// The stage.
        stage: Stage,
        /// The load.
        load: String,
        /// How many runs.
        runs: usize,
        /// Their measured length.
        length: Seconds,
    },
    /// The newest runs prove nothing.
    InVain {
        /// How many.
        runs: usize,
        /// At which value, where they are all of one.
        at: Option<Shown>,
        /// What the newest trial was told to be.
        last: String,
    },
}

/// What a trial may do, so that it needs an explicit yes.
#[derive(Debug, Clone, PartialEq)]
pub enum Risk {
    /// It may take the machine down.
    MachineDown {
        /// The trial that did.
        trial: u32,
        /// Its climb, where that is another one.
        climb: Option<i64>,
        /// Whether it had these very settings, the fan aside.
        is_same: bool,
        /// What it had moved from stock, the fan aside.
        moved: Vec<Shown>,
    },
    /// The power supply may not carry it.
    Supply {
        /// The power limit asked for.
        limit: Shown,
        /// What the supply has left over.
        headroom: SupplyHeadroom,
    },
}
