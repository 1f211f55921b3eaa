//! A program of the user's own as a load: a game, a benchmark, a script.

use std::fs::File;
use std::io::{BufRead, BufReader, Read};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::thread;
use std::time::{Duration, Instant, SystemTime};

use regex_lite::Regex;
use serde::{Deserialize, Serialize};
use thiserror::Error;
use yard_step_card::{Card, DrawsAt, Work};
use yard_step_core::{
    CheckedFrame, Ending, Expected, FigureName, MOST_SUB_SCORES, Seconds, Told, Verdict,
};

use super::child::{HELLO, await_hello, line_of, next_message, nonsense};
use super::contract::{Load, ending_of};
use super::kin::Kin;
use super::process::{Process, Said, in_words};
use super::protocol::{FromLoad, Reason, ToLoad};

/// What a line of a program's output means when it says that something failed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FailureRule {
    /// Regular expression that is looked for in each line.
    pub pattern: String,
    /// The verdict it stands for.
    #[serde(default = "artifacts")]
    pub verdict: Verdict,
}

fn artifacts() -> Verdict {
    Verdict::Artifacts
}

/// Where a figure stands in a program's output.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FigureRule {
    /// Its name: `score`, `fps`, `low fps`, or that of a sub-score.
    pub name: String,
    /// Regular expression whose first group is the figure, in any line; the last one counts.
    pub pattern: String,
}

/// How a program of the user's own is run, as it is written in the configuration.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OutsideSpec {
    /// Its name: the table's.
    #[serde(skip)]
    pub name: String,
    /// The program.
    pub command: String,
    /// Its arguments.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub args: Vec<String>,
    /// Whether it speaks the load protocol; otherwise its output is read as plain lines.
    #[serde(default)]
    pub protocol: bool,
    /// Regular expression whose first group is the score, in any line; the last one counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub score: Option<String>,
    /// Other figures: frames per second, sub-scores.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub figure: Vec<FigureRule>,
    /// A file that it writes its results to, read for figures and failures like its output once it has
    /// ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub results: Option<PathBuf>,
    /// Whether a trial takes it whole: it is run to its own end, as often as there is time for.
    #[serde(default)]
    pub whole: bool,
    /// How long it runs by itself, s: ended before that, it has failed. Without it, it may end
    /// with exit code 0 whenever it likes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seconds: Option<f64>,
    /// Exit codes that are no failure.
    #[serde(default = "zero")]
    pub success: Vec<i32>,
    /// Lines that tell of a failure.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub failure: Vec<FailureRule>,
}

/// Bytes of a file of results that are read.
const MOST_RESULTS: u64 = 4 << 20;
/// How much older than its start the results of a program may look: file systems count time in steps.
const CLOCKS_DIFFER: Duration = Duration::from_secs(2);

/// The lines of a file, if it was written since then.
fn lines_written_since(path: &Path, since: SystemTime) -> Result<Vec<String>, String> {
    let unread = |error: std::io::Error| format!("cannot be read: {error}");
    // Looked at before it is opened: opening a pipe would wait for whoever writes to it.
    let metadata = std::fs::metadata(path).map_err(unread)?;
    if !metadata.is_file() {
        return Err("are not a file".into());
    }
    if metadata.len() > MOST_RESULTS {
        return Err(format!("are more than {} MiB", MOST_RESULTS >> 20));
    }
    if metadata.modified().is_ok_and(|modified| modified + CLOCKS_DIFFER < since) {
        return Err("are of an earlier run".into());
    }
    let file = File::open(path).map_err(unread)?;
    BufReader::new(file.take(MOST_RESULTS)).lines().collect::<Result<_, _>>().map_err(unread)
}

fn zero() -> Vec<i32> {
    vec![0]
}

/// What is wrong with the description of a load.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("load {name}: {cause}")]
pub struct SpecError {
    name: String,
    cause: String,
}

impl OutsideSpec {
    /// A program with its arguments, of which nothing else is known: a load without a name that may end whenever it
    /// likes.
    #[must_use]
    pub fn of_command(words: &[String]) -> Self {
        Self {
            name: String::new(),
            command: words.first().cloned().unwrap_or_default(),
            args: words.iter().skip(1).cloned().collect(),
            protocol: false,
            score: None,
            figure: Vec::new(),
            results: None,
            whole: false,
            seconds: None,
            success: zero(),
            failure: Vec::new(),
        }
    }

