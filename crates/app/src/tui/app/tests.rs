//! Keys and clicks, and what comes of them.

use std::sync::Arc;

use ratatui::crossterm::event::{
    Event, KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind,
};
use ratatui::layout::Rect;
use rstest::rstest;
use yard_step_core::{Conditions, CurveKind, Stuck, Told, UseOfIt, Verdict, WeighNote};
use yard_step_engine::{
    Activity, Command, FreeStart, KeepWhat, KeepWish, KeptFan, NextView, Restart, Snapshot,
};
use yard_step_report::PagePart;
use yard_step_scenes::Scene;

use crate::tui::app::outcome::Outcome;
use crate::tui::app::state::State;
use crate::tui::fixtures::{down, ended_free_view, free_snapshot, run_view, snapshot};
use crate::tui::keys::action::View;
use crate::tui::overlays::Overlay;
use crate::tui::views::ledger::browser::{Change, Done, List, WeighedCard};

const AREA: Rect = Rect::new(0, 0, 160, 50);

fn press(state: &mut State, snapshot: &Snapshot, code: KeyCode) -> Outcome {
    state.handle(&Event::Key(KeyEvent::new(code, KeyModifiers::NONE)), snapshot, AREA)
}

fn type_in(state: &mut State, snapshot: &Snapshot, text: &str) -> Outcome {
    text.chars()
        .map(|c| press(state, snapshot, KeyCode::Char(c)))
        .last()
        .unwrap_or(Outcome::Nothing)
}

#[rstest]
#[case(KeyCode::Enter, Command::Try { yes: false })]
#[case(KeyCode::Char('a'), Command::ToggleAuto)]
#[case(KeyCode::Up, Command::Nudge(1))]
#[case(KeyCode::Char('-'), Command::Nudge(-1))]
#[case(KeyCode::Char('p'), Command::NextPace)]
#[case(KeyCode::Left, Command::LookBeside(-1))]
fn a_key_becomes_its_command(#[case] code: KeyCode, #[case] command: Command) {
    let mut state = State::new(View::Climb);
    assert_eq!(press(&mut state, &snapshot(), code), Outcome::Send(command));
}

#[rstest]
#[case(KeyCode::Char('s'))]
#[case(KeyCode::Char(' '))]
#[case(KeyCode::Char('k'))]
#[case(KeyCode::Char('j'))]
fn keys_that_do_not_apply_do_nothing(#[case] code: KeyCode) {
    let mut state = State::new(View::Climb);
    assert_eq!(press(&mut state, &snapshot(), code), Outcome::Nothing);
    assert_eq!(state, State::new(View::Climb));
}

#[test]
fn a_risky_trial_asks_once_and_says_what_may_happen() {
    let mut snapshot = snapshot();
    if let NextView::Trial { risk, .. } = &mut snapshot.climb.next {
        *risk = Some(down());
    }
    let mut state = State::new(View::Climb);
    assert_eq!(press(&mut state, &snapshot, KeyCode::Enter), Outcome::Nothing);
    let Some(Overlay::Ask(question)) = &state.overlay else { panic!() };
    assert_eq!(question.consequence, yard_step_words::risk(&down()));
    assert_eq!(press(&mut state, &snapshot, KeyCode::Char('x')), Outcome::Nothing);
    let yes = press(&mut state, &snapshot, KeyCode::Char('y'));
    assert_eq!(yes, Outcome::Send(Command::Try { yes: true }));
    assert_eq!(state.overlay, None);
}

#[test]
fn a_climb_that_is_stuck_asks_whether_to_try_again() {
    let mut snapshot = snapshot();
    let why =
        Stuck::InVain { runs: 5, at: None, last: "Other programs kept the card busy.".into() };
    snapshot.climb.next = NextView::Stuck(why.clone());
    let mut state = State::new(View::Climb);
    assert_eq!(press(&mut state, &snapshot, KeyCode::Enter), Outcome::Nothing);
    let Some(Overlay::Ask(question)) = &state.overlay else { panic!() };
    assert_eq!(question.consequence, yard_step_words::stuck(&why));
    let yes = press(&mut state, &snapshot, KeyCode::Char('y'));
    assert_eq!(yes, Outcome::Send(Command::Try { yes: true }));
}

