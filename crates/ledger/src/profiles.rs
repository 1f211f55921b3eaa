//! Profiles: settings that were kept, and every run that was made at them.

use rusqlite::{Connection, Row, named_params, params};
use serde_json::{from_str, to_string};
use yard_step_core::{
    CardDescription, Celsius, Margin, Mhz, Origin, Percent, Profile, Purpose, RunAt, Seconds,
    Settings, Stage, Verdict, Watt,
};

use crate::error::{Doing, LedgerError};
use crate::handle::{Ledger, now};

/// SQL of settings as they are told apart in the index `trial_settings`: their fan left out, since a climb
/// holds it fast while it searches.
fn without_fan(settings: &str) -> String {
    format!("json_remove({settings}, '$.fan_percent', '$.fan_curve', '$.fan_target')")
}

impl Ledger {
    /// Keeps settings under a name; a profile of that name is replaced. When it was kept is noted.
    /// One that is [in use](Profile::in_use) takes the place of the one that was.
    ///
    /// # Errors
    /// The card is not in the ledger, or the ledger cannot be written.
    pub fn keep(&self, card: &CardDescription, profile: &Profile) -> Result<(), LedgerError> {
        let (key, profile) = (card.key(), profile.clone());
        self.ask(move |connection| {
            let settings = written(&profile.settings)?;
            let doing = "keep a profile";
            let keeping = connection.transaction().doing(doing)?;
            if profile.in_use {
                take_out_of_use(&keeping, &key)?;
            }
            let (origin, cut_back) = match profile.origin {
                Origin::Climb => ("climb", None),
                Origin::Trial => ("trial", None),
                Origin::ByHand => ("by hand", None),
                Origin::Imported { cut_back } => ("imported", Some(cut_back.value())),
            };
            keeping
                .execute(
                    "INSERT INTO profile (card, name, settings, climb, trial, driver, saved, purpose,
                         margin, claimed, confirmed, origin, cut_back, in_use, kept_after)
                     SELECT id, :name, :settings, :climb, :trial, :driver, :saved, :purpose,
                         :margin, :claimed, :confirmed, :origin, :cut_back, :in_use,
                         (SELECT coalesce(max(id), 0) FROM trial)
                     FROM card WHERE key = :key
                     ON CONFLICT (card, name) DO UPDATE SET settings = excluded.settings,
                         climb = excluded.climb, trial = excluded.trial, driver = excluded.driver,
                         saved = excluded.saved, purpose = excluded.purpose,
                         margin = excluded.margin, claimed = excluded.claimed,
                         confirmed = excluded.confirmed, origin = excluded.origin,
                         cut_back = excluded.cut_back, in_use = excluded.in_use,
                         kept_after = excluded.kept_after",
                    named_params! {
                        ":name": profile.name,
                        ":settings": settings,
                        ":climb": profile.climb,
                        ":trial": profile.trial,
                        ":driver": profile.driver,
                        ":saved": now(),
                        ":purpose": profile.purpose,
                        ":margin": profile.margin.map(Margin::label),
                        ":claimed": profile.claimed,
                        ":confirmed": profile.confirmed,
                        ":origin": origin,
                        ":cut_back": cut_back,
                        ":in_use": profile.in_use,
                        ":key": key,
                    },
                )
                .doing(doing)?;
            keeping.commit().doing(doing)
        })
    }

    /// The profiles of a card, the newest first.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn profiles(&self, card: &CardDescription) -> Result<Vec<Profile>, LedgerError> {
        let key = card.key();
        self.ask(move |connection| {
            let doing = "read profiles";
            let mut select = connection
                .prepare(
                    "SELECT profile.name, settings, climb, trial, driver, saved, purpose, margin,
                         claimed, confirmed, origin, cut_back, in_use, kept_after
                     FROM profile JOIN card ON card.id = profile.card WHERE card.key = ?
                     ORDER BY saved DESC, profile.id DESC",
                )
                .doing(doing)?;
            let mut rows = select.query(params![key]).doing(doing)?;
            let mut profiles = Vec::new();
            while let Some(row) = rows.next().doing(doing)? {
                profiles.push(read(row)?);
            }
            Ok(profiles)
        })
    }

    /// Puts this profile in use on a card, or none; whether there is one of that name.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn use_profile(
        &self,
        card: &CardDescription,
        name: Option<&str>,
    ) -> Result<bool, LedgerError> {
        let (key, name) = (card.key(), name.map(str::to_owned));
        self.ask(move |connection| {
            let doing = "use a profile";
            let change = connection.transaction().doing(doing)?;
            take_out_of_use(&change, &key)?;
            let found = match &name {
                None => 1,
                Some(name) => change
                    .execute(
                        "UPDATE profile SET in_use = 1 WHERE name = ?
                         AND card = (SELECT id FROM card WHERE key = ?)",
                        params![name, key],
                    )
                    .doing(doing)?,
            };
            // One that is not there leaves the one in use where it is.
            if found > 0 {
                change.commit().doing(doing)?;
            }
            Ok(found > 0)
        })
    }

    /// Deletes a profile for good; whether there was one of that name. Its trials stay.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn drop_profile(&self, card: &CardDescription, name: &str) -> Result<bool, LedgerError> {
        let (key, name) = (card.key(), name.to_owned());
        self.ask(move |connection| {
            connection
                .execute(
                    "DELETE FROM profile WHERE name = ?
                     AND card = (SELECT id FROM card WHERE key = ?)",
                    params![name, key],
                )
                .doing("delete a profile")
                .map(|count| count > 0)
        })
    }

    /// Every run on a card that was asked for these settings, whatever its fan did, in the order
    /// in which they were begun. Those without an outcome are left out; those deleted are not, since what failed failed.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn runs_at(
        &self,
        card: &CardDescription,
        settings: &Settings,
    ) -> Result<Vec<RunAt>, LedgerError> {
        let (key, settings) = (card.key(), written(settings)?);
        self.ask(move |connection| {
            let doing = "read what was run at settings";
            let same: String = connection
                .query_row(&format!("SELECT {}", without_fan("?1")), params![settings], |row| {
                    row.get(0)
                })
                .doing(doing)?;
            let at_them =
                format!("CASE WHEN json_valid(asked) THEN {} END = ?2", without_fan("asked"));
            let rows = run_rows(connection, &at_them, &key, &same).doing(doing)?;
            Ok(rows.into_iter().map(|(run, _)| run).collect())
        })
    }

    /// The runs of soaks on a card at settings bolder than these, on every axis at least as bold, in the order in which they
    /// were begun.
    ///
    /// # Errors
    /// The ledger cannot be read.
    pub fn soaked_bolder(
        &self,
        card: &CardDescription,
        settings: &Settings,
    ) -> Result<Vec<RunAt>, LedgerError> {
        let (card, settings) = (card.clone(), *settings);
        self.ask(move |connection| {
            let rows = run_rows(connection, "stage = ?2", &card.key(), Stage::Proof.label())
                .doing("read what soaks have run")?;
            let is_bolder = |held: &Settings| {
                !held.is_but_for_fan(&settings) && held.is_at_least_as_bold_as(&settings, &card)
            };
            let bolder = rows.into_iter().filter(|(_, held)| is_bolder(held));
            Ok(bolder.map(|(run, _)| run).collect())
        })
    }
}

