//! The keys over states that the program really comes to: a user who presses whatever can be pressed, on a
//! session with a card, a ledger and everything else that is there.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use ratatui::crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};
use ratatui::layout::Rect;
use yard_step_card::{CardAddress, connect};
use yard_step_core::{CardDescription, Plan, Stage};
use yard_step_engine::{Engine, EngineError, Opener, Pace, Rack, Rig, Session};
use yard_step_ledger::{DataDir, Ledger};

use crate::tui::app::outcome::Outcome;
use crate::tui::app::state::State;
use crate::tui::keys::action::{Action, View};
use crate::tui::keys::moment::Moment;
use crate::tui::keys::table::bindings_at;
use crate::tui::keys::table::tests::shared;
use crate::tui::views::ledger::browser::{Answer, Browser, Change};

const AREA: Rect = Rect::new(0, 0, 160, 50);
/// Keys pressed on each card.
const PRESSES: usize = 200;

/// A machine with one card: nothing else can be opened.
struct Alone;

impl Opener for Alone {
    fn climb(&mut self, card: &CardDescription) -> Result<(Engine, Vec<String>), EngineError> {
        Err(EngineError::Rack(card.key()))
    }

    fn card(&mut self, card: &CardDescription) -> Result<Rig, EngineError> {
        Err(EngineError::Rack(card.key()))
    }
}

/// SplitMix64 (Steele, Lea and Flood 2014): the same keys each time.
struct Dice(u64);

impl Dice {
    fn below(&mut self, count: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((z ^ (z >> 31)) % count.max(1) as u64) as usize
    }
}

/// The interface without its terminal.
struct Desk {
    session: Session,
    browser: Browser,
    answers: Receiver<Answer>,
    state: State,
    dir: tempfile::TempDir,
}

impl Desk {
    fn on(address: &CardAddress) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
        let card = connect(address).unwrap();
        let cards = vec![card.description().clone()];
        let plan = Plan::from_toml(
            "scene = \"lantern\"\n[baseline]\nseconds = 20\nwarm_up_seconds = 30\n\
             [core]\nseconds = 20\nwarm_up_seconds = 5\n[rules]\nmost_warming_k = 50",
        )
        .unwrap();
        let stages = [Stage::Baseline, Stage::Core];
        let engine = Engine::begin(card, ledger.clone(), plan, &stages).unwrap();
        let rack = Rack::new(cards, 0, Box::new(Alone));
        let session = Session::start(engine, rack, Pace::Max, Vec::new(), || {});
        let (answer, answers) = channel();
        let browser = Browser::start(ledger, move |a| drop(answer.send(a))).unwrap();
        Self { session, browser, answers, state: State::new(View::Climb), dir }
    }

    /// Has the ledger's answers come in, as between two drawings.
    fn settle(&mut self) {
        let snapshot = self.session.snapshot();
        if self.state.view == View::Ledger
            && let Some(ask) = self.state.ledger.wants(&snapshot)
        {
            self.browser.ask(ask);
        }
        if self.state.view == View::Weigh
            && let Some(card) = self.state.weigh.wants(&snapshot)
        {
            self.browser.weigh(card);
        }
        while let Ok(answer) = self.answers.recv_timeout(Duration::from_millis(2)) {
            match answer {
                Answer::Found(found) => self.state.ledger.take(found),
                Answer::Weighed(runs) => self.state.weigh.take(runs),
                Answer::Done(done) => drop(self.state.done(done)),
            }
        }
    }

    fn press(&mut self, code: KeyCode) {
        let event = Event::Key(KeyEvent::new(code, KeyModifiers::NONE));
        match self.state.handle(&event, &self.session.snapshot(), AREA) {
            Outcome::Send(command) => drop(self.session.command(command)),
            Outcome::Change(change) => self.browser.change(self.in_place(change)),
            _ => {}
        }
    }

    /// A change whose file, whatever was typed as its name, lies in the walk's own directory.
    fn in_place(&self, change: Change) -> Change {
        let within = |path: PathBuf| self.dir.path().join(path);
        match change {
            Change::Export(filter, order, path) => Change::Export(filter, order, within(path)),
            Change::ExportProfile { card, view, path } => {
                Change::ExportProfile { card, view, path: within(path) }
            }
            other => other,
        }
    }

    fn moment(&self) -> Moment {
        self.state.moment(&self.session.snapshot())
    }
}

/// The moments there were, and the keys that were pressed in each view.
#[derive(Default)]
struct Visited {
    moments: BTreeSet<String>,
    tried: BTreeSet<String>,
}

impl Visited {
    fn look_at(&mut self, desk: &mut Desk) -> Moment {
        desk.settle();
        let moment = desk.moment();
        let twice = shared(moment);
        assert!(twice.is_empty(), "{twice:?} at {moment:?}");
        self.moments.insert(format!("{moment:?}"));
        if desk.state.overlay.is_none() {
            self.try_keys(desk, moment);
        }
        moment
    }

    /// Each key once in each view, on a copy of the interface and without what comes of it. A key whose
    /// action nobody takes fails an assertion of its own.
    fn try_keys(&mut self, desk: &Desk, moment: Moment) {
        for binding in bindings_at(moment) {
            let Some(code) = binding.keys.first() else { continue };
            if self.tried.insert(format!("{:?} {:?}", moment.view, binding.action)) {
                let event = Event::Key(KeyEvent::new(*code, KeyModifiers::NONE));
                drop(desk.state.clone().handle(&event, &desk.session.snapshot(), AREA));
            }
        }
    }

    /// All views, and all lists of the ledger.
    fn tour(&mut self, desk: &mut Desk) {
        desk.state.overlay = None;
        let keys = "1234789".chars().map(KeyCode::Char);
        for code in keys.chain([KeyCode::Char('8'), KeyCode::Tab, KeyCode::Tab, KeyCode::Tab]) {
            desk.press(code);
            self.look_at(desk);
        }
    }
}

#[test]
fn in_no_state_the_program_comes_to_do_two_actions_share_a_key_or_a_key_does_nothing() {
    let mut visited = Visited::default();
    for (seed, address) in CardAddress::all().into_iter().enumerate() {
        let mut desk = Desk::on(&address);
        let mut dice = Dice(seed as u64);
        visited.tour(&mut desk);
        desk.press(KeyCode::Char('2'));
        desk.press(KeyCode::Enter);
        let has_ended = (0..20_000).any(|_| visited.look_at(&mut desk).has_trials);
        assert!(has_ended, "{address}: the first trial goes on");
        for press in 0..PRESSES {
            let moment = visited.look_at(&mut desk);
            let keys: Vec<KeyCode> = bindings_at(moment)
                .filter(|binding| binding.action != Action::Quit)
                .flat_map(|binding| binding.keys)
                .copied()
                .collect();
            let code = match &desk.state.overlay {
                None => keys[dice.below(keys.len())],
                Some(_) => {
                    [KeyCode::Enter, KeyCode::Esc, KeyCode::Down, KeyCode::Char('y')][dice.below(4)]
                }
            };
            desk.press(code);
            if press % 50 == 0 {
                visited.tour(&mut desk);
            }
        }
    }
    let was = |what: &str| visited.moments.iter().any(|moment| moment.contains(what));
    for what in ["running: true", "has_curve: true", "has_row: true", "in_profiles: true"] {
        assert!(was(what), "never {what}");
    }
}
