//! The tables, and how older ledgers come to have them.

use rusqlite::Connection;

/// Each entry brings a ledger one version up; the number of entries is the present version.
const MIGRATIONS: [&str; 9] = [
    "
    CREATE TABLE card (
        id           INTEGER PRIMARY KEY,
        key          TEXT NOT NULL UNIQUE,
        description  TEXT NOT NULL,
        factory      TEXT NOT NULL,
        first_seen   INTEGER NOT NULL
    ) STRICT;
    CREATE TABLE climb (
        id           INTEGER PRIMARY KEY,
        card         INTEGER NOT NULL REFERENCES card(id),
        plan         TEXT NOT NULL,
        stages       TEXT NOT NULL,
        ended_stages TEXT NOT NULL DEFAULT '',
        state        TEXT NOT NULL DEFAULT 'open',
        began        INTEGER NOT NULL
    ) STRICT;
    CREATE TABLE trial (
        id           INTEGER PRIMARY KEY,
        climb        INTEGER NOT NULL REFERENCES climb(id),
        number       INTEGER NOT NULL,
        stage        TEXT NOT NULL,
        purpose      TEXT NOT NULL,
        asked        TEXT NOT NULL,
        scene        TEXT NOT NULL,
        planned_s    REAL NOT NULL,
        warm_up_s    REAL NOT NULL,
        began        INTEGER NOT NULL,
        taken        TEXT,
        seen         TEXT,
        seconds      REAL,
        verdict      TEXT,
        reason       TEXT,
        marked       TEXT,
        score        REAL,
        faults       TEXT,
        UNIQUE (climb, number)
    ) STRICT;
    CREATE TABLE samples (
        trial        INTEGER NOT NULL REFERENCES trial(id),
        first        INTEGER NOT NULL,
        count        INTEGER NOT NULL,
        columns      BLOB NOT NULL,
        PRIMARY KEY (trial, first)
    ) STRICT, WITHOUT ROWID;
    CREATE TABLE event (
        id           INTEGER PRIMARY KEY,
        climb        INTEGER NOT NULL REFERENCES climb(id),
        trial        INTEGER,
        at_s         REAL NOT NULL,
        kind         TEXT NOT NULL,
        text         TEXT NOT NULL
    ) STRICT;
    CREATE TABLE profile (
        id           INTEGER PRIMARY KEY,
        card         INTEGER NOT NULL REFERENCES card(id),
        name         TEXT NOT NULL,
        settings     TEXT NOT NULL,
        climb        INTEGER REFERENCES climb(id),
        trial        INTEGER,
        saved        INTEGER NOT NULL,
        UNIQUE (card, name)
    ) STRICT;
",
    "
    ALTER TABLE trial ADD COLUMN room TEXT;
    ALTER TABLE trial ADD COLUMN in_step TEXT;
    ALTER TABLE profile ADD COLUMN driver TEXT;
    CREATE TABLE fact (
        name         TEXT PRIMARY KEY,
        value        TEXT NOT NULL
    ) STRICT, WITHOUT ROWID;
",
    "
    ALTER TABLE trial ADD COLUMN boot TEXT NOT NULL DEFAULT '';
    ALTER TABLE trial ADD COLUMN since_reset INTEGER;
    ALTER TABLE trial ADD COLUMN lived_s REAL NOT NULL DEFAULT 0;
    CREATE TABLE spoilt (
        trial        INTEGER NOT NULL REFERENCES trial(id),
        number       INTEGER NOT NULL,
        at_s         REAL NOT NULL,
        wrong_pixels INTEGER NOT NULL,
        artifacts    TEXT NOT NULL,
        patch        BLOB,
        PRIMARY KEY (trial, number)
    ) STRICT, WITHOUT ROWID;
",
    // What a list of trials shows, sorts and searches stands in one index, so that a search over
    // all of them never reads what was measured.
    "
    ALTER TABLE climb ADD COLUMN note TEXT NOT NULL DEFAULT '';
    ALTER TABLE climb ADD COLUMN removed INTEGER;
    ALTER TABLE climb ADD COLUMN isolating INTEGER;
    ALTER TABLE climb ADD COLUMN leaving_out INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE trial ADD COLUMN note TEXT NOT NULL DEFAULT '';
    ALTER TABLE trial ADD COLUMN flagged INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE trial ADD COLUMN removed INTEGER;
    ALTER TABLE trial ADD COLUMN purged INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE trial ADD COLUMN core_mhz REAL;
    ALTER TABLE trial ADD COLUMN memory_mhz REAL;
    ALTER TABLE trial ADD COLUMN power_w REAL;
    ALTER TABLE trial ADD COLUMN hot_spot_c REAL;
    UPDATE trial SET
        core_mhz = coalesce(json_extract(asked, '$.core_offset_mhz'),
                            json_extract(asked, '$.clock_maximum_mhz')),
        memory_mhz = json_extract(asked, '$.memory_offset_mhz') WHERE json_valid(asked);
    UPDATE trial SET
        power_w = json_extract(seen, '$.average_power'),
        hot_spot_c = json_extract(seen, '$.hot_spot_max') WHERE json_valid(seen);
    CREATE INDEX trial_list ON trial
        (climb, number, stage, purpose, scene, began, seconds, verdict, marked, score, core_mhz,
         memory_mhz, power_w, hot_spot_c, flagged, removed, purged, since_reset, note, reason);
",
    // What was run at the settings of a profile is found by them, whatever the fan did. The card was
    // put to the newest profile so far.
    "
    ALTER TABLE profile ADD COLUMN purpose TEXT NOT NULL DEFAULT '';
    ALTER TABLE profile ADD COLUMN margin TEXT;
    ALTER TABLE profile ADD COLUMN claimed REAL;
    ALTER TABLE profile ADD COLUMN confirmed INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE profile ADD COLUMN origin TEXT NOT NULL DEFAULT 'climb';
    ALTER TABLE profile ADD COLUMN cut_back REAL;
    ALTER TABLE profile ADD COLUMN in_use INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE profile ADD COLUMN kept_after INTEGER NOT NULL DEFAULT 0;
    UPDATE profile SET kept_after = (SELECT coalesce(max(id), 0) FROM trial);
    UPDATE profile SET in_use = 1 WHERE id IN
        (SELECT id FROM profile AS newest WHERE NOT EXISTS
            (SELECT 1 FROM profile AS other WHERE other.card = newest.card
             AND (other.saved, other.id) > (newest.saved, newest.id)));
    CREATE INDEX trial_settings ON trial
        (CASE WHEN json_valid(asked)
         THEN json_remove(asked, '$.fan_percent', '$.fan_curve') END);
",
    // A run proves something under the driver it was made under. Some stages and a verdict have other
    // names now.
    "
    ALTER TABLE trial ADD COLUMN driver TEXT;
    UPDATE trial SET stage = CASE stage WHEN 'highest' THEN 'max-clock'
        WHEN 'cooler' THEN 'undervolt-clock' WHEN 'less' THEN 'undervolt-quiet'
        WHEN 'middle' THEN 'balanced' ELSE 'memory-for-core' END
        WHERE stage IN ('highest', 'cooler', 'less', 'middle', 'feed');
    UPDATE trial SET verdict = 'throttled' WHERE verdict = 'held back';
    UPDATE trial SET marked = 'throttled' WHERE marked = 'held back';
",
    // What a climb was told of earlier ones.
    "
    ALTER TABLE climb ADD COLUMN experience TEXT;
",
    // A fan may keep to a target, too: settings are told apart without that as well.
    "
    DROP INDEX trial_settings;
    CREATE INDEX trial_settings ON trial
        (CASE WHEN json_valid(asked)
         THEN json_remove(asked, '$.fan_percent', '$.fan_curve', '$.fan_target') END);
",
    // The card as a climb began on it: its limits may be others later.
    "
    ALTER TABLE climb ADD COLUMN begun_on TEXT;
",
];

/// Version of a ledger written by this build.
pub(crate) const VERSION: i64 = MIGRATIONS.len() as i64;

/// Brings the ledger up to [`VERSION`], each step whole or not at all. Returns the version found.
pub(crate) fn migrate(connection: &mut Connection) -> Result<i64, rusqlite::Error> {
    let found: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
    for (index, script) in MIGRATIONS.iter().enumerate().skip(found.max(0) as usize) {
        let step = connection.transaction()?;
        step.execute_batch(script)?;
        step.pragma_update(None, "user_version", index as i64 + 1)?;
        step.commit()?;
    }
    Ok(found)
}
