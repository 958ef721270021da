-- The reference job by hand, for the sqlite3 shell: run inside the data folder, on a new database file, after
-- PRAGMA journal_mode=wal and synchronous=normal. Money is exact in integers: toll_cents.
PRAGMA cache_size = -2000000;
PRAGMA temp_store = memory;
PRAGMA locking_mode = exclusive;
PRAGMA threads = 2;

-- staging, in memory
CREATE TEMP TABLE stage (passage_no INTEGER PRIMARY KEY, registry TEXT, vessel_reg TEXT, lock_code TEXT, cargo_code TEXT,
  keeper_no INTEGER, booked_on TEXT, passed_at TEXT, settled_on TEXT, tonnage TEXT, rate TEXT, rebate TEXT,
  wait_minutes INTEGER, remark TEXT);
CREATE TEMP TABLE feed (registry TEXT, vessel_reg TEXT, name TEXT, licence_class TEXT, home_basin TEXT,
  draught_cm INTEGER, changed_on TEXT, PRIMARY KEY (registry, vessel_reg, changed_on)) WITHOUT ROWID;
CREATE TEMP TABLE s_lock (lock_code TEXT, name TEXT, waterway_code TEXT, chamber_m INTEGER);
CREATE TEMP TABLE s_waterway (waterway_code TEXT, name TEXT, region TEXT);
CREATE TEMP TABLE s_cargo (cargo_code TEXT, name TEXT, hazard TEXT, perishable TEXT);
CREATE TEMP TABLE s_keeper (keeper_no INTEGER, name TEXT, grade TEXT);
.import --csv --skip 1 --schema temp passages-1.csv stage
.import --csv --skip 1 --schema temp passages-2.csv stage
.import --csv --skip 1 --schema temp passages-3.csv stage
.import --csv --skip 1 --schema temp vessels.csv feed
.import --csv --skip 1 --schema temp locks.csv s_lock
.import --csv --skip 1 --schema temp waterways.csv s_waterway
.import --csv --skip 1 --schema temp cargoes.csv s_cargo
.import --csv --skip 1 --schema temp keepers.csv s_keeper

BEGIN;
CREATE TABLE dim_date (date_key INTEGER PRIMARY KEY, date TEXT, day INTEGER, month INTEGER, month_name TEXT, quarter INTEGER,
  year INTEGER, iso_week INTEGER, iso_year INTEGER, day_of_week INTEGER, weekday_name TEXT, fiscal_year INTEGER,
  fiscal_quarter INTEGER);
CREATE TABLE dim_waterway (waterway_key INTEGER PRIMARY KEY, waterway_code TEXT UNIQUE, name TEXT, region TEXT);
CREATE TABLE dim_lock (lock_key INTEGER PRIMARY KEY, lock_code TEXT UNIQUE, name TEXT,
  waterway_key INTEGER NOT NULL REFERENCES dim_waterway, chamber_m INTEGER);
CREATE TABLE dim_cargo (cargo_key INTEGER PRIMARY KEY, cargo_code TEXT UNIQUE, name TEXT, hazard TEXT, perishable INTEGER);
CREATE TABLE dim_keeper (keeper_key INTEGER PRIMARY KEY, keeper_no INTEGER UNIQUE, name TEXT, grade TEXT);
CREATE TABLE dim_vessel (vessel_key INTEGER PRIMARY KEY, registry TEXT, vessel_reg TEXT, name TEXT, licence_class TEXT,
  home_basin TEXT, draught_cm INTEGER, valid_from TEXT NOT NULL, valid_to TEXT NOT NULL, is_current INTEGER NOT NULL,
  is_inferred INTEGER NOT NULL);
CREATE TABLE fact_passage (passage_no INTEGER PRIMARY KEY, vessel_key INTEGER NOT NULL, lock_key INTEGER NOT NULL,
  cargo_key INTEGER NOT NULL, keeper_key INTEGER NOT NULL, booked_date_key INTEGER NOT NULL,
  passed_date_key INTEGER NOT NULL, settled_date_key INTEGER NOT NULL, tonnage_hundredths INTEGER, toll_cents INTEGER,
  wait_minutes INTEGER);
CREATE TABLE reject_passage (passage_no INTEGER PRIMARY KEY, reason TEXT NOT NULL);

