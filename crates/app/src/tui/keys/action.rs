//! What can be done in the views. Which keys do it is in the
//! [table](crate::tui::keys::table::bindings).

/// A view of the interface.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::EnumCount, strum::IntoStaticStr)]
pub enum View {
    /// The card, its settings, sensors and baseline.
    #[strum(to_string = "Survey")]
    Survey,
    /// The staircase, the live run and the next step.
    #[strum(to_string = "Climb")]
    Climb,
    /// Everything that was measured, over time.
    #[strum(to_string = "Trace")]
    Trace,
    /// Spoilt frames beside what they should have been.
    #[strum(to_string = "Artifacts")]
    Artifacts,
    /// Curve, window and voltages.
    #[strum(to_string = "Shape")]
    Shape,
    /// Fans, noise and heat.
    #[strum(to_string = "Air")]
    Air,
    /// Settings under many loads, and what that proves.
    #[strum(to_string = "Proof")]
    Proof,
    /// Work against what it costs.
    #[strum(to_string = "Weigh")]
    Weigh,
    /// Everything tried.
    #[strum(to_string = "Ledger")]
    Ledger,
}

impl View {
    /// All views, in the order of the work.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] = [
        Self::Survey,
        Self::Climb,
        Self::Trace,
        Self::Shape,
        Self::Air,
        Self::Proof,
        Self::Weigh,
        Self::Ledger,
        Self::Artifacts,
    ];

    /// Key that shows the view.
    #[must_use]
    pub const fn key(self) -> char {
        match self {
            Self::Survey => '1',
            Self::Climb => '2',
            Self::Trace => '3',
            Self::Artifacts => '9',
            Self::Shape => '4',
            Self::Air => '5',
            Self::Proof => '6',
            Self::Weigh => '7',
            Self::Ledger => '8',
        }
    }

    /// Name of the view.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }
}

