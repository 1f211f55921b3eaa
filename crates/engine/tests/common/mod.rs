//! A stand-in that is watched.
#![allow(dead_code)]

use std::sync::{Arc, Mutex};

use yard_step_card::{Card, CardChoice, CardError, LoadLost, Mishaps, Ran, StandIn, Work};
use yard_step_core::{CardDescription, Celsius, Percent, Sample, Seconds, Settings};
use yard_step_ledger::Ledger;

/// What a card has been made to do wrong, and what reached it.
#[derive(Default)]
pub struct Course {
    pub lost: Option<LoadLost>,
    pub temperature: Option<Celsius>,
    /// Share of the time that other programs take, percent.
    pub busy: f64,
    pub applied: Vec<Settings>,
    /// For each apply, the settings of the intent that was in the ledger by then.
    pub intents: Vec<Option<Settings>>,
    /// How often the card was left without a load.
    pub idled: usize,
}

/// A stand-in that is watched.
pub struct Watched {
    pub card: StandIn,
    pub course: Arc<Mutex<Course>>,
    pub ledger: Ledger,
}

impl Card for Watched {
    fn description(&self) -> &CardDescription {
        self.card.description()
    }
    fn apply(&mut self, settings: &Settings) -> Result<(), CardError> {
        let climbs = self.ledger.climb_lines(false).unwrap();
        let intent = climbs.first().and_then(|line| {
            self.ledger.climb(line.id).unwrap().unfinished.map(|intent| intent.asked)
        });
        let mut course = self.course.lock().unwrap();
        course.applied.push(*settings);
        course.intents.push(intent);
        self.card.apply(settings)
    }
    fn taken(&mut self) -> Result<Settings, CardError> {
        self.card.taken()
    }
    fn turn_fan(&mut self, speed: Percent) -> Result<(), CardError> {
        self.card.turn_fan(speed)
    }
    fn sample(&mut self) -> Result<Sample, CardError> {
        let mut sample = self.card.sample()?;
        let course = self.course.lock().unwrap();
        sample.core_temperature = course.temperature.or(sample.core_temperature);
        if course.busy > 0.0 {
            sample.background = Some(Percent(course.busy));
        }
        Ok(sample)
    }
    fn run(&mut self, span: Seconds, work: Work<'_>) -> Result<Ran, LoadLost> {
        match self.course.lock().unwrap().lost {
            Some(lost) => Err(lost),
            None => self.card.run(span, work),
        }
    }
    fn idle(&mut self, span: Seconds) {
        self.course.lock().unwrap().idled += 1;
        self.card.idle(span);
    }
    fn restart_machine(&mut self) -> bool {
        self.course.lock().unwrap().lost = None;
        self.card.restart_machine()
    }
    fn boot(&mut self) -> String {
        self.card.boot()
    }
}

impl Watched {
    /// Unit 5 of a kind, with which nothing goes wrong by chance.
    pub fn new(kind: &CardChoice, ledger: &Ledger, course: &Arc<Mutex<Course>>) -> Box<Self> {
        let mut card = kind.open(5, 0).unwrap();
        card.set_mishaps(Mishaps::NONE);
        Box::new(Self { card, course: Arc::clone(course), ledger: ledger.clone() })
    }
}