#[test]
fn artifacts_are_looked_for_where_there_are_some() {
    let mut snapshot = snapshot();
    let mut trials = (*snapshot.climb.trials).clone();
    trials[1].seen.wrong_frames = 4;
    snapshot.climb.trials = Arc::new(trials);
    let mut state = State::new(View::Climb);
    let number = snapshot.climb.trials[1].number;
    let look = Outcome::Send(Command::Look(Some(number)));
    assert_eq!(press(&mut state, &snapshot, KeyCode::Char('9')), look);
    assert_eq!(state.view, View::Artifacts);
}

#[test]
fn a_spoilt_frame_is_picked_enlarged_and_exported() {
    let mut snapshot = snapshot();
    let spoilt = Arc::new(crate::tui::fixtures::spoilt_frames());
    snapshot.runs.newest = Some(Arc::new(yard_step_engine::RunView { spoilt, ..run_view() }));
    let mut state = State::new(View::Artifacts);
    press(&mut state, &snapshot, KeyCode::Left);
    press(&mut state, &snapshot, KeyCode::Char('+'));
    assert_eq!(state.artifacts.factor(), 2);
    press(&mut state, &snapshot, KeyCode::Char('x'));
    let Outcome::ExportPicture { scene, frame, title, path } =
        press(&mut state, &snapshot, KeyCode::Enter)
    else {
        panic!()
    };
    assert_eq!((scene, frame.number), (Scene::Lantern.into(), 41));
    assert!(title.ends_with("trial 4, lantern, frame 41"), "{title}");
    assert!(path.to_string_lossy().ends_with("-trial-4-frame-41.png"), "{path:?}");
    press(&mut state, &snapshot, KeyCode::Esc);
    assert!(!state.artifacts.holds(), "Esc lets go");
}

#[rstest]
#[case(Restart::Down, KeyCode::Enter)]
#[case(Restart::CardGone, KeyCode::Enter)]
#[case(Restart::AfterReset(3), KeyCode::Char('R'))]
fn a_machine_that_wants_a_restart_gets_it_by_one_key(
    #[case] restart: Restart,
    #[case] code: KeyCode,
) {
    let mut snapshot = snapshot();
    snapshot.machine.restart = Some(restart);
    let outcome = press(&mut State::new(View::Climb), &snapshot, code);
    assert_eq!(outcome, Outcome::Send(Command::Restart));
}

#[test]
fn of_a_load_that_only_the_user_sees_it_is_said_what_was_seen() {
    let mut running = snapshot();
    (running.runs.is_manual, running.runs.activity) = (true, Activity::Running);
    let mut state = State::new(View::Climb);
    press(&mut state, &running, KeyCode::Char('w'));
    press(&mut state, &running, KeyCode::Down);
    let said = press(&mut state, &running, KeyCode::Enter);
    assert_eq!(
        said,
        Outcome::Send(Command::Say { verdict: Verdict::Artifacts, told: Told::default() })
    );
    // Of a run that went well, its figures are asked for.
    for typed in ["8120", "hammer 812, fps 61", ""] {
        press(&mut state, &running, KeyCode::Char('w'));
        assert_eq!(press(&mut state, &running, KeyCode::Enter), Outcome::Nothing);
        assert!(matches!(state.overlay, Some(Overlay::Score { .. })), "{:?}", state.overlay);
        type_in(&mut state, &running, typed);
        let said = press(&mut state, &running, KeyCode::Enter);
        let told = Told::parse(typed).unwrap();
        assert_eq!(said, Outcome::Send(Command::Say { verdict: Verdict::Clean, told }));
    }
    press(&mut state, &running, KeyCode::Char('w'));
    press(&mut state, &running, KeyCode::Enter);
    type_in(&mut state, &running, "fast");
    assert_eq!(press(&mut state, &running, KeyCode::Enter), Outcome::Nothing, "no score");
    let Some(Overlay::Score { problem: Some(problem), .. }) = &state.overlay else { panic!() };
    assert!(problem.contains("\"fast\" is not a figure"), "{problem}");
}

