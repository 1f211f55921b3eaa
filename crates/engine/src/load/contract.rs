//! What the engine wants of a load, whatever it is made of.

use super::kin::Kin;
use yard_step_card::{Card, LoadLost};
use yard_step_core::{CheckedFrame, Ending, Expected, Seconds, Told, Verdict};
use yard_step_scenes::SizedScene;

/// A load as the engine sees it.
pub trait Load: Send {
    /// Its name in the ledger.
    fn name(&self) -> &str;

    /// What a run of it looks like when all is well.
    fn expected(&self) -> Expected;

    /// Starts it from its beginning. The card is looked at meanwhile, where that takes long: whoever holds it must hear of us.
    ///
    /// # Errors
    /// It cannot be started; why, and the way out.
    fn begin(&mut self, card: &mut dyn Card) -> Result<(), String>;

    /// Lets it work on the card for a span of time; frames that were checked are added to
    /// `checked`.
    ///
    /// # Errors
    /// Something ended the run.
    fn work(
        &mut self,
        card: &mut dyn Card,
        span: Seconds,
        checked: &mut Vec<CheckedFrame>,
    ) -> Result<(), Ending>;

    /// Looks after it while its run is held still.
    ///
    /// # Errors
    /// Something ended the run.
    fn look_while_held(&mut self, checked: &mut Vec<CheckedFrame>) -> Result<(), Ending> {
        let _ = checked;
        Ok(())
    }

    /// Ends it, if it still runs.
    fn end(&mut self);

    /// What it has told of its run so far; nothing of a load that is scored by its frames.
    fn told(&self) -> Told {
        Told::default()
    }

    /// Forgets what it has told: what comes from now on is of other settings.
    fn forget(&mut self) {}

    /// Whether a trial takes it whole, from its beginning to its own end, as often as there is time for.
    fn runs_whole(&self) -> bool {
        false
    }

    /// Its processes, where it has any of its own.
    fn kin(&self) -> Option<&Kin> {
        None
    }

    /// Whether the card works just now; time in which it does not is no part of the run.
    fn is_at_work(&self) -> bool {
        true
    }

    /// How a run is told that somebody ended who watched it, in a sentence or the beginning of one.
    fn how_told(&self, verdict: Verdict) -> String {
        format!("You watched, and said: {verdict}.")
    }

    /// Whether only the user can say how it went.
    fn is_manual(&self) -> bool {
        false
    }
}

/// What a run of a scene looks like when all is well.
pub(super) fn expected_of(scene: SizedScene) -> Expected {
    Expected { load: Some(scene.mean_load()), frames_are_checked: true }
}

/// How a run ends whose load the card has dropped, where the card itself says so.
pub(crate) fn ending_of(lost: LoadLost, hung: &str) -> Ending {
    match lost {
        LoadLost::Died => Ending::LoadDied("lost its device".into()),
        LoadLost::Hung => Ending::LoadDied(hung.to_owned()),
        LoadLost::DriverReset => Ending::DriverReset,
        LoadLost::MachineDown => Ending::MachineDown,
        LoadLost::KeeperGone => {
            Ending::NotHeld("the keeper was gone, or had put the card back".into())
        }
        LoadLost::SettingsChanged => Ending::NotHeld("another program changed the settings".into()),
        LoadLost::Gone => Ending::CardGone("the card was gone or did not answer".into()),
    }
}