WITH RECURSIVE days(d) AS (SELECT '2020-01-01' UNION ALL SELECT date(d, '+1 day') FROM days WHERE d < '2029-12-31'),
parts AS (SELECT d, CAST(substr(d, 1, 4) AS INTEGER) AS y, CAST(substr(d, 6, 2) AS INTEGER) AS m,
  CAST(substr(d, 9, 2) AS INTEGER) AS dd, (CAST(strftime('%w', d) AS INTEGER) + 6) % 7 + 1 AS dow,
  date(d, '-3 days', 'weekday 4') AS thu FROM days)
INSERT INTO dim_date
SELECT y * 10000 + m * 100 + dd, d, dd, m,
  CASE m WHEN 1 THEN 'January' WHEN 2 THEN 'February' WHEN 3 THEN 'March' WHEN 4 THEN 'April' WHEN 5 THEN 'May'
    WHEN 6 THEN 'June' WHEN 7 THEN 'July' WHEN 8 THEN 'August' WHEN 9 THEN 'September' WHEN 10 THEN 'October'
    WHEN 11 THEN 'November' ELSE 'December' END,
  (m + 2) / 3, y, (strftime('%j', thu) - 1) / 7 + 1, CAST(substr(thu, 1, 4) AS INTEGER), dow,
  CASE dow WHEN 1 THEN 'Monday' WHEN 2 THEN 'Tuesday' WHEN 3 THEN 'Wednesday' WHEN 4 THEN 'Thursday'
    WHEN 5 THEN 'Friday' WHEN 6 THEN 'Saturday' ELSE 'Sunday' END,
  y - (m < 4), ((m + 8) % 12) / 3 + 1
FROM parts;
INSERT INTO dim_date (date_key, month_name, weekday_name) VALUES (-1, 'Unknown', 'Unknown'), (-2, 'Not yet', 'Not yet');

INSERT INTO dim_waterway SELECT row_number() OVER (ORDER BY waterway_code), waterway_code, name, region FROM s_waterway;
INSERT INTO dim_waterway VALUES (-1, NULL, 'Unknown', NULL);
INSERT INTO dim_lock
SELECT row_number() OVER (ORDER BY lock_code), lock_code, l.name, coalesce(w.waterway_key, -1), chamber_m
FROM s_lock l LEFT JOIN dim_waterway w USING (waterway_code);
INSERT INTO dim_lock VALUES (-1, NULL, 'Unknown', -1, NULL);
INSERT INTO dim_cargo SELECT row_number() OVER (ORDER BY cargo_code), cargo_code, name, hazard, perishable = 'true' FROM s_cargo;
INSERT INTO dim_cargo VALUES (-1, NULL, 'Unknown', NULL, NULL);
INSERT INTO dim_keeper SELECT row_number() OVER (ORDER BY keeper_no), keeper_no, name, grade FROM s_keeper;
INSERT INTO dim_keeper VALUES (-1, NULL, 'Unknown', NULL);

-- window functions say the same shorter but take longer here than seeks in the key-ordered feed
CREATE TEMP TABLE version (registry TEXT, vessel_reg TEXT, valid_from TEXT, licence_class TEXT, home_basin TEXT,
  PRIMARY KEY (registry, vessel_reg, valid_from)) WITHOUT ROWID;
INSERT INTO version
SELECT registry, vessel_reg, changed_on, licence_class, home_basin FROM feed f
WHERE NOT EXISTS (
  SELECT 1 FROM (SELECT licence_class, home_basin FROM feed p
    WHERE p.registry = f.registry AND p.vessel_reg = f.vessel_reg AND p.changed_on < f.changed_on
    ORDER BY p.changed_on DESC LIMIT 1) p
  WHERE p.licence_class IS f.licence_class AND p.home_basin IS f.home_basin);
CREATE TEMP TABLE latest (registry TEXT, vessel_reg TEXT, name TEXT, draught_cm INTEGER, changed_on TEXT,
  PRIMARY KEY (registry, vessel_reg)) WITHOUT ROWID;
INSERT INTO latest SELECT registry, vessel_reg, name, draught_cm, max(changed_on) FROM feed GROUP BY registry, vessel_reg;
INSERT INTO dim_vessel
SELECT NULL, registry, vessel_reg, name, licence_class, home_basin, draught_cm, valid_from,
  coalesce(next_on, '9999-12-31'), next_on IS NULL, 0