#[rstest]
#[case('e', Command::EndStage)]
#[case('n', Command::NewClimb)]
#[case('b', Command::BackToStock)]
fn what_cannot_be_undone_is_asked_first(#[case] character: char, #[case] command: Command) {
    let snapshot = snapshot();
    let mut state = State::new(View::Climb);
    assert_eq!(press(&mut state, &snapshot, KeyCode::Char(character)), Outcome::Nothing);
    assert_eq!(press(&mut state, &snapshot, KeyCode::Esc), Outcome::Nothing);
    assert_eq!(state.overlay, None, "Esc takes it back");
    press(&mut state, &snapshot, KeyCode::Char(character));
    assert_eq!(press(&mut state, &snapshot, KeyCode::Enter), Outcome::Send(command));
}

#[test]
fn leaving_while_a_trial_runs_is_asked_and_control_c_is_no_way_around() {
    let mut snapshot = snapshot();
    let mut state = State::new(View::Climb);
    assert_eq!(press(&mut state, &snapshot, KeyCode::Char('q')), Outcome::Quit);
    snapshot.runs.activity = Activity::Running;
    let control_c = Event::Key(KeyEvent::new(KeyCode::Char('c'), KeyModifiers::CONTROL));
    assert_eq!(state.handle(&control_c, &snapshot, AREA), Outcome::Nothing);
    assert!(matches!(state.overlay, Some(Overlay::Ask(_))));
    assert_eq!(press(&mut state, &snapshot, KeyCode::Char('y')), Outcome::Quit);
}

#[test]
fn a_trial_is_marked_from_a_list() {
    let snapshot = snapshot();
    let mut state = State::new(View::Climb);
    press(&mut state, &snapshot, KeyCode::Char('m'));
    press(&mut state, &snapshot, KeyCode::Down);
    let marked = press(&mut state, &snapshot, KeyCode::Enter);
    let (climb, verdict) = (snapshot.climb.number, Some(Verdict::Artifacts));
    assert_eq!(marked, Outcome::Send(Command::Mark { climb, trial: 3, verdict }));
    press(&mut state, &snapshot, KeyCode::Char('m'));
    for _ in 0..20 {
        press(&mut state, &snapshot, KeyCode::Down);
    }
    let taken_back = press(&mut state, &snapshot, KeyCode::Enter);
    assert_eq!(taken_back, Outcome::Send(Command::Mark { climb, trial: 3, verdict: None }));
}

#[test]
fn a_profile_gets_the_name_that_is_typed() {
    let mut snapshot = snapshot();
    let outcome = yard_step_core::Outcome {
        pair: yard_step_core::Pair::default(),
        claim: None,
        settings: yard_step_core::Settings::default(),
        stage: None,
        score: None,
        gain_percent: None,
        trials: 3,
        test_seconds: yard_step_core::Seconds(1.0),
        confirmed: true,
        brief: None,
        kept_trial: None,
        moved: Vec::new(),
        baseline: None,
        searches: true,
        by_load: Vec::new(),
        surprise: None,
        conditions: Conditions::default(),
    };
    snapshot.climb.next = NextView::Ended(Box::new(outcome));
    let mut state = State::new(View::Climb);
    press(&mut state, &snapshot, KeyCode::Char('k'));
    for _ in 0..20 {
        press(&mut state, &snapshot, KeyCode::Backspace);
    }
    assert_eq!(press(&mut state, &snapshot, KeyCode::Enter), Outcome::Nothing, "no empty name");
    type_in(&mut state, &snapshot, "dome q?");
    press(&mut state, &snapshot, KeyCode::Down);
    type_in(&mut state, &snapshot, "shows");
    let kept = press(&mut state, &snapshot, KeyCode::Enter);
    let wish = KeepWish {
        name: "dome q?".into(),
        purpose: "shows".into(),
        margin: None,
        what: KeepWhat::Outcome,
        fan: KeptFan::Chosen,
    };
    assert_eq!(kept, Outcome::Send(Command::Keep(Box::new(wish))));
}

