//! What a running session is doing, for another terminal, and where others of this user tell it.

use std::fs;
use std::path::Path;

use serde::{Deserialize, Serialize};
use yard_step_core::{CardDescription, Sample, Seconds};
use yard_step_engine::{Activity, Restart, RunView, Snapshot, is_alive};

/// Ending of the files.
pub(crate) const ENDING: &str = "status";
/// Largest file that is read, bytes: far more than any that is written.
const LARGEST: u64 = 64 * 1024;
/// Version of the format.
const VERSION: u32 = 1;

/// What a session can be doing.
pub(crate) const DOING: [&str; 6] =
    ["waiting", "running", "paused", "auto-climb", "free run", "machine down"];

/// What a session is doing. Units are in the names; what is not known is `null`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct Status {
    pub format: String,
    pub version: u32,
    /// Number of its process.
    pub process: u32,
    pub card: String,
    pub unit: String,
    pub climb: i64,
    /// One of [`DOING`].
    pub doing: String,
    pub load: Option<String>,
    pub trial: Option<u32>,
    /// Settings of the present run, or of the last one, in a few words.
    pub settings: Option<String>,
    pub seconds: Option<f64>,
    pub planned_seconds: Option<f64>,
    pub score: Option<f64>,
    pub core_clock_mhz: Option<f64>,
    pub board_power_w: Option<f64>,
    pub core_temperature_c: Option<f64>,
    pub hot_spot_c: Option<f64>,
    pub fan_percent: Option<f64>,
    pub frames_per_second: Option<f64>,
    pub wrong_frames: Option<u64>,
    /// Verdict of the last run that has ended, and its reason.
    pub verdict: Option<String>,
    pub reason: Option<String>,
    /// Alarms of the user's own that go off now.
    pub alarms: Vec<String>,
}

impl Status {
    /// Of the interface.
    pub(crate) fn of_snapshot(snapshot: &Snapshot) -> Self {
        let is_running = matches!(snapshot.runs.activity, Activity::Running | Activity::Paused);
        let is_free = snapshot.runs.free.as_ref().is_some_and(|free| free.ended.is_none());
        let doing = match (snapshot.runs.activity, snapshot.machine.restart) {
            (Activity::Waiting, Some(Restart::Down | Restart::CardGone)) => "machine down",
            (Activity::Running, _) if is_free => "free run",
            (Activity::Running | Activity::Waiting, _) if snapshot.runs.auto => "auto-climb",
            (Activity::Running, _) => "running",
            (Activity::Paused, _) => "paused",
            (Activity::Waiting | Activity::Gone, _) => "waiting",
        };
        let now = match (&snapshot.runs.newest, is_running) {
            (Some(run), true) => Some(run.sample),
            _ => snapshot.machine.sensors,
        };
        let last = snapshot.climb.trials.last();
        Self {
            climb: snapshot.climb.number,
            doing: doing.into(),
            verdict: last.map(|trial| trial.verdict().to_string()),
            reason: last.map(|trial| trial.reason.clone()),
            alarms: snapshot.machine.alarms.iter().map(ToString::to_string).collect(),
            ..Self::of_run(&snapshot.machine.card, snapshot.runs.newest.as_deref(), now)
        }
    }

    /// Of a run without the interface.
    pub(crate) fn of_run(
        card: &CardDescription,
        run: Option<&RunView>,
        now: Option<Sample>,
    ) -> Self {
        let now = now.unwrap_or_default();
        Self {
            format: "yard-step-status".into(),
            version: VERSION,
            process: std::process::id(),
            card: card.name.clone(),
            unit: card.serial.clone(),
            climb: run.map_or(0, |run| run.climb),
            doing: "running".into(),
            load: run.map(|run| run.scene.clone()),
            trial: run.map(|run| run.number),
            settings: run.map(|run| run.what.clone()),
            seconds: run.map(|run| run.at.value()),
            planned_seconds: run.map(|run| run.planned.value()),
            score: run.and_then(|run| run.score),
            core_clock_mhz: now.core_clock.map(|clock| clock.value()),
            board_power_w: now.board_power.map(|power| power.value()),
            core_temperature_c: now.core_temperature.map(|at| at.value()),
            hot_spot_c: now.hot_spot.map(|at| at.value()),
            fan_percent: now.fan.map(|fan| fan.value()),
            frames_per_second: now.frame_rate,
            wrong_frames: run.map(|run| run.seen.wrong_frames),
            verdict: None,
            reason: None,
            alarms: Vec::new(),
        }
    }

