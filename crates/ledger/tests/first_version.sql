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
    INSERT INTO card VALUES (1, 'standin:tarn-310#3',
        '{"id":"standin:tarn-310","serial":"3","name":"Tarn 310","memory_type":"W6, 16 Gbit/s","memory_gib":10,"limits":{"boost_clock":2085.0,"highest_clock":2145.0,"clock_bin":15.0,"voltage_ceiling":1081.0,"power_limit":220.0,"temperature_target":83.0,"temperature_ceiling":93.0},"offers":[{"kind":"power_limit","minimum":110.0,"maximum":286.0,"step":1.0,"stock":220.0},{"kind":"core_offset","minimum":-150.0,"maximum":300.0,"step":15.0,"stock":0.0},{"kind":"fan","minimum":30.0,"maximum":100.0,"step":1.0,"stock":null}],"sensors":["core_clock","board_power"]}',
        '{"power_limit_w":220.0,"core_offset_mhz":0}', 1760000000);
    INSERT INTO climb VALUES (1, 1, 'scene = "lantern"

[baseline]
runs = 3
seconds = 180.0
warm_up_seconds = 420.0
', 'baseline,core', '', 'open', 1760000000);
    INSERT INTO trial VALUES (1, 1, 1, 'core', 'step', '{"core_offset_mhz":60,"fan_percent":100.0}',
        'lantern', 200.0, 20.0, 1760000000, '{"core_offset_mhz":60,"fan_percent":100.0}',
        '{"seconds":200.0,"clock_line":null,"effective_clock":2030.0,"average_power":216.0,"core_temperature_max":69.0,"hot_spot_max":78.0,"fan":100.0,"load":99.0,"background":0.0,"frame_rate":20.4,"frame_rate_low":20.0,"limiters":[["power",0.9]],"frames":4000,"wrong_frames":0,"wrong_pixels":0,"first_wrong":null}',
        200.0, 'clean', 'No wrong pixel.', NULL, 1010.5, '[]');
    INSERT INTO profile VALUES (1, 1, 'last autumn', '{"core_offset_mhz":45}', 1, 1, 1760000001);