#[test]
fn while_looking_at_a_trial_the_arrows_go_on_and_escape_returns_to_the_present() {
    let mut snapshot = snapshot();
    let mut state = State::new(View::Climb);
    assert_eq!(press(&mut state, &snapshot, KeyCode::Right), Outcome::Nothing);
    snapshot.runs.looked_at = Some(Arc::new(run_view()));
    let send = Outcome::Send;
    assert_eq!(press(&mut state, &snapshot, KeyCode::Left), send(Command::LookBeside(-1)));
    assert_eq!(press(&mut state, &snapshot, KeyCode::Right), send(Command::LookBeside(1)));
    assert_eq!(press(&mut state, &snapshot, KeyCode::Esc), send(Command::Look(None)));
}

#[test]
fn a_click_picks_a_view_an_action_or_a_trial() {
    let snapshot = snapshot();
    let mut state = State::new(View::Climb);
    let click = |column, row| {
        Event::Mouse(MouseEvent {
            kind: MouseEventKind::Down(MouseButton::Left),
            column,
            row,
            modifiers: KeyModifiers::NONE,
        })
    };
    state.handle(&click(16, 0), &snapshot, AREA);
    assert_eq!(state.view, View::Survey);
    let tried = state.handle(&click(3, 49), &snapshot, AREA);
    assert_eq!(tried, Outcome::Send(Command::Try { yes: false }));
    assert_eq!(state.view, View::Climb);
    let picked = state.handle(&click(108, 10), &snapshot, AREA);
    assert_eq!(picked, Outcome::Send(Command::Look(Some(1))));
}

/// A moment of a card whose curve lets itself be shaped.
fn shapeable() -> Snapshot {
    let mut snapshot = snapshot();
    let mut card = (*snapshot.machine.card).clone();
    card.curve = Some(crate::tui::fixtures::curve_offer());
    snapshot.machine.card = Arc::new(card);
    snapshot.machine.held = Some(yard_step_core::Settings::stock(&snapshot.machine.card));
    snapshot
}

fn at(kind: MouseEventKind, (column, row): (u16, u16)) -> Event {
    Event::Mouse(MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE })
}

#[test]
fn in_shape_enter_asks_and_then_tries_without_leaving_the_view() {
    let mut snapshot = shapeable();
    let mut state = State::new(View::Climb);
    press(&mut state, &snapshot, KeyCode::Char('4'));
    press(&mut state, &snapshot, KeyCode::End);
    press(&mut state, &snapshot, KeyCode::Up);
    let Outcome::Send(Command::Wish(asked)) = press(&mut state, &snapshot, KeyCode::Enter) else {
        panic!("not asked for")
    };
    let NextView::Trial { asked: next, .. } = &mut snapshot.climb.next else { panic!("no trial") };
    **next = *asked;
    let tried = press(&mut state, &snapshot, KeyCode::Enter);
    assert_eq!(tried, Outcome::Send(Command::Try { yes: false }));
    assert_eq!(state.view, View::Shape, "one sees the card move along its curve");
}

