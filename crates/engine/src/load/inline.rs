//! A scene in this process: for stand-ins that live here too, in tests and studies.

use yard_step_card::{Card, Work};
use yard_step_core::{CheckedFrame, Ending, Expected, Seconds};
use yard_step_scenes::{SceneRun, SizedScene};

use super::contract::{Load, ending_of, expected_of};

pub(super) struct InlineLoad {
    name: String,
    run: SceneRun,
}

impl InlineLoad {
    pub(super) fn new(scene: SizedScene) -> Self {
        Self { name: scene.name(), run: SceneRun::new(scene) }
    }
}

impl Load for InlineLoad {
    fn name(&self) -> &str {
        &self.name
    }

    fn expected(&self) -> Expected {
        expected_of(self.run.scene())
    }

    fn begin(&mut self, _: &mut dyn Card) -> Result<(), String> {
        self.run.rewind();
        Ok(())
    }

    fn work(
        &mut self,
        card: &mut dyn Card,
        span: Seconds,
        checked: &mut Vec<CheckedFrame>,
    ) -> Result<(), Ending> {
        let ran = card.run(span, Work::Here(&mut self.run));
        checked.extend(self.run.take_checked());
        ran.map(drop).map_err(|lost| ending_of(lost, "hung"))
    }

    fn end(&mut self) {}
}
