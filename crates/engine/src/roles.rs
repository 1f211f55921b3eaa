//! The loads of a climb: which one steps, which ones cross-check, and loads that are added.

use yard_step_core::Plan;

use crate::engine::Engine;
use crate::error::EngineError;
use crate::load::OutsideSpec;

/// What the loads of a climb are for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LoadRoles {
    /// The load under which the searches step.
    pub steps: String,
    /// That for stock and the raised limits; none for the same.
    pub full: Option<String>,
    /// Those that cross-check, in their order.
    pub cross_checks: Vec<String>,
}

impl LoadRoles {
    /// Those of a plan.
    #[must_use]
    pub fn of(plan: &Plan) -> Self {
        Self {
            steps: plan.scene.clone(),
            full: plan.full_load.clone(),
            cross_checks: plan.cross_check.loads.clone(),
        }
    }

    /// The plan with these.
    fn written_into(&self, plan: &Plan) -> Plan {
        let mut plan = plan.clone();
        plan.scene.clone_from(&self.steps);
        plan.full_load.clone_from(&self.full);
        plan.cross_check.loads.clone_from(&self.cross_checks);
        plan
    }
}

impl Engine {
    /// Changes what the loads of the climb are for.
    ///
    /// # Errors
    /// A load is unknown or named twice, trials were made under another load that steps, or the ledger fails.
    pub fn set_loads(&mut self, roles: &LoadRoles) -> Result<(), EngineError> {
        let present = LoadRoles::of(self.climb.plan());
        let trials = self.climb.trials().len();
        let compares = (&roles.steps, &roles.full) != (&present.steps, &present.full);
        if compares && trials > 0 {
            return Err(EngineError::NothingToDo(format!(
                "This climb compares with what it measured under {}. Begin another with n, and choose its loads \
                 before its first trial.",
                self.climb.plan().scene
            )));
        }
        let plan = roles.written_into(self.climb.plan());
        plan.check().map_err(|error| EngineError::NothingToDo(format!("{error}.")))?;
        for name in plan.loads() {
            self.loads.know(name)?;
        }
        self.plan_anew(plan)?;
        self.ledger.set_climb_stages(self.climb_id, self.climb.stages())?;
        Ok(())
    }

    /// Adds a load of the user's own to those that can be run.
    ///
    /// # Errors
    /// Its description cannot be used, or there is one of that name.
    pub fn add_load(&mut self, spec: OutsideSpec) -> Result<(), EngineError> {
        spec.check().map_err(|error| EngineError::NothingToDo(format!("{error}.")))?;
        if self.loads.know(&spec.name).is_ok() {
            return Err(EngineError::NothingToDo(format!(
                "There is a load {} already: choose another name.",
                spec.name
            )));
        }
        self.loads.outside.push(spec);
        Ok(())
    }
}
