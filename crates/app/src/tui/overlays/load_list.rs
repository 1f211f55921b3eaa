//! The loads of the climb: what each is for, how far its baseline is, and what the settings that are shown bring
//! under it; and the form in which a program of the user's own becomes a load.
//!
//! ```text
//!   load        for             baseline   core +120 MHz      what it is
//! ▸ kiln        full load       3 of 3     +3.1 ± 0.2 %       most heat
//!   sluice      cross-check 1   2 of 2     not run            memory traffic
//! ```

use ratatui::crossterm::event::KeyCode;
use ratatui::style::Style;
use yard_step_core::LoadGain;
use yard_step_engine::load::{ManualLoad, OutsideSpec};
use yard_step_engine::{ByLoad, Command, LoadRoles, Snapshot};
use yard_step_scenes::SizedScene;

use crate::tui::overlays::fields::{Fields, TextField};
use crate::tui::theme::{Role, Theme};
use crate::tui::widgets::{cut, wrapped};

/// Columns of a line, but for what the load is.
const BEFORE: u16 = 68;
/// Longest name of a load, and longest text of the form.
const LONGEST: (usize, usize) = (14, 200);

/// The list, or the form over it.
#[derive(Debug, Clone, PartialEq)]
pub enum LoadList {
    /// Choosing a load: place in the list.
    Choose(usize),
    /// Adding one.
    Add(Fields),
}

/// What comes of a key.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Did {
    /// Another state of the list, and perhaps a command.
    Stay(LoadList, Option<Command>),
    /// A program to be added.
    Add(Box<OutsideSpec>),
    /// It closes.
    Close,
}

impl LoadList {
    /// Takes in a key.
    pub(crate) fn key(self, code: KeyCode, snapshot: &Snapshot) -> Did {
        match self {
            Self::Choose(chosen) => choose(chosen, code, snapshot),
            Self::Add(form) => add(form, code),
        }
    }
}

fn choose(chosen: usize, code: KeyCode, snapshot: &Snapshot) -> Did {
    let loads = &snapshot.runs.loads;
    let last = loads.len().saturating_sub(1);
    let chosen = chosen.min(last);
    let stay = |chosen| Did::Stay(LoadList::Choose(chosen), None);
    let Some(name) = loads.get(chosen) else { return Did::Close };
    let mut roles = LoadRoles::of(&snapshot.climb.plan);
    let place = roles.cross_checks.iter().position(|load| load == name);
    match (code, place) {
        (KeyCode::Esc, _) => return Did::Close,
        (KeyCode::Up, _) => return stay(chosen.saturating_sub(1)),
        (KeyCode::Down, _) => return stay((chosen + 1).min(last)),
        (KeyCode::Char('a'), _) => return Did::Stay(LoadList::Add(form()), None),
        (KeyCode::Enter, _) => roles.steps.clone_from(name),
        (KeyCode::Char('f'), _) => {
            let is_full = roles.full.as_ref() == Some(name);
            roles.full = (!is_full).then(|| name.clone());
        }
        (KeyCode::Char('r'), _) => {
            let Some(resized) = name.parse::<SizedScene>().ok().map(SizedScene::at_next_size)
            else {
                return stay(chosen);
            };
            let Some(at) = rename(&mut roles, name, resized, loads) else { return stay(chosen) };
            return Did::Stay(LoadList::Choose(at), Some(Command::SetLoads(roles)));
        }
        (KeyCode::Char(' '), Some(at)) => drop(roles.cross_checks.remove(at)),
        (KeyCode::Char(' '), None) => roles.cross_checks.push(name.clone()),
        (KeyCode::Left, Some(at)) if at > 0 => roles.cross_checks.swap(at, at - 1),
        (KeyCode::Right, Some(at)) if at + 1 < roles.cross_checks.len() => {
            roles.cross_checks.swap(at, at + 1);
        }
        _ => return stay(chosen),
    }
    Did::Stay(LoadList::Choose(chosen), Some(Command::SetLoads(roles)))
}