/// The runs on a card with this key that have a verdict and for which `which` holds, a condition on `?2`, with the settings
/// asked for.
fn run_rows(
    connection: &Connection,
    which: &str,
    key: &str,
    value: &str,
) -> rusqlite::Result<Vec<(RunAt, Settings)>> {
    let mut select = connection.prepare(&format!(
        "SELECT climb, number, trial.id, scene, seconds, coalesce(marked, verdict),
             score, power_w, json_extract(seen, '$.clock_line.average'), hot_spot_c,
             json_extract(room, '$.ambient_c'), driver, asked,
             json_extract(seen, '$.core_temperature_max'),
             json_extract(seen, '$.memory_temperature_max'), trial.began,
             json_extract(seen, '$.load'), purpose,
             json_extract(seen, '$.fan'), json_extract(seen, '$.frame_rate'),
             json_extract(seen, '$.frame_rate_low')
         FROM trial JOIN climb ON climb.id = trial.climb
         JOIN card ON card.id = climb.card
         WHERE card.key = ?1 AND verdict IS NOT NULL AND {which}
         ORDER BY trial.id"
    ))?;
    let mut rows = select.query(params![key, value])?;
    let mut runs = Vec::new();
    while let Some(row) = rows.next()? {
        runs.extend(read_run(row)?);
    }
    Ok(runs)
}

