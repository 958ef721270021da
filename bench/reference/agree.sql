-- What both stars hold, keys turned back into natural keys, in one text form: the same for the same rows.
-- :tonnage and :toll are replaced by what writes these measures with two places.
SELECT 'fact', passage_no, v.registry, v.vessel_reg, v.valid_from, l.lock_code, c.cargo_code, k.keeper_no,
  booked_date_key, passed_date_key, settled_date_key, :tonnage, :toll, wait_minutes
FROM fact_passage f JOIN dim_vessel v ON v.vessel_key = f.vessel_key JOIN dim_lock l ON l.lock_key = f.lock_key
JOIN dim_cargo c ON c.cargo_key = f.cargo_key JOIN dim_keeper k ON k.keeper_key = f.keeper_key ORDER BY passage_no;
SELECT 'vessel', registry, vessel_reg, name, licence_class, home_basin, draught_cm, valid_from, valid_to, is_current + 0, is_inferred + 0
FROM dim_vessel WHERE vessel_key > 0 ORDER BY registry, vessel_reg, valid_from;
SELECT 'date', date_key, date, day, month, month_name, quarter, year, iso_week, iso_year, day_of_week, weekday_name,
  fiscal_year, fiscal_quarter FROM dim_date ORDER BY 1, 2;
SELECT 'lock', lock_code, l.name, waterway_code, chamber_m FROM dim_lock l JOIN dim_waterway w ON w.waterway_key = l.waterway_key ORDER BY 2;
SELECT 'waterway', waterway_code, name, region FROM dim_waterway WHERE waterway_key > 0 ORDER BY 2;
SELECT 'cargo', cargo_code, name, hazard, perishable + 0 FROM dim_cargo WHERE cargo_key > 0 ORDER BY 2;
SELECT 'keeper', keeper_no, name, grade FROM dim_keeper WHERE keeper_key > 0 ORDER BY 2;
