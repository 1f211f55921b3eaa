//! What goes over the socket: requests and replies as JSON lines, frames as bytes.
//!
//! A connection that asks to [`Draw`](Request::Draw) carries frames from then on:
//!
//! | from | bytes | what |
//! |---|---|---|
//! | load | 1 | [`HAND_IN`] |
//! | load | 8 | width and height of the frame, `u32` each |
//! | load | 48 | activity, memory share, work, load in percent, geometry, traffic, `f64` each |
//! | card | 1 | [`RIGHT`], [`PIXELS`], or [`LOST`], after which nothing follows |
//! | card | 8 | when it was finished, seconds since the load was begun, `f64` |
//!
//! A frame that comes out as an unfailing card draws it is the load's own, and no pixel of it crosses. Before the card
//! draws another one, it asks for the pixels:
//!
//! | from | bytes | what |
//! |---|---|---|
//! | load | 1 | [`PIXELS`], after what it has handed in meanwhile |
//! | load | 4 a pixel | the frame as an unfailing card would draw it, `u32` each, `0x00RRGGBB` |
//! | card | 1 and 8 | [`OTHERWISE`], and when it was finished |
//! | card | 4 a pixel | the frame as it was drawn |
//!
//! A load may hand in several frames before the first of them is drawn. Numbers are little-endian. Pixels are in the byte order of the machine, on which both ends run.

use serde::{Deserialize, Serialize};
use yard_step_core::{CardDescription, Demand, Percent, Room, Sample, Settings, WantedLimits};

use crate::{CeilingRecord, FaultInjection, LoadLost};

/// What a card is asked.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "ask", rename_all = "snake_case")]
pub(super) enum Request {
    Describe,
    Apply {
        settings: Box<Settings>,
    },
    Taken,
    TurnFan {
        percent: Percent,
    },
    Sample,
    Run {
        seconds: f64,
    },
    Idle {
        seconds: f64,
    },
    Room {
        room: Room,
    },
    Restart,
    Boot,
    Leave,
    /// Say what is known of the card's limit table.
    Ceiling,
    /// Have the driver read this table at its next start; none is the maker's.
    WantLimits {
        wanted: Option<Box<WantedLimits>>,
    },
    FaultInjection {
        fault: FaultInjection,
    },
    Draw,
}

impl Request {
    /// The operation, as a verb.
    pub(super) const fn doing(&self) -> &'static str {
        match self {
            Self::Describe => "describe itself",
            Self::Apply { .. } => "hold settings",
            Self::TurnFan { .. } => "turn its fan",
            Self::Taken => "say what it holds",
            Self::Sample => "say what its sensors read",
            Self::Run { .. } => "work",
            Self::Idle { .. } => "wait",
            Self::Room { .. } => "note the room",
            Self::Restart => "restart",
            Self::Boot => "say since when it runs",
            Self::Leave => "let go",
            Self::Ceiling => "say what is known of its limit table",
            Self::WantLimits { .. } => "note its limit table",
            Self::FaultInjection { .. } => "misbehave",
            Self::Draw => "draw",
        }
    }
}

/// What it answers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "answer", rename_all = "snake_case")]
pub(super) enum Reply {
    Done,
    /// What the card is, and what there is to say of it as it was found.
    Described {
        card: Box<CardDescription>,
        #[serde(default)]
        told: Vec<String>,
    },
    Holds {
        settings: Box<Settings>,
    },
    Sensed {
        sample: Box<Sample>,
    },
    Ran {
        frames: Option<u64>,
        sample: Box<Sample>,
    },
    Lost {
        how: LoadLost,
    },
    Booted {
        boot: String,
    },
    Ceiling {
        record: Box<CeilingRecord>,
    },
    MachineDown,
    /// The request was not understood, or not carried out.
    Refused {
        why: String,
    },
}

/// A frame is handed in.
pub(super) const HAND_IN: u8 = 4;
/// The frame is drawn, and right.
pub(super) const RIGHT: u8 = 0;
/// The device is lost.
pub(super) const LOST: u8 = 1;
/// The pixels of the frame are wanted, or follow.
pub(super) const PIXELS: u8 = 2;
/// The frame is drawn, and its pixels follow.
pub(super) const OTHERWISE: u8 = 3;
/// Most frames that are handed in and not drawn yet.
pub(super) const MOST_AHEAD: usize = 64;
/// Bytes of a frame that is handed in.
pub(super) const HANDED_IN: usize = 8 + 6 * 8;
/// Bytes of an answer, before the pixels.
pub(super) const DRAWN: usize = 1 + 8;
/// Most pixels of a frame: 7680 by 4320, 133 MB.
pub(super) const MOST_PIXELS: usize = 7_680 * 4_320;
/// Longest request, bytes: settings with a long V/F curve take a few thousand.
pub(super) const MOST_REQUEST: usize = 64 << 10;
/// Longest reply, bytes.
pub(super) const MOST_REPLY: usize = 1 << 20;
/// Longest span that a card is asked to work or wait at once, s.
pub(super) const MOST_SPAN: f64 = 3_600.0;

pub(super) fn put_demand(bytes: &mut Vec<u8>, demand: &Demand) {
    let numbers = [
        demand.activity,
        demand.memory_share,
        demand.work_per_frame,
        demand.load.value(),
        demand.geometry,
        demand.traffic,
    ];
    bytes.extend(numbers.iter().flat_map(|number| number.to_le_bytes()));
}

/// Reads what a load says it asks for, kept to what a card can be asked.
pub(super) fn take_demand(bytes: &[u8]) -> Demand {
    let number = |index: usize| {
        let mut eight = [0; 8];
        let from = bytes.get(index * 8..index * 8 + 8).unwrap_or(&[0; 8]);
        eight.copy_from_slice(from);
        f64::from_le_bytes(eight)
    };
    let kept = |index: usize, least: f64, most: f64| {
        let number = number(index);
        if number.is_finite() { number.clamp(least, most) } else { least }
    };
    Demand {
        activity: kept(0, 0.0, 1.5),
        memory_share: kept(1, 0.0, 1.0),
        work_per_frame: kept(2, 0.1, 1e6),
        load: Percent(kept(3, 1.0, 99.0)),
        geometry: kept(4, 0.0, 1.0),
        traffic: kept(5, 0.0, 1.0),
    }
}

pub(super) fn take_side(bytes: &[u8]) -> usize {
    match bytes {
        [a, b, c, d, ..] => u32::from_le_bytes([*a, *b, *c, *d]) as usize,
        _ => 0,
    }
}