fn take_out_of_use(connection: &Connection, key: &str) -> Result<(), LedgerError> {
    connection
        .execute(
            "UPDATE profile SET in_use = 0 WHERE card = (SELECT id FROM card WHERE key = ?)",
            params![key],
        )
        .doing("use a profile")
        .map(drop)
}

fn written(settings: &Settings) -> Result<String, LedgerError> {
    to_string(settings).map_err(|error| LedgerError::Content {
        thing: "settings".into(),
        cause: error.to_string(),
    })
}

fn read(row: &Row<'_>) -> Result<Profile, LedgerError> {
    let doing = "read profiles";
    let name: String = row.get(0).doing(doing)?;
    let settings: String = row.get(1).doing(doing)?;
    let settings = from_str(&settings).map_err(|error| LedgerError::Content {
        thing: format!("profile {name}"),
        cause: error.to_string(),
    })?;
    let margin: Option<String> = row.get(7).doing(doing)?;
    let origin: String = row.get(10).doing(doing)?;
    let cut_back: Option<f64> = row.get(11).doing(doing)?;
    Ok(Profile {
        name,
        settings,
        climb: row.get(2).doing(doing)?,
        trial: row.get(3).doing(doing)?,
        driver: row.get(4).doing(doing)?,
        kept: row.get(5).doing(doing)?,
        purpose: row.get(6).doing(doing)?,
        margin: margin.as_deref().and_then(Margin::from_label),
        claimed: row.get(8).doing(doing)?,
        confirmed: row.get(9).doing(doing)?,
        origin: match origin.as_str() {
            "trial" => Origin::Trial,
            "by hand" => Origin::ByHand,
            "imported" => Origin::Imported { cut_back: Percent(cut_back.unwrap_or_default()) },
            _ => Origin::Climb,
        },
        in_use: row.get(12).doing(doing)?,
        kept_after: row.get(13).doing(doing)?,
    })
}

/// A run; none where its verdict is one that is not known.
fn read_run(row: &Row<'_>) -> rusqlite::Result<Option<(RunAt, Settings)>> {
    let (label, asked): (String, String) = (row.get(5)?, row.get(12)?);
    let (Some(verdict), Ok(asked)) = (Verdict::from_label(&label), from_str::<Settings>(&asked))
    else {
        return Ok(None);
    };
    let run = RunAt {
        climb: row.get(0)?,
        trial: row.get(1)?,
        row: row.get(2)?,
        load: row.get(3)?,
        seconds: Seconds(row.get::<_, Option<f64>>(4)?.unwrap_or_default()),
        verdict,
        score: row.get(6)?,
        power: row.get::<_, Option<f64>>(7)?.map(Watt),
        clock: row.get::<_, Option<f64>>(8)?.map(Mhz),
        hot_spot: row.get::<_, Option<f64>>(9)?.map(Celsius),
        ambient: row.get::<_, Option<f64>>(10)?.map(Celsius),
        driver: row.get(11)?,
        fan: asked.fan,
        core_temperature: row.get::<_, Option<f64>>(13)?.map(Celsius),
        memory_temperature: row.get::<_, Option<f64>>(14)?.map(Celsius),
        began: row.get(15)?,
        mean_load: row.get::<_, Option<f64>>(16)?.map(Percent),
        is_cold: row.get::<_, String>(17)? == Purpose::ColdStart.label(),
        fan_speed: row.get::<_, Option<f64>>(18)?.map(Percent),
        frame_rates: row.get::<_, Option<f64>>(19)?.zip(row.get::<_, Option<f64>>(20)?),
    };
    Ok(Some((run, asked)))
}
