//! A snapshot to draw in tests and benches: the middle of a climb, made by hand.
#![allow(clippy::missing_panics_doc)]

use std::sync::Arc;

use yard_step_card::CeilingRecord;
use yard_step_core::{
    Absent, Advice, Assurance, Backing, Baseline, BaselineProgress, Bracket, CardDescription,
    CardLimits, Celsius, Channel, ChartTrial, CheckedFrame, Climb, ClimbError, ClockLine, Cure,
    CurveKind, CurveOffer, Domain, Exposure, Failure, Fan, Frame, Goal, Judgement, LEAST_PROOF,
    Left, LimitField, LimitTable, LimitTables, LimitValue, Limiter, LoadGain, Machine, Map, Margin,
    MemoryWiring, Mhz, MhzOffset, Millivolt, Offer, OnFault, Origin, Outlook, Pair, Part, Percent,
    Plan, Prerequisite, Profile, ProfileInUse, Proof, ProofRun, Purpose, Ratio, Reading, Reason,
    Room, SafetyCeilings, Sample, Seconds, Seen, SettingKind, Settings, Soak, SoakFault, SoakRun,
    Soaked, Span, Stage, Stairs, StepChange, StepSize, StockReport, SuggestedMove, Suggestion,
    Trace, TrialRecord, USUAL_DAY, UnknownField, Verdict, VfCurve, Watt, Weighed,
};
use yard_step_engine::{
    Activity, ByLoad, Candidate, CeilingView, ClimbSummary, ClimbView, Figure, FigureChange, Found,
    FreeEnd, FreeView, MachineView, Mark, MarkKind, NextView, Pace, Picture, ProfileView, RackCard,
    RunView, RunsView, SegmentView, Snapshot, SoakWhat, StageStanding, StageView,
};
use yard_step_ledger::{Intent, Ledger, Measured};
use yard_step_scenes::{FRAME_HEIGHT, FRAME_WIDTH, Scene, WrongPixel, look_at, reference};

/// A card.
#[must_use]
pub fn card() -> CardDescription {
    let offer = |kind, minimum, maximum, step, stock| Offer {
        kind,
        reading: if kind == SettingKind::CoreOffset { Reading::Offset } else { Reading::Absolute },
        minimum,
        maximum,
        makers_maximum: None,
        step,
        stock,
    };
    CardDescription {
        id: "standin:test".into(),
        serial: "7".into(),
        name: "Test card".into(),
        memory_type: "test memory".into(),
        memory_gib: 10,
        memory_clock: Mhz(1_750.0),
        memory_wiring: MemoryWiring { transfers_per_clock: 8, bus_bits: 320 },
        driver: "1.0".into(),
        limits: CardLimits {
            boost_clock: Mhz(2_085.0),
            highest_clock: Mhz(2_145.0),
            clock_bin: Mhz(15.0),
            voltage_ceiling: Some(Millivolt(1_081.0)),
            power_limit: Some(Watt(220.0)),
            temperature_target: Some(Celsius(83.0)),
            temperature_ceiling: Some(Celsius(93.0)),
            current: None,
        },
        curve: None,
        fan: yard_step_core::FanControl::Curve,
        steps_unstated: false,
        limit_tables: None,
        offers: vec![
            offer(SettingKind::PowerLimit, 110.0, 286.0, 1.0, Some(220.0)),
            offer(SettingKind::CoreOffset, -150.0, 300.0, 15.0, Some(0.0)),
            offer(SettingKind::Fan, 30.0, 100.0, 1.0, None),
        ],
        sensors: Channel::ALL.into_iter().filter(|c| *c != Channel::MemoryClock).collect(),
        absent_settings: vec![Absent {
            what: SettingKind::MemoryTiming,
            why: "its driver keeps the timings to itself".into(),
        }],
        absent_sensors: vec![],
    }
}