#[test]
fn in_shape_the_mouse_picks_a_point_drags_it_and_scrolls() {
    let snapshot = shapeable();
    let mut state = State::new(View::Shape);
    let left = MouseButton::Left;
    // Somewhere in the middle of the chart.
    state.handle(&at(MouseEventKind::Down(left), (50, 30)), &snapshot, AREA);
    let picked = state.shape.draft(&snapshot);
    let before = picked.picked().unwrap();
    state.handle(&at(MouseEventKind::Drag(left), (50, 20)), &snapshot, AREA);
    state.handle(&at(MouseEventKind::Up(left), (50, 20)), &snapshot, AREA);
    let dragged = state.shape.draft(&snapshot).picked().unwrap();
    assert!(dragged.0 == before.0 && dragged.1 != before.1, "{before:?} to {dragged:?}");
    state.handle(&at(MouseEventKind::ScrollUp, (50, 20)), &snapshot, AREA);
    assert_eq!(state.shape.draft(&snapshot).picked().unwrap().1, dragged.1 + 15);
    press(&mut state, &snapshot, KeyCode::Char('z'));
    press(&mut state, &snapshot, KeyCode::Char('z'));
    assert_eq!(state.shape.draft(&snapshot).picked(), Some(before));
}

#[test]
fn a_number_for_shape_is_typed_into_a_line_of_its_own() {
    let snapshot = shapeable();
    let mut state = State::new(View::Shape);
    press(&mut state, &snapshot, KeyCode::Home);
    press(&mut state, &snapshot, KeyCode::Char('='));
    let Some(Overlay::Value { label, .. }) = &state.overlay else { panic!("nothing to type in") };
    assert!(label.starts_with("clock at 800 mV"), "{label}");
    type_in(&mut state, &snapshot, "1605");
    press(&mut state, &snapshot, KeyCode::Enter);
    assert_eq!(state.shape.draft(&snapshot).picked(), Some((800, 1_605)));
    assert_eq!(state.overlay, None);
}

#[test]
fn in_weigh_a_point_is_clicked_tried_shaped_kept_and_drawn() {
    let snapshot = snapshot();
    let mut state = State::new(View::Weigh);
    state.weigh.wants(&snapshot);
    let card = WeighedCard { runs: crate::tui::fixtures::weighed(), ..WeighedCard::default() };
    state.weigh.take(Ok(card));
    let lowest = state.weigh.frontier.frontier[0];
    // The first line of the list of the frontier.
    let event = at(MouseEventKind::Down(MouseButton::Left), (130, 3));
    state.handle(&event, &snapshot, AREA);
    assert_eq!(state.weigh.picked(), Some(lowest));
    let settings = state.weigh.point().unwrap().settings;
    let asked = press(&mut state, &snapshot, KeyCode::Enter);
    assert_eq!(asked, Outcome::Send(Command::Wish(Box::new(settings))));
    press(&mut state, &snapshot, KeyCode::Char('k'));
    assert!(matches!(state.overlay, Some(Overlay::Keep { .. })), "{:?}", state.overlay);
    press(&mut state, &snapshot, KeyCode::Esc);
    press(&mut state, &snapshot, KeyCode::Char('x'));
    let page = press(&mut state, &snapshot, KeyCode::Enter);
    let Outcome::ExportPage { path, wish, .. } = page else { panic!("{page:?}") };
    assert_eq!((path.to_str(), wish.about.settings), (Some("page.pdf"), settings));
    press(&mut state, &snapshot, KeyCode::Char('X'));
    let drawn = press(&mut state, &snapshot, KeyCode::Enter);
    let Outcome::ExportChart { svg, path, .. } = drawn else { panic!("{drawn:?}") };
    assert!(svg.contains("lantern") && path.to_str() == Some("work-against-watts.svg"));
    let newest = state.weigh.point().unwrap().newest;
    let beside = press(&mut state, &snapshot, KeyCode::Char('B'));
    let Outcome::Change(Change::Weigh { notes, .. }) = beside else { panic!("{beside:?}") };
    assert_eq!(notes, [WeighNote::Trial(newest.0, newest.1)]);
    press(&mut state, &snapshot, KeyCode::Char('j'));
    let noted = press(&mut state, &snapshot, KeyCode::Enter);
    let Outcome::Change(Change::Weigh { notes, .. }) = noted else { panic!("{noted:?}") };
    assert_eq!(notes, [WeighNote::Use(UseOfIt::default())]);
    let change = Change::Weigh { card: Box::new(crate::tui::fixtures::card()), notes };
    state.done(Done { change, told: Ok("Noted.".into()) });
    assert!(state.weigh.wants(&snapshot).is_some(), "it is read again");
    press(&mut state, &snapshot, KeyCode::Char('z'));
    press(&mut state, &snapshot, KeyCode::Char('X'));
    let bars = press(&mut state, &snapshot, KeyCode::Enter);
    let Outcome::ExportPage { wish, .. } = bars else { panic!("{bars:?}") };
    assert_eq!(wish.look.parts, [PagePart::Bars, PagePart::Table]);
    press(&mut state, &snapshot, KeyCode::Char('l'));
    assert_eq!(state.view, View::Shape);
    assert_eq!(state.shape.draft(&snapshot).values.core_offset, settings.core_offset);
}