    /// It in a line.
    pub(crate) fn line(&self) -> String {
        let mut parts = vec![format!("{} unit {}", self.card, self.unit), self.doing.clone()];
        if let (Some(trial), Some(load), Some(settings)) = (self.trial, &self.load, &self.settings)
        {
            parts.push(format!("trial {trial} at {settings}, {load}"));
        }
        if let Some(seconds) = self.seconds.filter(|_| self.doing != "waiting") {
            parts.push(Seconds(seconds.round()).in_words());
        }
        let figures = [
            (self.core_clock_mhz, "MHz"),
            (self.board_power_w, "W"),
            (self.core_temperature_c, "°C"),
            (self.frames_per_second, "fps"),
        ];
        parts.extend(
            figures.into_iter().filter_map(|(value, unit)| Some(format!("{:.0} {unit}", value?))),
        );
        if let Some(wrong) = self.wrong_frames.filter(|wrong| *wrong > 0) {
            parts.push(format!("{wrong} wrong frames"));
        }
        parts.extend(self.verdict.iter().map(|verdict| format!("last: {verdict}")));
        parts.extend(self.alarms.iter().map(|alarm| format!("alarm: {alarm}")));
        parts.join(" · ")
    }
}

/// What all sessions of this user are doing; files that a killed one left are taken away.
pub(crate) fn sessions(directory: &Path) -> Vec<Status> {
    let entries = fs::read_dir(directory).into_iter().flatten().flatten();
    let mut all: Vec<Status> = entries.filter_map(|entry| read(&entry.path())).collect();
    all.sort_by(|a, b| (&a.card, &a.unit, a.process).cmp(&(&b.card, &b.unit, b.process)));
    all
}

fn read(path: &Path) -> Option<Status> {
    let is_one = path.extension().is_some_and(|ending| ending == ENDING)
        && fs::metadata(path).is_ok_and(|found| found.is_file() && found.len() <= LARGEST);
    let status: Status = serde_json::from_slice(&fs::read(path).ok().filter(|_| is_one)?).ok()?;
    if status.version != VERSION {
        return None;
    }
    if !is_alive(status.process) {
        let _ = fs::remove_file(path);
        return None;
    }
    Some(status)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{free_snapshot, snapshot};
    use rstest::rstest;
    use yard_step_engine::Snapshot;

    fn of(change: impl FnOnce(&mut Snapshot)) -> Status {
        let mut snapshot = snapshot();
        change(&mut snapshot);
        Status::of_snapshot(&snapshot)
    }

    #[rstest]
    #[case(|_: &mut Snapshot| (), "waiting")]
    #[case(|s: &mut Snapshot| s.runs.activity = Activity::Running, "running")]
    #[case(|s: &mut Snapshot| s.runs.activity = Activity::Paused, "paused")]
    #[case(|s: &mut Snapshot| s.runs.auto = true, "auto-climb")]
    #[case(|s: &mut Snapshot| s.machine.restart = Some(Restart::Down), "machine down")]
    #[case(|s: &mut Snapshot| *s = free_snapshot(), "free run")]
    fn what_a_session_is_doing_is_told(#[case] change: fn(&mut Snapshot), #[case] doing: &str) {
        assert_eq!(of(change).doing, doing);
        assert!(DOING.contains(&doing), "a collector is told of it");
    }

    #[test]
    fn a_line_has_card_run_figures_and_the_last_verdict() {
        let line = of(|s| s.runs.activity = Activity::Running).line();
        assert_eq!(
            line,
            "Test card unit 7 · running · trial 4 at core +60 MHz, lantern · 10 min · 2025 MHz · 217 W · \
             68 °C · last: load died"
        );
        let waiting = of(|s| s.machine.sensors = None).line();
        assert!(!waiting.contains("10 min"), "{waiting}");
    }

    #[rstest]
    #[case::garbled(b"{half".to_vec())]
    #[case::another_version(br#"{"format": "yard-step-status", "version": 9}"#.to_vec())]
    #[case::too_large(vec![b' '; 70_000])]
    fn what_is_no_status_is_passed_over(#[case] content: Vec<u8>) {
        let dir = tempfile::tempdir().unwrap();
        fs::write(dir.path().join("1-card.status"), content).unwrap();
        assert_eq!(sessions(dir.path()), []);
    }

    #[test]
    fn the_file_of_a_killed_session_is_taken_away() {
        let dir = tempfile::tempdir().unwrap();
        let mut gone = std::process::Command::new("true").spawn().unwrap();
        let process = gone.id();
        gone.wait().unwrap();
        let path = dir.path().join("gone.status");
        let left = Status { process, ..of(|_| ()) };
        fs::write(&path, serde_json::to_vec(&left).unwrap()).unwrap();
        assert_eq!(sessions(dir.path()), []);
        assert!(!path.exists());
    }
}