/// A curve of nine points that lets itself be shaped.
#[must_use]
#[allow(clippy::unwrap_used)]
pub fn curve_offer() -> CurveOffer {
    let clocks = [1_590, 1_650, 1_710, 1_770, 1_815, 1_860, 1_905, 1_950, 1_995];
    let points: Vec<(u16, u16)> =
        clocks.into_iter().enumerate().map(|(at, mhz)| (800 + 25 * at as u16, mhz)).collect();
    CurveOffer {
        kind: CurveKind::Points,
        factory: VfCurve::new(&points).unwrap(),
        clocks: Span { lowest: 705, highest: 2_505, step: 15 },
        voltages: Span { lowest: 800, highest: 1_000, step: 25 },
    }
}

fn settings(offset: i32) -> Settings {
    Settings {
        power_limit: Some(Watt(220.0)),
        temperature_target: Some(Celsius(83.0)),
        core_offset: Some(MhzOffset(offset)),
        fan: Some(Fan::Fixed(Percent(100.0))),
        ..Settings::default()
    }
}

fn seen() -> Seen {
    Seen {
        seconds: Seconds(200.0),
        clock_line: Some(ClockLine {
            average: Mhz(2_010.0),
            lowest: Mhz(1_980.0),
            highest: Mhz(2_040.0),
            flatness: Percent(75.0),
            dips: vec![],
        }),
        average_power: Some(Watt(216.0)),
        core_temperature_max: Some(Celsius(69.0)),
        hot_spot_max: Some(Celsius(78.0)),
        fan: Some(Percent(100.0)),
        load: Some(Percent(99.0)),
        frame_rate: Some(20.4),
        frame_rate_low: Some(20.0),
        limiters: vec![(Limiter::Power, 0.9), (Limiter::Voltage, 0.1)],
        frames: 3_600,
        ..Seen::default()
    }
}

/// What took the machine down in trial 3.
#[cfg(test)]
pub(crate) fn down() -> yard_step_core::Risk {
    yard_step_core::Risk::MachineDown {
        trial: 3,
        climb: None,
        is_same: true,
        moved: vec!["core +180 MHz".into()],
    }
}

pub(crate) fn record(number: u32, offset: i32, verdict: Verdict) -> TrialRecord {
    TrialRecord {
        number,
        stage: if offset == 0 { Stage::Baseline } else { Stage::Core },
        purpose: if offset == 0 { Purpose::Baseline } else { Purpose::Step },
        asked: settings(offset),
        taken: Some(settings(offset)),
        seen: seen(),
        scene: "lantern".into(),
        seconds: Seconds(200.0),
        judged: verdict,
        reason: "Something happened in it that is told in a sentence of some length.".into(),
        marked: None,
        score: Some(1_010.0),
        faults: vec![],
        room: None,
        in_step: vec![],
        since_reset: None,
    }
}

pub(crate) fn bracket(floor: i32, ceiling: Option<i32>) -> Bracket {
    Bracket {
        floor: MhzOffset(floor),
        ceiling: ceiling.map(|value| Failure {
            value: MhzOffset(value),
            trial: 3,
            verdict: Verdict::LoadDied,
        }),
    }
}

pub(crate) fn chart_trial(number: u32, core: i32, verdict: Verdict) -> ChartTrial {
    let place = Pair { core: MhzOffset(core), memory: MhzOffset::STOCK };
    ChartTrial { number, place, verdict, counts: true, gain_percent: Some(1.0) }
}

pub(crate) fn stairs(floor: i32, ceiling: Option<i32>) -> Stairs {
    Stairs {
        domain: Domain::Core,
        trials: vec![
            chart_trial(1, 0, Verdict::Clean),
            chart_trial(2, 60, Verdict::Clean),
            chart_trial(3, 120, Verdict::LoadDied),
        ],
        bracket: bracket(floor, ceiling),
        band: None,
        kept: None,
        next: Some(MhzOffset(75)),
        risks: vec![(MhzOffset(0), 0.001), (MhzOffset(60), 0.02), (MhzOffset(150), 0.9)],
    }
}