#[test]
fn a_letter_with_the_control_key_is_not_typed() {
    let snapshot = snapshot();
    let mut state = State::new(View::Climb);
    press(&mut state, &snapshot, KeyCode::Char('X'));
    let before = state.overlay.clone();
    let control = KeyEvent::new(KeyCode::Char('u'), KeyModifiers::CONTROL);
    state.handle(&Event::Key(control), &snapshot, AREA);
    assert_eq!(state.overlay, before);
}

#[rstest]
#[case(View::Climb, "climb-2.svg", "Climb 2")]
#[case(View::Trace, "climb-2-trial-", "Power, W")]
#[case(View::Shape, "curve.svg", "Clock at each voltage, MHz")]
#[case(View::Air, "fan.svg", "Fan speed, %")]
fn the_chart_of_each_view_can_be_saved(
    #[case] view: View,
    #[case] file: &str,
    #[case] within: &str,
) {
    let snapshot = match view {
        View::Shape => crate::tui::views::shape::state::tests::moment(CurveKind::Points),
        View::Air => crate::tui::views::air::state::tests::moment(),
        _ => snapshot(),
    };
    let mut state = State::new(view);
    press(&mut state, &snapshot, KeyCode::Char('X'));
    let drawn = press(&mut state, &snapshot, KeyCode::Enter);
    let Outcome::ExportChart { svg, path, .. } = drawn else { panic!("{drawn:?}") };
    assert!(path.to_str().unwrap().starts_with(file), "{}", path.display());
    assert!(svg.contains(within) && !svg.contains("NaN"), "{svg}");
}

/// Each of them notes all that is known anew: without it, they would note the usual values over those of the user.
#[rstest]
#[case(KeyCode::Char('k'))]
#[case(KeyCode::Char('w'))]
#[case(KeyCode::Char('N'))]
fn nothing_is_noted_in_air_where_the_notes_could_not_be_read(#[case] key: KeyCode) {
    let mut snapshot = crate::tui::views::air::state::tests::moment();
    let mut state = State::new(View::Air);
    let outcome = press(&mut state, &snapshot, key);
    assert!(state.overlay.is_some() || matches!(outcome, Outcome::Send(Command::SetAir(_))));
    snapshot.machine.air = None;
    let mut state = State::new(View::Air);
    assert_eq!(press(&mut state, &snapshot, key), Outcome::Nothing);
    assert_eq!(state.overlay, None);
}

#[test]
fn in_ledger_tab_leads_to_profiles_whose_keys_are_their_own() {
    let snapshot = snapshot();
    let mut state = State::new(View::Ledger);
    press(&mut state, &snapshot, KeyCode::Tab);
    press(&mut state, &snapshot, KeyCode::Tab);
    assert_eq!(state.ledger.list(), List::Profiles);
    press(&mut state, &snapshot, KeyCode::Char('x'));
    let written = press(&mut state, &snapshot, KeyCode::Enter);
    let Outcome::Change(Change::ExportProfile { path, .. }) = written else {
        panic!("{written:?}")
    };
    assert_eq!(path.to_str(), Some("last-autumn.json"));
    press(&mut state, &snapshot, KeyCode::Char('i'));
    assert_eq!(press(&mut state, &snapshot, KeyCode::Enter), Outcome::Nothing, "no file yet");
    type_in(&mut state, &snapshot, "theirs.json");
    let read = press(&mut state, &snapshot, KeyCode::Enter);
    let Outcome::Change(Change::ImportProfile { path, share, .. }) = read else {
        panic!("{read:?}")
    };
    assert_eq!((path.to_str(), share.value()), (Some("theirs.json"), 25.0));
    press(&mut state, &snapshot, KeyCode::Char('d'));
    let gone = press(&mut state, &snapshot, KeyCode::Char('y'));
    assert_eq!(gone, Outcome::Send(Command::DropProfile("last autumn".into())));
    press(&mut state, &snapshot, KeyCode::Char('l'));
    assert_eq!(state.view, View::Shape);
}