FROM (SELECT v.*, l.name, l.draught_cm, (SELECT n.valid_from FROM version n
    WHERE n.registry = v.registry AND n.vessel_reg = v.vessel_reg AND n.valid_from > v.valid_from
    ORDER BY n.valid_from LIMIT 1) AS next_on
  FROM version v JOIN latest l USING (registry, vessel_reg));
CREATE UNIQUE INDEX dim_vessel_nk ON dim_vessel (registry, vessel_reg, valid_from, valid_to);

INSERT INTO fact_passage
SELECT s.passage_no, coalesce(v.vessel_key, -1), coalesce(l.lock_key, -1), coalesce(c.cargo_key, -1), coalesce(k.keeper_key, -1),
  CASE booked_on WHEN '' THEN -1 ELSE CAST(replace(booked_on, '-', '') AS INTEGER) END,
  CAST(replace(substr(passed_at, 1, 10), '-', '') AS INTEGER),
  CASE settled_on WHEN '' THEN -2 ELSE CAST(replace(settled_on, '-', '') AS INTEGER) END,
  CAST(replace(tonnage, '.', '') AS INTEGER),
  (CAST(replace(tonnage, '.', '') AS INTEGER) * CAST(replace(rate, '.', '') AS INTEGER)
    * (10000 - CAST(replace(rebate, '.', '') AS INTEGER)) + 50000000) / 100000000,
  wait_minutes
FROM stage s
LEFT JOIN dim_vessel v ON v.registry = s.registry AND v.vessel_reg = s.vessel_reg
  AND v.valid_from <= s.passed_at AND v.valid_to > s.passed_at
LEFT JOIN dim_lock l ON l.lock_code = s.lock_code
LEFT JOIN dim_cargo c ON c.cargo_code = s.cargo_code
LEFT JOIN dim_keeper k ON k.keeper_no = s.keeper_no
WHERE passed_at <> '';
INSERT INTO reject_passage SELECT passage_no, 'passed_at is empty' FROM stage WHERE passed_at = '';

INSERT INTO dim_vessel (registry, vessel_reg, valid_from, valid_to, is_current, is_inferred)
SELECT DISTINCT s.registry, s.vessel_reg, '1900-01-01', '9999-12-31', 1, 1
FROM fact_passage f CROSS JOIN stage s ON s.passage_no = f.passage_no WHERE f.vessel_key = -1 ORDER BY 1, 2;
INSERT INTO dim_vessel VALUES (-1, NULL, NULL, 'Unknown', NULL, NULL, NULL, '1900-01-01', '9999-12-31', 1, 0);
UPDATE fact_passage SET vessel_key = coalesce((SELECT v.vessel_key FROM temp.stage s
    JOIN dim_vessel v ON v.registry = s.registry AND v.vessel_reg = s.vessel_reg AND v.is_inferred
    WHERE s.passage_no = fact_passage.passage_no), -1)
WHERE vessel_key = -1;
COMMIT;

SELECT 'orphans=' || (sum((vessel_key NOT IN (SELECT vessel_key FROM dim_vessel)) + (lock_key NOT IN (SELECT lock_key FROM dim_lock))
  + (cargo_key NOT IN (SELECT cargo_key FROM dim_cargo)) + (keeper_key NOT IN (SELECT keeper_key FROM dim_keeper))
  + (booked_date_key NOT IN (SELECT date_key FROM dim_date)) + (passed_date_key NOT IN (SELECT date_key FROM dim_date))
  + (settled_date_key NOT IN (SELECT date_key FROM dim_date)))
  + (SELECT count(*) FROM dim_lock WHERE waterway_key NOT IN (SELECT waterway_key FROM dim_waterway))) FROM fact_passage;
SELECT 'facts=' || count(*) || ' toll=' || printf('%d.%02d', sum(toll_cents) / 100, sum(toll_cents) % 100)
  || ' vessel_rows=' || (SELECT count(*) FROM dim_vessel) || ' inferred=' || (SELECT count(*) FROM dim_vessel WHERE is_inferred)
  || ' rejected=' || (SELECT count(*) FROM reject_passage) FROM fact_passage;