pub(crate) fn map() -> Map {
    let at = |core, memory| Pair { core: MhzOffset(core), memory: MhzOffset(memory) };
    let mut trials = stairs(60, Some(120)).trials;
    trials.push(ChartTrial { place: at(0, 60), ..chart_trial(4, 0, Verdict::Clean) });
    Map {
        trials,
        frontier: vec![at(90, 0), at(75, 60), at(0, 120)],
        best: Some(at(60, 0)),
        kept: at(60, 60),
        next: None,
    }
}

/// Spoilt frames of the scene lantern: a streak, a speckle and a tile.
#[must_use]
pub fn spoilt_frames() -> Vec<CheckedFrame> {
    let spoilt = |number: u64, (x, y): (usize, usize), (width, height): (usize, usize), bits| {
        let mut drawn = (*reference(Scene::Lantern, number)).clone();
        for row in y..y + height {
            drawn.pixels[row * FRAME_WIDTH + x..][..width].iter_mut().for_each(|p| *p ^= bits);
        }
        look_at(Scene::Lantern, number, Some(&drawn), Seconds(number as f64 / 20.0))
    };
    vec![
        spoilt(40, (30, 20), (40, 1), 0x00f0_80f0),
        spoilt(41, (127, 71), (1, 1), 0x0000_0400),
        spoilt(212, (64, 32), (8, 8), 0x00c3_5aa5),
    ]
}

/// A run of ten minutes with a ragged clock and a spoilt frame.
#[must_use]
pub fn run_view() -> RunView {
    let mut trace = Trace::new();
    for tick in 0..6_000_u32 {
        let heat = -30.0 * (-f64::from(tick) / 900.0).exp();
        let sample = Sample {
            at: Seconds(f64::from(tick + 1) / 10.0),
            core_clock: Some(Mhz(2_010.0 + f64::from((tick * 7) % 5) * 15.0)),
            effective_clock: Some(Mhz(2_000.0)),
            voltage: Some(Millivolt(1_000.0)),
            board_power: Some(Watt(214.0 + f64::from((tick * 3) % 7))),
            chip_power: Some(Watt(160.0)),
            core_temperature: Some(Celsius(68.0 + heat)),
            hot_spot: Some(Celsius(78.0 + heat)),
            fan: Some(Percent(100.0)),
            load: Some(Percent(99.0)),
            background: Some(Percent(0.0)),
            frame_rate: Some(20.0),
            ..Sample::default()
        };
        let limiter = if tick % 1_500 < 1_100 { Limiter::Power } else { Limiter::Voltage };
        trace.push(&sample, limiter);
    }
    let mut frame = Frame::black(FRAME_WIDTH, FRAME_HEIGHT);
    Scene::Lantern.draw(200, &mut frame);
    let wrong = vec![WrongPixel { x: 20, y: 30, drawn: 1, expected: 0 }];
    RunView {
        climb: 2,
        title: "trial 4".into(),
        number: 4,
        stage: Stage::Core,
        purpose: Purpose::Step,
        scene: "lantern".into(),
        asked: settings(60),
        what: "core +60 MHz".into(),
        taken: Some(settings(60)),
        seen: seen(),
        score: Some(1_010.0),
        target: Mhz(2_205.0),
        power_limit: Some(220.0),
        temperature_target: Some(83.0),
        at: Seconds(600.0),
        resting: None,
        planned: Seconds(620.0),
        warm_up: Seconds(20.0),
        sample: Sample {
            core_clock: Some(Mhz(2_025.0)),
            board_power: Some(Watt(217.0)),
            core_temperature: Some(Celsius(68.0)),
            hot_spot: Some(Celsius(77.0)),
            fan: Some(Percent(100.0)),
            ..Sample::default()
        },
        trace,
        room: Some(Room::default()),
        plateau: None,
        temperature_ceiling: 93.0,
        marks: vec![
            Mark {
                at: Seconds(0.0),
                kind: MarkKind::Applied,
                text: "core clock offset: asked +70 MHz, rounded to +60 MHz".into(),
            },
            Mark {
                at: Seconds(310.0),
                kind: MarkKind::Dip,
                text: "dip of 90 MHz for 0.4 s".into(),
            },
        ],
        spoilt: Arc::default(),
        in_step: vec![],
        wants_a_look: false,
        notes: vec![],
        faults: vec![],
        picture: Some(Picture { number: 200, frame: Arc::new(frame), wrong, wrong_pixels: 1 }),
        judgement: None,
        by_load: None,
    }
}