    /// Checks what serde cannot.
    ///
    /// # Errors
    /// What is wrong, and the way out.
    pub fn check(&self) -> Result<(), SpecError> {
        let wrong = |cause: String| SpecError { name: self.name.clone(), cause };
        if self.command.trim().is_empty() {
            return Err(wrong("command is empty; name the program to be run".into()));
        }
        for FailureRule { pattern, .. } in &self.failure {
            Regex::new(pattern)
                .map_err(|error| wrong(format!("the pattern \"{pattern}\": {error}")))?;
        }
        for (name, pattern) in self.figures() {
            let regex = Regex::new(pattern)
                .map_err(|error| wrong(format!("the pattern \"{pattern}\": {error}")))?;
            if regex.captures_len() < 2 {
                return Err(wrong(format!(
                    "the {name} pattern has no group: put the number in parentheses"
                )));
            }
        }
        if self.figure.len() > MOST_SUB_SCORES {
            return Err(wrong(format!("more than {MOST_SUB_SCORES} figures; leave some out")));
        }
        if self.whole && self.seconds.is_some() {
            return Err(wrong(
                "whole and seconds exclude each other: a whole run ends when the program does"
                    .into(),
            ));
        }
        if self.seconds.is_some_and(|seconds| !(seconds.is_finite() && seconds > 0.0)) {
            return Err(wrong("seconds must be above 0".into()));
        }
        Ok(())
    }
}

impl OutsideSpec {
    /// Names and patterns of all figures.
    fn figures(&self) -> impl Iterator<Item = (&str, &str)> {
        let named = self.figure.iter().map(|rule| (rule.name.as_str(), rule.pattern.as_str()));
        self.score.as_deref().map(|pattern| ("score", pattern)).into_iter().chain(named)
    }
}

pub(super) struct OutsideLoad {
    spec: OutsideSpec,
    figures: Vec<(FigureName, Regex)>,
    failures: Vec<(Regex, Verdict)>,
    process: Option<Process>,
    told: Told,
    /// When it was started; what its file of results held before is none of its own.
    started: SystemTime,
    /// Time it has worked.
    worked: Seconds,
    due: Instant,
}

impl OutsideLoad {
    /// A load of a description that was checked; patterns that are none are left out.
    pub(super) fn new(spec: OutsideSpec) -> Self {
        let compiled = |pattern: &str| Regex::new(pattern).ok();
        let failures = spec
            .failure
            .iter()
            .filter_map(|rule| Some((compiled(&rule.pattern)?, rule.verdict)))
            .collect();
        let figures = spec
            .figures()
            .filter_map(|(name, pattern)| Some((FigureName::from(name), compiled(pattern)?)))
            .collect();
        Self {
            figures,
            failures,
            spec,
            process: None,
            told: Told::default(),
            started: SystemTime::now(),
            worked: Seconds(0.0),
            due: Instant::now(),
        }
    }

    /// Takes in what a program said that only writes lines.
    fn take_line(&mut self, line: &str) -> Result<(), Ending> {
        if let Some((_, verdict)) = self.failures.iter().find(|(rule, _)| rule.is_match(line)) {
            let how = format!("{} said: {}.", self.spec.name, line.trim_end_matches('.'));
            return Err(Ending::Told { verdict: *verdict, how });
        }
        for (name, pattern) in &self.figures {
            let captures = pattern.captures(line);
            let number = captures.and_then(|found| found.get(1)?.as_str().parse().ok());
            number.into_iter().for_each(|number| self.told.note(name, number));
        }
        Ok(())
    }

    /// Takes in the results that the program wrote to its file, if it wrote any in this run.
    fn take_results(&mut self) -> Result<(), Ending> {
        let Some(path) = self.spec.results.clone() else { return Ok(()) };
        let lines = lines_written_since(&path, self.started).map_err(|cause| {
            Ending::LoadDied(format!("ended, but its results in {} {cause}", path.display()))
        })?;
        lines.iter().try_for_each(|line| self.take_line(line))
    }