/// What a free run would begin with: `F`, and the load that is offered first.
fn begun(state: &mut State, snapshot: &Snapshot) -> FreeStart {
    press(state, snapshot, KeyCode::Char('F'));
    assert!(matches!(state.overlay, Some(Overlay::Loads(_))), "{:?}", state.overlay);
    match press(state, snapshot, KeyCode::Enter) {
        Outcome::Send(Command::FreeRun(start)) => *start,
        other => panic!("not begun: {other:?}"),
    }
}

#[test]
fn a_free_run_begins_under_what_is_looked_at_or_shaped_else_the_engine_chooses() {
    let mut snapshot = shapeable();
    let mut state = State::new(View::Survey);
    let start = begun(&mut state, &snapshot);
    assert_eq!((start.settings, start.yes), (None, false));
    assert_eq!(start.load.as_deref(), Some("medley"), "that of the plan");
    assert_eq!(state.view, View::Climb);

    snapshot.runs.looked_at = Some(Arc::new(run_view()));
    let start = begun(&mut state, &snapshot);
    assert_eq!(start.settings, run_view().taken, "the trial that is looked at");

    snapshot.runs.looked_at = None;
    let mut state = State::new(View::Shape);
    press(&mut state, &snapshot, KeyCode::End);
    press(&mut state, &snapshot, KeyCode::Up);
    let shaped = state.shape.draft(&snapshot).settings().unwrap();
    let start = begun(&mut state, &snapshot);
    assert_eq!(start.settings, Some(shaped));
    assert_eq!(state.view, View::Shape, "one sees the card move along its curve");
}

#[test]
fn another_load_is_chosen_from_the_list() {
    let snapshot = snapshot();
    let mut state = State::new(View::Climb);
    press(&mut state, &snapshot, KeyCode::Char('F'));
    for _ in 0..9 {
        press(&mut state, &snapshot, KeyCode::Down);
    }
    assert_eq!(state.overlay, Some(Overlay::Loads(1)), "no further than the last");
    let Outcome::Send(Command::FreeRun(start)) = press(&mut state, &snapshot, KeyCode::Enter)
    else {
        panic!("not begun")
    };
    assert_eq!(start.load.as_deref(), Some("kiln"));
    press(&mut state, &snapshot, KeyCode::Char('F'));
    assert_eq!(press(&mut state, &snapshot, KeyCode::Esc), Outcome::Nothing);
    assert_eq!(state.overlay, None);
}

#[test]
fn what_is_shaped_in_a_free_run_is_applied_at_once_and_a_drag_when_it_is_over() {
    let mut snapshot = shapeable();
    let running = free_snapshot();
    snapshot.runs.activity = Activity::Running;
    snapshot.runs.free = running.runs.free;
    let mut state = State::new(View::Shape);
    press(&mut state, &snapshot, KeyCode::End);
    let moved = press(&mut state, &snapshot, KeyCode::Up);
    let Outcome::Send(Command::Apply { settings, yes: false }) = moved else {
        panic!("not applied: {moved:?}")
    };
    assert!(settings.curve.is_some());
    // The same again asks for nothing.
    assert_eq!(state.apply_what_is_shaped(&snapshot), Outcome::Nothing);

    let left = MouseButton::Left;
    state.handle(&at(MouseEventKind::Down(left), (50, 30)), &snapshot, AREA);
    let dragged = state.handle(&at(MouseEventKind::Drag(left), (50, 26)), &snapshot, AREA);
    assert_eq!(dragged, Outcome::Nothing, "not yet");
    let over = state.handle(&at(MouseEventKind::Up(left), (50, 26)), &snapshot, AREA);
    assert!(matches!(over, Outcome::Send(Command::Apply { .. })), "{over:?}");
}