fn baselines() -> Vec<BaselineProgress> {
    ["kiln", "lantern", "medley", "sluice", "trio"]
        .into_iter()
        .map(|load| BaselineProgress {
            load: load.into(),
            done: 2,
            wanted: 3,
            baseline: Some(baseline()),
        })
        .collect()
}

/// What is kept, under each load.
fn by_load() -> ByLoad {
    let of = |load: &str, gain: Option<f64>| LoadGain {
        load: load.into(),
        runs: gain.iter().count(),
        clean: Seconds(620.0),
        gain: gain.map(|value| Ratio { value, error: 0.002 }),
        by_clock: false,
    };
    ByLoad {
        settings: Settings { core_offset: Some(MhzOffset(120)), ..Settings::default() },
        gains: vec![of("kiln", Some(1.031)), of("medley", Some(1.044)), of("sluice", None)],
    }
}

fn baseline() -> Baseline {
    Baseline {
        runs: 3,
        score: 1_000.0,
        by_clock: false,
        noise: Percent(0.4),
        noise_floor: Some(Percent(1.35)),
        plateau: Some(Celsius(67.8)),
        average_clock: Mhz(2_005.0),
        average_power: Some(Watt(216.0)),
        hot_spot_max: Some(Celsius(78.0)),
    }
}

/// Limit tables of the [card], the maker's and the one in force, with these values of its power and current limit.
pub fn limit_tables(makers: (f64, f64), in_force: (f64, f64)) -> LimitTables {
    let table = |(power, current)| LimitTable {
        card: card().table_owner(),
        fields: vec![
            LimitValue { field: LimitField::PowerLimit, value: power },
            LimitValue { field: LimitField::CurrentLimit, value: current },
        ],
        unknown: vec![UnknownField { number: 17, raw: "ff".into() }],
        file: None,
    };
    LimitTables { makers: table(makers), in_force: table(in_force) }
}

/// A snapshot of the card with limit tables.
pub fn snapshot_with_limits(tables: LimitTables) -> Snapshot {
    let mut snapshot = snapshot();
    let record = CeilingRecord::at_first_sight(&tables.makers);
    let safety = SafetyCeilings::default();
    snapshot.machine.ceiling = Some(Arc::new(CeilingView { record, safety }));
    let card = Arc::make_mut(&mut snapshot.machine.card);
    let value = |table: &LimitTable| table.value(LimitField::PowerLimit);
    let raised = value(&tables.in_force).zip(value(&tables.makers)).map(|(now, was)| now - was);
    let offers = card.offers.iter_mut();
    for power in offers.filter(|offer| offer.kind == SettingKind::PowerLimit) {
        power.makers_maximum = raised.filter(|by| *by > 0.0).map(|by| power.maximum - by);
    }
    card.limit_tables = Some(Box::new(tables));
    snapshot
}