    fn listen(&mut self, checked: &mut Vec<CheckedFrame>) -> Result<(), Ending> {
        loop {
            let Some(process) = &mut self.process else { return Ok(()) };
            if self.spec.protocol {
                match next_message(process, Duration::ZERO) {
                    Ok(None) => return Ok(()),
                    Ok(Some(FromLoad::Frame(line))) => {
                        checked.push(line.checked(self.worked).map_err(|what| nonsense(&what))?);
                    }
                    Ok(Some(FromLoad::Score(score))) => {
                        self.told.note(&FigureName::Score, score.score);
                        self.told.note(&FigureName::AverageFps, score.average_fps);
                        self.told.note(&FigureName::LowFps, score.low_fps);
                    }
                    Ok(Some(FromLoad::Bye { reason, .. })) => return Err(self.bye(reason)),
                    Ok(Some(_)) => {}
                    // It may end without a word once it has done what it had to.
                    Err(Ending::LoadDied(_)) if process.exit(Duration::ZERO).is_some() => {
                        return Err(self.exited());
                    }
                    Err(ending) => return Err(ending),
                }
            } else {
                match process.next(Duration::ZERO) {
                    Ok(None) => return Ok(()),
                    Ok(Some(Said::Line(line))) => self.take_line(&line)?,
                    Ok(Some(Said::Nonsense(_))) => {}
                    Err(()) => return Err(self.exited()),
                }
            }
        }
    }

    fn bye(&mut self, reason: Reason) -> Ending {
        match reason {
            Reason::DeviceLost => Ending::LoadDied("lost its device".into()),
            Reason::Failed => Ending::LoadDied("said that it cannot go on".into()),
            Reason::Done | Reason::Stopped => self.ended_well(),
        }
    }

    fn exited(&mut self) -> Ending {
        const WAIT: Duration = Duration::from_secs(1);
        let status = self.process.as_mut().and_then(|process| process.exit(WAIT));
        match status.and_then(|status| status.code()) {
            Some(code) if self.spec.success.contains(&code) => self.ended_well(),
            _ => Ending::LoadDied(in_words(status)),
        }
    }

    fn ended_well(&mut self) -> Ending {
        if let Err(ending) = self.take_results() {
            return ending;
        }
        if self.told.is_empty() && !self.figures.is_empty() && !self.spec.protocol {
            return Ending::LoadDied(
                "ended and told none of its figures (their patterns match no line)".into(),
            );
        }
        match self.spec.seconds {
            Some(seconds) if self.worked.value() < seconds => Ending::LoadDied(format!(
                "ended by itself before its {} were over,",
                Seconds(seconds).in_words()
            )),
            _ => Ending::Finished,
        }
    }
}

impl Load for OutsideLoad {
    fn name(&self) -> &str {
        &self.spec.name
    }

    fn expected(&self) -> Expected {
        Expected { load: None, frames_are_checked: self.spec.protocol }
    }

    fn begin(&mut self, card: &mut dyn Card) -> Result<(), String> {
        self.end();
        let mut command = Command::new(&self.spec.command);
        command.args(&self.spec.args);
        match card.draws_at() {
            Some(DrawsAt::Slot(slot)) => command.env("YARD_STEP_SLOT", slot.to_string()),
            Some(DrawsAt::Gpu(address)) => command.env("YARD_STEP_GPU", address),
            None => &mut command,
        };
        self.started = SystemTime::now();
        let mut process = Process::start(&mut command)?;
        if self.spec.protocol {
            await_hello(&mut process, HELLO, card)?;
        }
        self.process = Some(process);
        (self.told, self.worked, self.due) = (Told::default(), Seconds(0.0), Instant::now());
        Ok(())
    }

    /// A program runs by the clock on the wall, whatever the pace.
    fn work(
        &mut self,
        card: &mut dyn Card,
        span: Seconds,
        checked: &mut Vec<CheckedFrame>,
    ) -> Result<(), Ending> {
        self.due = (self.due + Duration::from_secs_f64(span.value().max(0.0))).max(Instant::now());
        thread::sleep(self.due.saturating_duration_since(Instant::now()));
        let ran = card.run(span, Work::Elsewhere);
        self.worked = self.worked + span;
        self.listen(checked)?;
        ran.map(drop).map_err(|lost| ending_of(lost, "hung"))
    }

    /// A program goes on whatever we do.
    fn look_while_held(&mut self, checked: &mut Vec<CheckedFrame>) -> Result<(), Ending> {
        self.due = Instant::now();
        self.listen(checked)
    }

    fn end(&mut self) {
        if let Some(process) = self.process.take() {
            let words = if self.spec.protocol { line_of(ToLoad::Stop) } else { Vec::new() };
            process.stop(&words);
        }
    }

    fn told(&self) -> Told {
        self.told.clone()
    }

    fn forget(&mut self) {
        self.told = Told::default();
    }

    fn runs_whole(&self) -> bool {
        self.spec.whole
    }

    fn kin(&self) -> Option<&Kin> {
        self.process.as_ref().map(Process::kin)
    }
}