#[test]
fn without_a_free_run_nothing_that_is_shaped_is_applied() {
    let snapshot = shapeable();
    let mut state = State::new(View::Shape);
    press(&mut state, &snapshot, KeyCode::End);
    assert_eq!(press(&mut state, &snapshot, KeyCode::Up), Outcome::Nothing);
    assert_eq!(state.apply_what_is_shaped(&snapshot), Outcome::Nothing);
}

#[rstest]
#[case(KeyCode::Char('v'), true)]
#[case(KeyCode::Char('g'), true)]
#[case(KeyCode::Char('u'), true)]
#[case(KeyCode::Right, true)]
#[case(KeyCode::Char('y'), false)]
#[case(KeyCode::Char('a'), false)]
#[case(KeyCode::Char('e'), false)]
#[case(KeyCode::Char('z'), false)]
fn the_keys_of_a_free_run_are_those_and_no_others(#[case] code: KeyCode, #[case] sends: bool) {
    let outcome = press(&mut State::new(View::Climb), &free_snapshot(), code);
    assert_eq!(matches!(outcome, Outcome::Send(_)), sends, "{outcome:?}");
    let elsewhere = press(&mut State::new(View::Trace), &free_snapshot(), code);
    assert!(!matches!(elsewhere, Outcome::Send(Command::Apply { .. })), "only where it is seen");
}

#[test]
fn a_number_for_a_free_run_is_typed_into_a_line_of_its_own() {
    let snapshot = free_snapshot();
    let mut state = State::new(View::Climb);
    press(&mut state, &snapshot, KeyCode::Down);
    press(&mut state, &snapshot, KeyCode::Enter);
    assert!(matches!(state.overlay, Some(Overlay::FreeValue { label: "core clock offset", .. })));
    type_in(&mut state, &snapshot, "45");
    let sent = press(&mut state, &snapshot, KeyCode::Enter);
    let Outcome::Send(Command::Apply { settings, .. }) = sent else { panic!("{sent:?}") };
    assert_eq!(settings.core_offset, Some(yard_step_core::MhzOffset(45)));
    // Nothing typed changes nothing, and stays.
    press(&mut state, &snapshot, KeyCode::Enter);
    assert_eq!(press(&mut state, &snapshot, KeyCode::Enter), Outcome::Nothing);
    press(&mut state, &snapshot, KeyCode::Esc);
    assert_eq!(state.overlay, None);
}

#[test]
fn a_free_run_that_has_ended_is_put_away_by_escape() {
    let mut snapshot = snapshot();
    snapshot.runs.free = Some(Arc::new(ended_free_view()));
    let mut state = State::new(View::Climb);
    assert!(state.moment(&snapshot).free_over);
    assert_eq!(press(&mut state, &snapshot, KeyCode::Esc), Outcome::Nothing);
    assert!(!state.moment(&snapshot).free_over, "the climb is shown again");
}

#[test]
fn the_form_of_the_settings_begins_with_what_held_and_is_shown_beside_the_clock_line() {
    let snapshot = snapshot();
    let mut state = State::new(View::Survey);
    press(&mut state, &snapshot, KeyCode::Char('t'));
    assert_eq!(state.view, View::Climb);
    let Some(Overlay::Settings(form)) = &state.overlay else { panic!("{:?}", state.overlay) };
    let held = snapshot.climb.trials.iter().rev().find(|trial| trial.verdict() == Verdict::Clean);
    assert_eq!(form.settings(), held.unwrap().held(), "not with stock");
}