/// A climb with its baseline, one step held and one failed.
#[must_use]
pub fn snapshot() -> Snapshot {
    Snapshot {
        climb: ClimbView {
            number: 2,
            plan: Arc::new(Plan::default()),
            experience: Arc::default(),
            stages: Stage::USUAL.to_vec(),
            stage: Stage::Core,
            next: NextView::Trial {
                stage: Stage::Core,
                asked: Box::new(settings(75)),
                what: "core +75 MHz".into(),
                purpose: Purpose::Step,
                seconds: Seconds(200.0),
                reason: Reason::StepUp {
                    from: "+60 MHz".into(),
                    failed: Some(("+120 MHz".into(), Verdict::LoadDied)),
                    size: StepSize::Fine,
                    to: "+75 MHz".into(),
                },
                risk: None,
            },
            trials: Arc::new(vec![
                record(1, 0, Verdict::Clean),
                record(2, 60, Verdict::Clean),
                record(3, 120, Verdict::LoadDied),
            ]),
            under_load: Seconds(600.0),
            outlook: Outlook {
                stage: Left { trials: (2, 4), seconds: (Seconds(1_200.0), Seconds(2_400.0)) },
                climb: Left { trials: (8, 14), seconds: (Seconds(3_600.0), Seconds(5_400.0)) },
            },
            baseline: Some(baseline()),
            stock: Some(StockReport {
                load: "lantern".into(),
                advertised: Mhz(2_085.0),
                reached: Mhz(1_995.0),
                limiter: Some((Limiter::Power, 0.96)),
                more_power: Some(Cure { amount: Watt(31.0), measured: false }),
                less_voltage: Some(Cure { amount: Millivolt(45.0), measured: false }),
            }),
            sub_scores: Vec::new(),
            baseline_runs: 3,
            baselines: baselines(),
            by_load: Some(by_load()),
            progress: vec![
                StageView {
                    stage: Stage::Baseline,
                    standing: StageStanding::Done,
                    found: Some(Found::Baseline(baseline())),
                },
                StageView { stage: Stage::Core, standing: StageStanding::Present, found: None },
            ],
            other_stages: vec![
                (Stage::UndervoltClock, None),
                (
                    Stage::Window,
                    Some(ClimbError::NotOffered {
                        stage: Stage::Window,
                        setting: "lowest and highest clock",
                        card: "Test card".into(),
                    }),
                ),
            ],
            stairs: [Some(Arc::new(stairs(60, Some(120)))), None],
            descents: Vec::new(),
            map: Arc::new(map()),
            advice: vec![Advice::MorePower { to: "286 W".into(), held_back: 0.71, dips: 0 }],
            parts: vec![Part { name: "core clock", percent: 3.1, error: 0.3, is_measured: false }],
            leaving_out: false,
            claim: None,
            conditions: Arc::default(),
            surprise: None,
            fault_places: None,
            soaked: None,
            culprits: None,
            history: vec![ClimbSummary {
                id: 1,
                state: "ended",
                trials: 6,
                kept: Some("core +45 MHz".into()),
                gain_percent: Some(1.4),
            }],
            older_climbs: 3,
        },
        runs: RunsView {
            newest: Some(Arc::new(run_view())),
            looked_at: None,
            laid_over: None,
            free: None,
            loads: Arc::new(vec!["medley".into(), "kiln".into()]),
            programs: Arc::default(),
            activity: Activity::Waiting,
            is_manual: false,
            auto: false,
            pace: Some(Pace::Sixty),
        },
        machine: MachineView {
            air: None,
            ceiling: None,
            said: Arc::new(Machine {
                room: Some(Room::default()),
                supply: Some(Watt(750.0)),
                ..Machine::default()
            }),
            card: Arc::new(card()),
            rack: Arc::new(vec![
                RackCard { card: Arc::new(card()), in_step: false },
                RackCard {
                    card: Arc::new(CardDescription { serial: "8".into(), ..card() }),
                    in_step: true,
                },
            ]),
            present: 0,
            held: Some(settings(60)),
            sensors: Some(run_view().sample),
            profiles: vec![profile_view()],
            candidates: Arc::default(),
            prerequisites: Arc::new(vec![
                Prerequisite::FactoryState { copied: true },
                Prerequisite::PowerSupply(None),
                Prerequisite::Profile(Some(ProfileInUse {
                    name: "last autumn".into(),
                    proof: Proof::Open { left: LEAST_PROOF },
                    backing: Backing::default(),
                })),
            ]),
            restart: None,
            alarms: Vec::new(),
        },
        answer: Some("The card is at stock.".into()),
        notices: vec!["The card is at stock.".into()],
    }
}