/// Gives a scene's parts in the climb to the same scene at another size, or a step of the cross-check where it has none;
/// returns its line in the list that comes of it. None where that size has a part already.
fn rename(
    roles: &mut LoadRoles,
    name: &str,
    resized: SizedScene,
    loads: &[String],
) -> Option<usize> {
    let new = resized.name();
    let has = |roles: &LoadRoles, name: &str| {
        roles.steps == name
            || roles.full.as_deref() == Some(name)
            || roles.cross_checks.iter().any(|load| load == name)
    };
    if has(roles, &new) {
        return None;
    }
    if has(roles, name) {
        let parts = std::iter::once(&mut roles.steps)
            .chain(roles.full.as_mut())
            .chain(&mut roles.cross_checks);
        parts.filter(|part| *part == name).for_each(|part| part.clone_from(&new));
    } else {
        roles.cross_checks.push(new);
    }
    // The usual sizes are always listed, each other one behind its scene while it has a part.
    let usual = loads.iter().position(|load| load == resized.scene().name())?;
    let is_usual = resized == SizedScene::from(resized.scene());
    let before = loads[usual..].iter().take_while(|load| {
        let other = load.parse::<SizedScene>();
        other.is_ok_and(|other| other.scene() == resized.scene()) && *load != name
    });
    Some(if is_usual { usual } else { usual + before.count().max(1) })
}

/// The form for a program of the user's own.
fn form() -> Fields {
    Fields::new(vec![
        TextField::text("name", "", LONGEST.0),
        TextField::text("command", "", LONGEST.1),
        TextField::text("score", "", LONGEST.1),
        TextField::text("results file", "", LONGEST.1),
        TextField::choice("runs", &["until it is stopped", "to its own end"], 0),
        TextField::text("lasts, s", "", 8),
    ])
}

fn add(mut form: Fields, code: KeyCode) -> Did {
    match code {
        KeyCode::Esc => return Did::Stay(LoadList::Choose(0), None),
        KeyCode::Enter => match spec_of(&form) {
            Ok(spec) => return Did::Add(Box::new(spec)),
            Err(problem) => form.problem = Some(problem),
        },
        code => form.key(code),
    }
    Did::Stay(LoadList::Add(form), None)
}

/// The load as it was filled in, or why it cannot be one yet.
fn spec_of(form: &Fields) -> Result<OutsideSpec, String> {
    let name = form.typed(0);
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "-_".contains(c);
    if name.is_empty() || !name.chars().all(is_plain) {
        return Err("A load's name is made of letters, digits, - and _.".into());
    }
    let words = shlex::split(form.typed(1)).filter(|words| !words.is_empty());
    let words =
        words.ok_or("Type the command: a program and its arguments, quoted as in a shell.")?;
    let given = |index| Some(form.typed(index)).filter(|text| !text.is_empty());
    let seconds = given(5).map(str::parse).transpose();
    let seconds = seconds.map_err(|_| "How long it lasts is a number of seconds, or empty.")?;
    let spec = OutsideSpec {
        name: name.to_owned(),
        score: given(2).map(str::to_owned),
        results: given(3).map(crate::input::typed_path),
        whole: form.chosen(4) == 1,
        seconds,
        ..OutsideSpec::of_command(&words)
    };
    spec.check().map_err(|error| error.to_string())?;
    Ok(spec)
}

/// The settings whose gains are shown, and whose they are: those of the trial looked at, else those that would be kept.
fn shown(snapshot: &Snapshot) -> Option<(&ByLoad, String)> {
    let looked_at = snapshot.runs.looked_at.as_ref();
    let of_trial =
        looked_at.and_then(|run| Some((run.by_load.as_ref()?, format!("trial {}", run.number))));
    let kept = || Some((snapshot.climb.by_load.as_ref()?, "what would be kept now".to_owned()));
    of_trial.or_else(kept)
}