/// Something the user can do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::EnumCount)]
pub enum Action {
    /// Carry out the next step.
    Try,
    /// Take every next step without being asked.
    Auto,
    /// Pause the run, or let it go on.
    Pause,
    /// Stop the run.
    Stop,
    /// The loads of the climb.
    Loads,
    /// Begin a free run.
    FreeRun,
    /// In a free run, another setting.
    FreeRow(Move),
    /// In a free run, the chosen setting by so many steps.
    FreeBy(i8),
    /// In a free run, type a number for the chosen setting.
    FreeType,
    /// In a free run, back to the settings before.
    FreeBack,
    /// In a free run, the move that is suggested.
    FreeSuggested,
    /// In a free run, apply what needs a yes.
    FreeYes,
    /// End the free run and try its settings as a trial.
    FreeTrial,
    /// Have the climb start from these settings.
    StartHere,
    /// Put a free run that has ended away.
    FreeAway,
    /// Next value one fine step up.
    NudgeUp,
    /// Next value one fine step down.
    NudgeDown,
    /// Leave the next value to the plan.
    DropNudge,
    /// Change a trial's verdict.
    Mark,
    /// End the stage.
    EndStage,
    /// Look at the stages, the policy and the margin, and change them.
    Stages,
    /// Another chart of the climb.
    Chart,
    /// Ask which one it was.
    Which,
    /// Measure what each setting contributes.
    LeaveOut,
    /// Keep the outcome.
    Keep,
    /// Keep the settings of one trial.
    KeepTrial,
    /// Shape the settings of what is selected.
    LoadShape,
    /// Soak the settings of what is selected.
    ProveThis,
    /// Put what is selected into before and after, or take it away.
    Beside,
    /// The chart that is shown, into a file.
    ExportChart,
    /// Put the card to the selected profile.
    UseProfile,
    /// Try the selected profile again.
    CheckProfile,
    /// Delete the selected profile.
    DropProfile,
    /// Write the selected profile to a file.
    ExportProfile,
    /// Read a profile from a file.
    ImportProfile,
    /// Card to stock.
    BackToStock,
    /// Begin another climb.
    NewClimb,
    /// Look at the trial before.
    Earlier,
    /// Look at the trial after.
    Later,
    /// Back to the present.
    Present,
    /// Say what the machine is like.
    Machine,
    /// Look at the card's limit table, and change it.
    Limits,
    /// Choose among the cards.
    Cards,
    /// Try settings of one's own.
    Settings,
    /// Cursor back in time.
    CursorBack,
    /// Cursor on in time.
    CursorOn,
    /// A shorter stretch of time.
    ZoomIn,
    /// A longer stretch of time.
    ZoomOut,
    /// An earlier stretch.
    ScrollBack,
    /// A later stretch.
    ScrollOn,
    /// Hold the picture still.
    Freeze,
    /// Take figures anew.
    ResetFigures,
    /// Lay another trial over.
    LayOver,
    /// Write what is shown to a file.
    Export,
    /// Read a trace made elsewhere.
    Import,
    /// The spoilt frame before.
    FrameBefore,
    /// The spoilt frame after.
    FrameAfter,
    /// The artifact above in the list.
    ArtifactUp,
    /// The artifact below in the list.
    ArtifactDown,
    /// A smaller part of the frame, larger.
    Nearer,
    /// A larger part of the frame.
    Farther,
    /// Write the pictures to a file.
    ExportPicture,
    /// In Shape, the point before, or a value one step down.
    ShapeLeft,
    /// In Shape, the point after, or a value one step up.
    ShapeRight,
    /// In Shape, one step up.
    ShapeUp,
    /// In Shape, one step down.
    ShapeDown,
    /// In Shape, five steps up.
    ShapeMuchUp,
    /// In Shape, five steps down.
    ShapeMuchDown,
    /// In Shape, the first point.
    ShapeFirst,
    /// In Shape, the last point.
    ShapeLast,
    /// In Shape, something else for the keys to move.
    ShapeFocus,
    /// In Shape, type a number.
    ShapeType,
    /// Flatten everything to the right of a point.
    Flatten,
    /// Smooth what lies left of a point, or the states below the top.
    Smooth,
    /// Shift the whole curve up.
    ShiftUp,
    /// Shift the whole curve down.
    ShiftDown,
    /// Undo the last move of the curve.
    Undo,
    /// Make it again.
    Redo,
    /// Everything in Shape back to the factory's values.
    Factory,
    /// A nearer look at the curve.
    ShapeNearer,
    /// A farther look at the curve.
    ShapeFarther,
    /// Have the shape tried next.
    AskShape,
    /// In Air, the point before.
    AirLeft,
    /// In Air, the point after.
    AirRight,
    /// In Air, 1 % faster.
    AirUp,
    /// In Air, 1 % slower.
    AirDown,
    /// In Air, 10 % faster.
    AirMuchUp,
    /// In Air, 10 % slower.
    AirMuchDown,
    /// In Air, the point or the target 1 °C down.
    AirCooler,
    /// In Air, the point or the target 1 °C up.
    AirHotter,
    /// In Air, another way to drive the fan.
    AirMode,
    /// In Air, type a number.
    AirType,
    /// In Air, one more point.
    AirAdd,
    /// In Air, one point less.
    AirRemove,
    /// In Air, a fan that stops when it is cool, or never.
    AirStop,
    /// In Air, another hysteresis.
    AirHysteresis,
    /// In Air, the quietest curve for the budget.
    AirDraw,
    /// In Air, what is wished of the curve.
    AirWish,
    /// In Air, how loud the fan is.
    AirNoise,
    /// In Air, drive the fan so from now on.
    AirKeep,
    /// Have the fan tried next.
    AskAir,
    /// In Proof, the settings above.
    ProofUp,
    /// In Proof, the settings below.
    ProofDown,
    /// In Proof, a soak of what is selected.
    Prove,
    /// In Proof, whether the selected profile is still what it was.
    CheckHere,
    /// In Proof, the end of the soak.
    EndSoak,
    /// In Weigh and Proof, the page to show into a file.
    ExportPage,
    /// In Weigh, the point of the frontier that costs less.
    FrontierLess,
    /// In Weigh, the point of the frontier that costs more.
    FrontierMore,
    /// In Weigh, the point before, on the frontier or not.
    PointBefore,
    /// In Weigh, the point after.
    PointAfter,
    /// In Weigh, note use, price and scores from elsewhere.
    WeighNotes,
    /// In Weigh, measure what is missing of before and after.
    MeasureCells,
    /// In Weigh, before and after, or the frontier.
    BeforeAfter,
    /// Weigh against something else.
    OtherCost,
    /// Weigh the runs of another load.
    OtherLoad,
    /// Have the picked point tried next.
    AskPoint,
    /// In Ledger, another line of the list.
    Row(Move),
    /// Trials or climbs.
    OtherList,
    /// Open what is selected.
    OpenRow,
    /// Search for words and figures.
    Search,
    /// Choose what is listed.
    Filter,
    /// Sort by something else.
    Sort,
    /// Sort the other way round.
    Reverse,
    /// Write a note.
    Jot,
    /// Flag a trial.
    Flag,
    /// Hold a trial, to compare others with it.
    Hold,
    /// Try a trial's settings again.
    Repeat,
    /// Delete what is selected.
    Delete,
    /// Bring back what was deleted.
    BringBack,
    /// Delete for good what was deleted.
    Empty,
    /// Write the list to a file.
    ExportList,
    /// Restart the machine.
    Restart,
    /// Say how a run went that only the user can see.
    Say,
    /// Next pace.
    Pace,
    /// Show a view.
    Show(View),
    /// All actions.
    Help,
    /// Leave.
    Quit,
}

/// A way through a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Move {
    /// One line up.
    Up,
    /// One line down.
    Down,
    /// A screenful up.
    PageUp,
    /// A screenful down.
    PageDown,
    /// To the first.
    First,
    /// To the last.
    Last,
}