/// Runs of the card: under lantern a frontier of four with a knee, one that is dominated and one that
/// failed; and one under kiln.
#[must_use]
pub fn weighed() -> Vec<Weighed> {
    let run = |load: &str, offset, score, watts, verdict| Weighed {
        climb: 2,
        trial: 1,
        asked: Settings { core_offset: Some(MhzOffset(offset)), ..Settings::stock(&card()) },
        load: load.into(),
        seconds: Seconds(720.0),
        verdict,
        score: Some(score),
        watts: Some(Watt(watts)),
        hot_spot: Some(Celsius(watts / 3.0)),
        fan: Some(Percent(100.0)),
    };
    vec![
        run("lantern", -60, 900.0, 150.0, Verdict::Slower),
        run("lantern", -30, 980.0, 170.0, Verdict::Clean),
        run("lantern", 0, 1_000.0, 200.0, Verdict::Clean),
        run("lantern", 30, 990.0, 215.0, Verdict::Clean),
        run("lantern", 60, 1_010.0, 230.0, Verdict::Clean),
        run("lantern", 90, 1_060.0, 210.0, Verdict::LoadDied),
        run("kiln", 0, 800.0, 219.0, Verdict::Clean),
    ]
}

fn profile_view() -> ProfileView {
    let profile = Profile {
        purpose: "winter".into(),
        margin: Some(Margin::Daily),
        claimed: Some(0.992),
        confirmed: true,
        climb: Some(1),
        trial: Some(6),
        driver: Some("0.9".into()),
        in_use: true,
        kept: 1_700_000_000,
        ..Profile::new("last autumn", settings(45), Origin::Climb)
    };
    let backing = Backing::default();
    ProfileView {
        what: "core +45 MHz".into(),
        proof: Proof::of(&profile, &backing),
        drift: None,
        risk: None,
        backing,
        profile,
    }
}

/// The same run, ended.
#[must_use]
pub fn ended_run_view() -> RunView {
    let judgement =
        Judgement { verdict: Verdict::Clean, reason: "No wrong pixel in 12600 frames.".into() };
    RunView { judgement: Some(judgement), ..run_view() }
}

/// Begins a climb and a trial of the card in a ledger; returns both numbers.
#[must_use]
#[allow(clippy::unwrap_used)]
pub fn begun_trial(ledger: &Ledger) -> (i64, i64) {
    let card = card();
    ledger.note_card(&card, Some(&Settings::stock(&card))).unwrap();
    let climb = ledger.begin_climb(&card, &Plan::default(), &Stage::USUAL).unwrap();
    let intent = Intent {
        driver: Some("1.0".into()),
        id: 0,
        climb,
        number: 1,
        stage: Stage::Baseline,
        purpose: Purpose::Own,
        asked: settings(0),
        scene: "lantern".into(),
        planned: Seconds(86_400.0),
        warm_up: Seconds(0.0),
        boot: "1-1".into(),
        since_reset: None,
        lived: Seconds(0.0),
        room: None,
    };
    (climb, ledger.begin_trial(&intent).unwrap())
}

/// Writes a climb with so many trials into a ledger, the third of them with artifacts.
#[allow(clippy::unwrap_used)]
pub fn ended_trials(ledger: &Ledger, count: u32) {
    let card = card();
    ledger.note_card(&card, Some(&Settings::stock(&card))).unwrap();
    let climb = ledger.begin_climb(&card, &Plan::default(), &Climb::stages_on(&card)).unwrap();
    for number in 1..=count {
        let verdict = if number == 3 { Verdict::Artifacts } else { Verdict::Clean };
        let record = TrialRecord {
            score: Some(1_000.0 + f64::from(number)),
            ..record(number, 15 * (number as i32 - 1), verdict)
        };
        let intent = Intent::of_record(0, climb, &record);
        let row = ledger.begin_trial(&intent).unwrap();
        ledger.end_trial(row, &record, Measured::default(), Vec::new()).unwrap();
    }
}