/// The lines for a screen of so many columns.
pub(crate) fn lines(
    theme: Theme,
    list: &LoadList,
    snapshot: &Snapshot,
    columns: u16,
) -> Vec<(String, Style)> {
    match list {
        LoadList::Choose(chosen) => list_lines(theme, *chosen, snapshot, columns),
        LoadList::Add(form) => form_lines(theme, form),
    }
}

fn list_lines(
    theme: Theme,
    chosen: usize,
    snapshot: &Snapshot,
    columns: u16,
) -> Vec<(String, Style)> {
    let room = columns.saturating_sub(BEFORE + 8);
    let (text, dim) = (theme.style(Role::Text), theme.style(Role::Dim));
    let shown = shown(snapshot);
    let settings = shown.as_ref().map(|(by, _)| *by);
    let heading = shown.as_ref().map_or_else(
        || "Gains are shown once something is found.".to_owned(),
        |(by, whose)| {
            let moved = by.settings.moved_but_fan(&snapshot.machine.card).join(", ");
            let moved = if moved.is_empty() { "stock".into() } else { moved };
            format!("Gain over stock of {whose}: {moved}")
        },
    );
    let line = |pointer: &str, name: &str, role: &str, runs: &str, gain: &str, what: &str| {
        format!("{pointer} {name:<15} {role:<15} {runs:<10} {gain:<22} {what}")
    };
    let wide = usize::from(columns.saturating_sub(8));
    let mut lines: Vec<(String, Style)> =
        wrapped(&heading, wide).into_iter().map(|line| (line, text)).collect();
    lines.push((line(" ", "load", "for", "baseline", "gain", "what it is"), dim));
    for (index, name) in snapshot.runs.loads.iter().enumerate() {
        let pointer = if index == chosen { "▸" } else { " " };
        let progress = snapshot.climb.baselines.iter().find(|of| of.load == *name);
        let runs = progress.map_or(String::new(), |of| format!("{} of {}", of.done, of.wanted));
        let gain = settings.map_or(String::new(), |by| gain_of(&by.gains, name));
        let what = kind_of(name).map_or_else(|| command_of(name, snapshot), str::to_owned);
        let row = line(pointer, name, &role_of(name, snapshot), &runs, &gain, &cut(&what, room));
        let style = if progress.is_some() { text } else { dim };
        let selected = style.patch(theme.style(Role::Selected));
        lines.push((row, if index == chosen { selected } else { style }));
    }
    let overall = settings.and_then(|by| LoadGain::overall(&by.gains));
    lines.push((
        overall.map_or(String::new(), |overall| {
            format!("Overall {}, the geometric mean.", yard_step_words::gain(&overall))
        }),
        theme.style(Role::Title),
    ));
    let keys = "Enter step under it   Space cross-check   ← → its turn   f full load   r size   a add   Esc close";
    lines.push((keys.into(), theme.style(Role::Accent)));
    lines
}

/// What a load is for in the climb.
fn role_of(name: &str, snapshot: &Snapshot) -> String {
    let plan = &snapshot.climb.plan;
    let place = plan.cross_check.loads.iter().position(|load| load == name);
    let roles = [
        (plan.scene == name).then(|| "steps".to_owned()),
        (plan.full_load.as_deref() == Some(name)).then(|| "full load".to_owned()),
        place.map(|at| format!("cross-check {}", at + 1)),
    ];
    roles.into_iter().flatten().collect::<Vec<_>>().join(", ")
}

/// What a scene or the manual load is, in a few words; none for a program of the user's own.
pub(super) fn kind_of(name: &str) -> Option<&'static str> {
    let scene = name.parse::<SizedScene>().ok().map(|scene| scene.purpose());
    scene.or((name == ManualLoad::NAME).then_some("whatever you run; you say what you saw"))
}