/// A segment of a free run at a core offset.
fn segment(number: u32, offset: i32, verdict: Option<Verdict>) -> SegmentView {
    SegmentView {
        number,
        changed: vec![format!("core clock offset +{offset} MHz")],
        asked: settings(offset),
        taken: Some(settings(offset)),
        seconds: Seconds(42.0),
        seen: seen(),
        score: Some(1_000.0),
        verdict,
    }
}

/// A free run in its third segment, the one before of which failed to be long enough.
#[must_use]
pub fn free_view() -> FreeView {
    let change = |figure, before, now, by, error| FigureChange {
        figure,
        before: Some(before),
        now: Some(now),
        change: Some(StepChange { by, error, drift: 0.0 }),
    };
    FreeView {
        load: "kiln".into(),
        at: Seconds(126.0),
        trace: run_view().trace,
        changes: vec![Seconds(42.0), Seconds(84.0)],
        segments: vec![
            segment(4, 45, Some(Verdict::Clean)),
            segment(5, 60, Some(Verdict::Void)),
            segment(6, 75, None),
        ],
        comparison: vec![
            change(Figure::Clock, 1_980.0, 1_994.0, 14.0, 1.5),
            change(Figure::Power, 217.0, 211.0, -6.0, 1.0),
            change(Figure::Score, 1_000.0, 1_004.0, 4.0, 4.5),
            change(Figure::HotSpot, 77.0, 77.1, 0.1, 0.1),
        ],
        advice: Vec::new(),
        suggestion: Some(Suggestion {
            kind: SuggestedMove::MoreClock { to: "+90 MHz".into() },
            settings: settings(90),
        }),
        asks: None,
        told: vec!["core clock offset: asked +80 MHz, rounded to +75 MHz".into()],
        ended: None,
    }
}

/// The same, ended by a fault.
#[must_use]
pub fn ended_free_view() -> FreeView {
    let mut view = free_view();
    view.segments[2].verdict = Some(Verdict::LoadDied);
    view.ended = Some(FreeEnd {
        verdict: Verdict::LoadDied,
        reason: "The load lost its device after 42 s.".into(),
        trial: 6,
        back_to: Some((4, settings(45))),
    });
    view
}

/// A moment in a free run.
#[must_use]
pub fn free_snapshot() -> Snapshot {
    let mut snapshot = snapshot();
    snapshot.runs.activity = Activity::Running;
    snapshot.runs.free = Some(Arc::new(free_view()));
    snapshot
}

/// What three runs at three speeds, and two notes, tell of the card's fan.
pub(crate) fn air_view() -> yard_step_engine::AirView {
    use yard_step_core::{
        AirNotes, Drawing, Heard, HeatModel, HeatRun, NoiseModel, NoiseNote, Room,
    };
    let card = card();
    let runs = [(100.0, 60.0), (70.0, 67.0), (45.0, 77.0)].map(|(fan, plateau)| HeatRun {
        load: "medley".into(),
        settings: Settings::default(),
        fan: Percent(fan),
        power: Watt(216.0),
        plateau: Celsius(plateau),
        settles_in: Some(Seconds(130.0)),
        clock: Some(Mhz(2_010.0 - 2.0 * (plateau - 60.0))),
        room: Some(Room::default()),
    });
    let mut notes = AirNotes::default();
    for (speed, level) in [(60.0, 37.0), (100.0, 46.0)] {
        let heard = Heard::Measured(yard_step_core::Decibel(level));
        notes.note(NoiseNote { speed: Percent(speed), heard });
    }
    let heat = HeatModel::of(&runs, &card);
    let noise = NoiseModel::of(&notes.noise);
    let wish = heat.as_ref().and_then(|heat| notes.wish.on(heat, &card, Room::default().ambient));
    let drawn = heat
        .as_ref()
        .zip(wish)
        .and_then(|(heat, wish)| Drawing { card: &card, heat, noise: &noise }.draw(&wish));
    yard_step_engine::AirView { notes, heat, noise, wish, drawn }
}

/// A soak of a profile that failed once under light load and went on a step milder.
#[must_use]
pub fn soaked() -> Soaked {
    let soak = Soak {
        settings: settings(90),
        of: "profile \"last autumn\"".into(),
        loads: Soak::usual_loads(),
        goal: Goal::Hours(8.0),
        on_fault: OnFault::StepBack,
        reserve: 0,
        after: 4,
        before: Exposure::default(),
        claim: None,
        ended: false,
        check: None,
    };
    let mut exposure = Exposure::default();
    let (mut runs, mut at) = (Vec::new(), Seconds(0.0));
    for round in 0..3 {
        for (place, load) in soak.loads.iter().enumerate() {
            let fails = (round, place) == (1, 4);
            let seconds = Seconds(if load.is_cold() { 120.0 } else { 900.0 });
            let run = ProofRun {
                load: &load.load,
                mean_load: None,
                is_cold: load.is_cold(),
                seconds,
                failed: fails,
            };
            exposure.add(&run);
            if fails {
                exposure = exposure.stepped_back(1.0);
            }
            let verdict = if fails { Verdict::LoadDied } else { Verdict::Clean };
            let hottest = Some(Celsius(if place == 4 { 55.0 } else { 78.0 }));
            let trial = runs.len() as u32 + 5;
            runs.push(SoakRun { trial, place: Some(place), began: at, seconds, verdict, hottest });
            at = at + seconds;
        }
    }
    let fault = SoakFault {
        trial: 16,
        load: "doldrums".into(),
        verdict: Verdict::LoadDied,
        at: Seconds(412.0),
        frame: None,
        clock: Some(Mhz(2_145.0)),
        sections: Vec::new(),
        temperature: Some(Celsius(52.0)),
        domain: None,
        settings: (settings(90), settings(75)),
        back_to: "core +75 MHz".into(),
    };
    Soaked {
        at: settings(75),
        stands: settings(75),
        assurance: Assurance::new(
            exposure,
            &soak.shares(),
            Some((Margin::Daily, 0.998)),
            (0.06, 80.0),
        ),
        counts: vec![3; soak.loads.len()],
        runs,
        faults: vec![fault],
        spent: at,
        end: None,
        soak,
    }
}

/// A snapshot with two things to prove: a profile that ran, and what the card holds, which never did.
#[must_use]
pub fn proof_snapshot() -> Snapshot {
    let mut snapshot = snapshot();
    let assured =
        |exposure: Exposure, claim| Assurance::new(exposure, &USUAL_DAY, claim, (0.06, 80.0));
    let mut exposure = Exposure::default();
    exposure.add(&ProofRun {
        load: "medley",
        mean_load: None,
        is_cold: false,
        seconds: Seconds(7_200.0),
        failed: false,
    });
    let profile = profile_view();
    let held = ProfileView {
        profile: Profile::new(String::new(), settings(60), Origin::ByHand),
        backing: Backing::default(),
        ..profile.clone()
    };
    snapshot.machine.candidates = Arc::new(vec![
        Candidate {
            what: SoakWhat::Profile("last autumn".into()),
            name: "profile \"last autumn\"".into(),
            view: profile,
            assurance: assured(exposure, Some((Margin::Daily, 0.998))),
            due: None,
            checked: None,
        },
        Candidate {
            what: SoakWhat::Held,
            name: "what the card holds".into(),
            view: held,
            assurance: assured(Exposure::default(), None),
            due: None,
            checked: None,
        },
    ]);
    snapshot
}