/// The command line of a program of the user's own.
fn command_of(name: &str, snapshot: &Snapshot) -> String {
    let program = snapshot.runs.programs.iter().find(|program| program.name == name);
    program.map_or(String::new(), |program| {
        let words = std::iter::once(&program.command).chain(&program.args);
        words.map(String::as_str).collect::<Vec<_>>().join(" ")
    })
}

fn gain_of(gains: &[LoadGain], name: &str) -> String {
    let Some(of) = gains.iter().find(|of| of.load == name) else { return String::new() };
    match (&of.gain, of.by_clock) {
        (None, _) => "not run".into(),
        (Some(gain), true) => format!("{} of clock", yard_step_words::gain(gain)),
        (Some(gain), false) => yard_step_words::gain(gain),
    }
}

fn form_lines(theme: Theme, form: &Fields) -> Vec<(String, Style)> {
    let dim = theme.style(Role::Dim);
    let mut lines = vec![
        ("A game, a benchmark or a script becomes a load. It is written to the configuration.".into(), theme.style(Role::Text)),
        ("score: a regular expression with one group, as in points: ([0-9.]+). Empty: it has none.".into(), dim),
        ("lasts: if it ends sooner, it has failed. Empty: it may end whenever it likes.".into(), dim),
        (String::new(), Style::new()),
    ];
    lines.extend(
        form.lines().map(|(line, chosen)| {
            (line, theme.style(if chosen { Role::Title } else { Role::Text }))
        }),
    );
    lines.push((form.problem.clone().unwrap_or_default(), theme.style(Role::Bad)));
    lines.push(("↑ ↓ line   Enter add   Esc back".into(), theme.style(Role::Accent)));
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::snapshot;
    use crate::tui::theme::Depth;
    use rstest::rstest;

    fn roles(list: LoadList, code: KeyCode, snapshot: &Snapshot) -> LoadRoles {
        match list.key(code, snapshot) {
            Did::Stay(_, Some(Command::SetLoads(roles))) => roles,
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn a_load_joins_the_cross_check_takes_its_turn_and_leaves_it() {
        let mut snapshot = snapshot();
        let mut plan = (*snapshot.climb.plan).clone();
        plan.cross_check.loads = vec!["sluice".into(), "kiln".into()];
        snapshot.climb.plan = std::sync::Arc::new(plan);
        // The list has medley and kiln.
        let joined = roles(LoadList::Choose(0), KeyCode::Char(' '), &snapshot);
        assert_eq!(joined.cross_checks, ["sluice", "kiln", "medley"]);
        let earlier = roles(LoadList::Choose(1), KeyCode::Left, &snapshot);
        assert_eq!(earlier.cross_checks, ["kiln", "sluice"]);
        let left = roles(LoadList::Choose(1), KeyCode::Char(' '), &snapshot);
        assert_eq!(left.cross_checks, ["sluice"]);
        assert_eq!(roles(LoadList::Choose(1), KeyCode::Enter, &snapshot).steps, "kiln");
        assert_eq!(
            roles(LoadList::Choose(1), KeyCode::Char('f'), &snapshot).full.as_deref(),
            Some("kiln")
        );
        let still = LoadList::Choose(1).key(KeyCode::Right, &snapshot);
        assert_eq!(still, Did::Stay(LoadList::Choose(1), None), "it is the last already");
    }

    #[test]
    fn a_scene_changes_its_size_with_all_its_parts_and_other_loads_have_none() {
        let mut snapshot = snapshot();
        let list = |snapshot: &mut Snapshot, names: &[&str]| {
            snapshot.runs.loads =
                names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>().into();
        };
        let mut plan = (*snapshot.climb.plan).clone();
        (plan.scene, plan.full_load) = ("loom".into(), Some("kiln".into()));
        plan.cross_check.loads = vec!["kiln".into(), "loom@96x54".into()];
        snapshot.climb.plan = std::sync::Arc::new(plan);
        list(&mut snapshot, &["kiln", "sluice", "loom", "loom@96x54", "manual"]);
        let did = LoadList::Choose(0).key(KeyCode::Char('r'), &snapshot);
        let Did::Stay(LoadList::Choose(at), Some(Command::SetLoads(sized))) = did else { panic!() };
        assert_eq!((at, sized.full.as_deref()), (1, Some("kiln@160x90")));
        assert_eq!(sized.cross_checks, ["kiln@160x90", "loom@96x54"]);
        // From the smallest the usual one would follow, and has a part already.
        let did = LoadList::Choose(3).key(KeyCode::Char('r'), &snapshot);
        assert_eq!(did, Did::Stay(LoadList::Choose(3), None));
        // One without a part joins the cross-check at the next size.
        let joined = roles(LoadList::Choose(1), KeyCode::Char('r'), &snapshot);
        assert_eq!(joined.cross_checks.last().unwrap(), "sluice@160x90");
        let did = LoadList::Choose(4).key(KeyCode::Char('r'), &snapshot);
        assert_eq!(did, Did::Stay(LoadList::Choose(4), None), "not ours to size");
    }

    fn filled(texts: [&str; 6]) -> Fields {
        let mut form = form();
        for text in texts {
            text.chars().for_each(|c| form.key(KeyCode::Char(c)));
            form.key(KeyCode::Down);
        }
        form
    }

    #[test]
    fn a_program_is_added_with_its_arguments_and_what_it_tells() {
        let form = filled(["harbour", "sh 'my bench.sh' --loop", "score: ([0-9]+)", "", "", "90"]);
        let Did::Add(spec) = LoadList::Add(form).key(KeyCode::Enter, &snapshot()) else {
            panic!("not added");
        };
        assert_eq!((spec.name.as_str(), spec.command.as_str()), ("harbour", "sh"));
        assert_eq!(spec.args, ["my bench.sh", "--loop"]);
        assert_eq!((spec.score.as_deref(), spec.seconds), (Some("score: ([0-9]+)"), Some(90.0)));
        assert!(!spec.whole && spec.success == [0]);
    }

    #[rstest]
    #[case(["", "sh", "", "", "", ""], "letters, digits")]
    #[case(["a b", "sh", "", "", "", ""], "letters, digits")]
    #[case(["a", "", "", "", "", ""], "Type the command")]
    #[case(["a", "sh 'x", "", "", "", ""], "Type the command")]
    #[case(["a", "sh", "(", "", "", ""], "the pattern \"(\"")]
    #[case(["a", "sh", "", "", "", "soon"], "a number of seconds")]
    fn what_cannot_be_a_load_is_told_and_the_form_stays(
        #[case] texts: [&str; 6],
        #[case] told: &str,
    ) {
        let did = LoadList::Add(filled(texts)).key(KeyCode::Enter, &snapshot());
        let Did::Stay(LoadList::Add(form), None) = did else { panic!("{did:?}") };
        assert!(form.problem.as_ref().unwrap().contains(told), "{form:?}");
    }

    #[test]
    fn every_load_is_listed_with_its_part_its_baseline_and_what_it_gained() {
        let mut snapshot = snapshot();
        snapshot.runs.loads =
            std::sync::Arc::new(vec!["kiln".into(), "medley".into(), "sluice".into()]);
        let lines = lines(Theme::new(Depth::None), &LoadList::Choose(0), &snapshot, 160);
        let text: Vec<&str> = lines.iter().map(|(line, _)| line.as_str()).collect();
        assert_eq!(
            text[0],
            "Gain over stock of what would be kept now: core clock offset +120 MHz"
        );
        assert!(text[2].starts_with("▸ kiln") && text[2].contains("+3.1 ± 0.2 %"), "{}", text[2]);
        assert!(text[3].contains("steps") && text[3].contains("2 of 3"), "{}", text[3]);
        assert!(text[4].contains("not run"), "{}", text[4]);
        assert!(text[5].starts_with("Overall +3.7 ± 0.1 %"), "{}", text[5]);
    }
}
