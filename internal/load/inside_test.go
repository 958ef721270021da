package load_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
	"ironmonger/internal/trinodb"
	"ironmonger/internal/undo"
)

// clinic is a random table of visits in the database of the warehouse, and a random model of facts of them.
type clinic struct {
	r                *rand.Rand
	seed             uint64
	schema           string // where the tables are
	typed            bool   // the table has types; else most of it is text
	offsets, doubles bool   // it has times with offsets, and doubles
	joined           bool   // with a table of tariffs: the fact that is being made
	versions         bool   // doctors have
	clock, kinds     bool   // there are times of day, and combinations,
	remarks          bool   // and a dimension of what the first fact's rows say
	daily            bool   // a grain has days: there are few
	odd              int    // one value in so many is odd
	text             string
	no               int
}

func (c *clinic) pick(list ...string) string { return list[c.r.IntN(len(list))] }

// newClinic makes a clinic whose model has some facts.
func newClinic(seed uint64, schema string, facts int) *clinic {
	c := &clinic{r: rand.New(rand.NewPCG(seed, 5)), seed: seed, schema: schema}
	c.typed = c.r.IntN(2) > 0
	c.odd = []int{10000, 12, 1000, 100}[seed%4]
	doctor := c.pick("", ", type_2: grade, effective: since", ", type_2: grade, effective: since, first_version: from_effective")
	c.versions = doctor != ""
	dimensions := "  doctor: {from: doctors, natural_key: code, type_1: line" + doctor + c.pick("", ", matching: {code: upper(trim(code))}") + "}\n" +
		"  ward: {from: wards, natural_key: code, type_1: at}\n" +
		"  date: {calendar: {" + c.pick("from: 2023-01-01, to: 2025-12-31", "from: data, at_least: 2023-01-01, to: data, at_most: 2025-06-30") + ", attributes: [basic, working_days]}}\n"
	if c.clock = c.r.IntN(2) == 0; c.clock {
		dimensions += "  hour: {clock: {every: " + c.pick("second", "minute", "quarter_hour", "hour") + "}}\n"
	}
	if c.kinds = c.r.IntN(2) == 0; c.kinds {
		dimensions += "  kind: {combinations: {note: text, urgent: boolean}}\n"
	}
	if c.remarks = c.r.IntN(2) == 0; c.remarks {
		dimensions += "  remark: {from: visit0s, execute: EXECUTE, natural_key: note, " + c.pick("type_1: []", "type_1: [urgent]", "type_1: [fee, day]", "type_1: urgent, type_2: ward, effective: day") + "}\n"
	}
	zone := c.pick("", "time_zone: Europe/Vienna\n")
	c.offsets, c.doubles = zone != "" && c.r.IntN(2) == 0, c.r.IntN(2) == 0
	visits, tariffs, made := "", "", ""
	for n := range facts {
		source, fact := c.fact(fmt.Sprint("visit", n))
		if visits, made = visits+source, made+fact; c.joined && tariffs == "" {
			tariffs = "  tariffs: {" + c.pick("database: w, table: "+schema+".tariff", "read: 'tariffs*.csv'") + ", columns: {code: text, number: integer, rate: 'decimal(6,3)', city: text, old: text, valid: date}" +
				c.pick("", ", leave_out: {\"an old one\": \"old = 'yes'\"}") + c.pick("", ", require: {\"a rate\": \"rate is not null\"}") + c.pick("", ", derive: {twice: \"rate * 2\"}") + "}\n"
		}
	}
	c.text = zone + "limits: {unmatched: none, set_aside: none, gone: " + c.pick("none", "none", "20%") + "}\nundo: 20 runs\nsources:\n" + visits + tariffs +
		"  doctors: {read: 'doctors*.csv', columns: {code: text, line: text, grade: text, since: date}}\n" +
		"  wards: {read: wards.csv, columns: {code: text, at: text}}\n" +
		"dimensions:\n" + dimensions + "facts:\n" + made
	return c
}

// source makes the source of a fact. Its visits have a column that the model derives, or two.
func (c *clinic) source(name, at string) string {
	source := name + "s: {database: w, " + c.pick("table: "+c.schema+".visit", `query: "select * from `+c.schema+`.visit where cast(no as varchar(40)) is distinct from '-7'"`) +
		", columns: {no: integer, ward: text, doctor: text, day: date, at: timestamp, fee: 'decimal(7,2)', paid: 'decimal(9,3)', note: text, urgent: boolean"
	source += "}" + c.pick("", ", order_by: [no, ward, doctor, day, fee, paid, note]") + c.pick("", ", leave_out: {\"a total\": \"note = 'total' or ward like 'T%'\", \"a test\": \"fee = 0\"}")
	source += c.pick("", ", derive: {net: \"fee - coalesce(paid, 0)\", half: \"round(net / nullif(no - 5, 0), 2)\", later: \"at + interval '100' minute\"}", ", derive: {net: \"case when no > 3 then fee / (no - 4) else fee end\"}")
	if c.joined = c.r.IntN(2) == 0; c.joined {
		source += ", join: {tariff: {source: tariffs, by: {code: ward" + c.pick("", "", "", ", number: no") + "}" + c.pick("", ", effective: valid, as_of: day", ", effective: valid, as_of: "+at) + ", bring: [rate, city], unmatched: " +
			c.pick("set_aside", "leave_empty", "drop") + ", several: " + c.pick("first", "last", "set_aside") + "}}"
	}
	source += c.pick("", ", fill: {ward: W9}") + c.pick("", ", require: {\"a doctor\": \"doctor is not null\"}", ", set_aside: {\"paid before it is due\": \"paid > fee * 2\"}")
	if c.r.IntN(4) == 0 && c.typed {
		source += ", since: no"
	}
	return "  " + source + "}\n"
}

// fact makes a fact and its source.
func (c *clinic) fact(name string) (source, fact string) {
	at := c.pick("day", "at")
	source = c.source(name, at)
	measures := "fee, paid"
	if strings.Contains(source, "net:") {
		measures += ", net"
	}
	if strings.Contains(source, "half:") {
		measures += ", half"
	}
	if c.joined {
		measures += ", rate"
	}
	key := ""
	if c.versions && c.r.IntN(4) > 0 {
		key = ", as_of: " + at + ", outside: " + c.pick("unknown", "nearest", "set_aside")
	}
	grain := c.pick("[no]", "[no, ward]", "[no, note]", "[no, w]", "[ward, date]", "[no, date]", "[doctor, date]", "[doctor, no]")
	rule := func() string { return c.pick("infer", "unknown", "set_aside", "infer", "not_yet") }
	missing := func() string { return c.pick("", ", missing: set_aside", ", missing: unknown") }
	doctors := rule() + missing() + c.pick("", ", again: keep")
	if strings.Contains(grain, "doctor") {
		doctors = c.pick("infer", "set_aside")
		key = strings.Replace(strings.Replace(key, "outside: unknown", "outside: set_aside", 1), "not_yet", "infer", 1)
	}
	w, wards := "ward", "unmatched: "+rule()+missing()
	date := c.pick("", ", unmatched: unknown") + missing()
	if strings.Contains(grain, "date") {
		c.daily, date = true, c.pick("", ", unmatched: set_aside")
	}
	if grain == "[no, ward]" || grain == "[ward, date]" {
		wards = c.pick("unmatched: infer", "unmatched: set_aside")
	}
	if grain == "[no, w]" {
		w, wards = "w", c.pick("unmatched: infer", "unmatched: set_aside, missing: unknown")
	}
	more := ""
	if c.clock {
		more += "      hour: {by: at" + missing() + "}\n"
	}
	if c.kinds {
		more += "      kind: [note, urgent]\n"
	}
	if c.remarks {
		more += c.pick("", "      remark: {by: note, unmatched: "+rule()+missing()+"}\n")
	}
	more += c.pick("", "      home: {dimension: ward, member: W1}\n", "      home: {dimension: ward, member: unknown}\n")
	more += c.pick("", "      other: {dimension: doctor, by: note, unmatched: infer}\n", "      other: {dimension: ward, by: note, unmatched: infer}\n")
	return source, "  " + name + ":\n    from: " + name + "s\n    execute: EXECUTE\n    grain: " + grain + "\n    measures: [" + measures + "]\n" + c.degenerate(c.pick("", "note", "note", "city")) +
		c.repeats(grain, key == "", at, strings.Contains(source, "later:"), strings.Contains(source, "since:")) + "    keys:\n" +
		"      doctor: {by: doctor" + key + ", unmatched: " + doctors + "}\n" +
		"      " + w + ": {dimension: ward, by: ward, " + wards + "}\n" +
		"      date: {by: " + at + date + "}\n" + more
}

// repeats says what becomes of rows that come again, and of those that do not. Doctors may have versions as of a day or
// time, which is a milestone then.
func (c *clinic) repeats(grain string, timeless bool, at string, later, since bool) string {
	pick := c.pick
	newer := pick("", "    newer_by: fee\n", "    newer_by: day\n")
	text, gone := "    repeated: "+pick("set_aside", "replace\n"+newer, "keep")+"\n", pick("keep", "flag", "remove")
	switch rule := c.r.IntN(3); {
	case rule == 0 && !strings.Contains(grain, "doctor"):
		text = "    repeated: reverse\n" + newer + pick("", "    booked_on: day\n")
		gone = pick("keep", "reverse")
	case rule == 1 && (grain == "[no]" || grain == "[no, ward]"):
		parts, lag := pick("[paid, note, urgent]", "[fee, doctor]", "[paid]"), "{from: day, to: at}"
		if timeless {
			parts = pick(parts, "[day, note, doctor]", "[at, paid, fee]", "[day, at, urgent]")
		} else {
			parts = pick("[paid]", "["+at+", paid]")
		}
		if c.r.IntN(3) == 0 {
			lag = "{from: day, to: at, in: working_days}"
		}
		if later {
			lag = pick(lag, "{from: at, to: later, in: hours}", "{from: later, to: at, in: minutes}")
		}
		if newer = ""; later {
			newer = pick("", "    newer_by: half\n", "    newer_by: net\n")
		}
		text = "    repeated: complete\n    complete: " + parts + "\n" + newer + "    lags: {lag: " + lag + "}\n" +
			pick("", "    rows_tell: all\n") + pick("", "    in_order: [day, at]\n", "    in_order: [at, day]\n")
	}
	if !since && c.r.IntN(2) == 0 {
		scope := map[string]string{"[no, note]": "    complete_for: note\n", "[no, ward]": "    complete_for: ward\n"}[grain]
		text += "    delivers: all\n    gone: " + gone + "\n" + pick("", scope) + pick("", "", "    open_until: urgent\n")
	}
	return text
}

// visits are the columns of the table.
func (c *clinic) visits() string {
	if !c.typed {
		return "no text, ward text, doctor text, day text, at text, fee text, paid text, note varchar, urgent text"
	}
	at, paid := "timestamp", "numeric"
	if c.offsets {
		at = "timestamptz"
	}
	if c.doubles {
		paid = []string{"float8", "float4"}[c.seed%2]
	}
	note := []string{"text", `varchar(9) collate "POSIX"`, "char(5)"}[c.seed%3]
	return "no int, ward varchar(20), doctor text collate \"C\", day date, at " + at + ", fee numeric(7,2), paid " + paid + ", note " + note + ", urgent bool"
}

// tariff are the columns of the table that the visits are joined with.
const tariff = "code text, number int, rate numeric, city varchar(9), old text, valid date"

// row makes a row of the table.
func (c *clinic) row() []string {
	pick := c.pick
	one := func(in int, usual string, odd ...string) string {
		if c.r.IntN(in) == 0 {
			return odd[c.r.IntN(len(odd))]
		}
		return usual
	}
	seldom := func(usual string, odd ...string) string { return one(c.odd, usual, odd...) }
	often := 20 // where no grain depends on it
	if c.daily {
		often = c.odd
	}
	if c.no++; c.r.IntN(min(8*c.odd/12, 200)) == 0 {
		c.no -= c.r.IntN(4)
	}
	day := fmt.Sprintf("2024-%02d-%02d", 1+c.r.IntN(12), 1+c.r.IntN(28))
	if c.daily {
		day = fmt.Sprintf("2024-02-%02d", 1+c.r.IntN(28))
	}
	no, fee, paid := fmt.Sprint(c.no), fmt.Sprintf("%d.%02d", c.r.IntN(200), c.r.IntN(100)), pick("", "10", "3.5", "0.125")
	ward, doctor, note := seldom(pick("W1", "W2", "W3"), "", "W7", "T1", "w1"), seldom(pick("d1", "D2", "d3 "), "", "D8", " d9", "Dé"), pick("", "", "total", "seen", "Zoë")
	day = seldom(day, "", "2022-01-01", "1899-01-01", "9999-12-31")
	begun := day
	if !c.daily && day != "" {
		begun = one(6, day, "2024-06-15")
	}
	if !c.typed {
		no, fee, paid = one(30*c.odd, no, "", "x", "+"+no, "000000000000000000000"+no), seldom(fee, "", "0.001", "12,5", "99999999", "+5", ".5"), seldom(paid, "1.2345", "-", "1e3")
		at := one(often, begun+pick(" ", "T")+pick("00:00", "23:59:59.999999", "10:47:59", "10:47:59.500"), day, day+" 24:00:00", day+" 10:60", day+" 10:47:59.1234567",
			day+" 10:47:59.1234560", day+" 10:47:59Z", "2024-03-31T02:30:00", "2024-02-30 10:00:00", " "+day+" 10:00:00", day+" 10:47:59.")
		if day == "" {
			at = ""
		}
		urgent := one(often, pick("true", "T", "Yes", "y", "1", "FALSE", "f", "no", "N", "0", ""), "on", "wahr", " true", "ye\u017f", "2")
		day = seldom(day, "2024-02-30", "2024-1-1", "01.02.2024")
		return []string{no, ward, doctor, day, at, fee, paid, note, urgent}
	}
	fee, paid = seldom(fee, "", "0"), seldom(paid, "0.1234", "NaN", "12345678")
	at := seldom(begun+pick(" 00:00:00", " 23:59:59.999999", " 10:47:59"), "", "infinity", "2024-03-31 02:30:00")
	if day == "" {
		at = ""
	}
	no = seldom(no, "", "-1")
	return []string{no, ward, doctor, day, at, fee, paid, note, pick("true", "false", "")}
}

// degenerate is what else the fact may have.
func (c *clinic) degenerate(also string) string {
	switch {
	case also == "city" && c.joined:
		return "    degenerate: city\n"
	case !c.typed || also == "note":
		return "    degenerate: [note, urgent, at]\n"
	}
	return ""
}

// tariffs makes rows of the table that the visits are joined with: one for each ward at first, then now and then another.
func (c *clinic) tariffs(load int) [][]string {
	pick := c.pick
	if load == 0 {
		return [][]string{{"W1", "1", "1.5", "north", "no", "2024-01-01"}, {"W2", "2", "0.125", "Zoë", "", "2023-05-01"}, {"W4", "2", "0.125", "", "yes", ""}}
	}
	return [][]string{{fmt.Sprint("W", 2+c.r.IntN(5)), fmt.Sprint(c.r.IntN(c.no + 1)), pick("1.25", "", "0.0001", "99999", "2"),
		pick("south", "Zoë", ""), pick("yes", "no", ""), pick("2024-02-14", "2024-07-01", "2024-07-01", "")}}
}

// ground is a database in which raw tables and stars stand.
type ground struct {
	t     *testing.T
	name  string // of the schema of the raw tables, in queries
	model [2]string
	exec  func(sql string)
	typed func(columns string) string // what the database calls the types of columns
	text  string                      // the type of texts
}

// onPostgres has stars and raw tables in one database.
func onPostgres(t *testing.T) *ground {
	connection, schema := startest.Postgres(t)
	conn, err := pgx.Connect(t.Context(), connection)
	if err != nil {
		t.Fatal(err)
	}
	g := &ground{t: t, name: schema + "_raw", text: "text", typed: func(columns string) string { return columns }}
	g.exec = func(sql string) {
		if _, err := conn.Exec(t.Context(), sql); err != nil {
			t.Fatalf("%v\n%s", err, sql)
		}
	}
	for k := range g.model {
		_, schema := startest.Postgres(t)
		g.model[k] = fmt.Sprintf("warehouse: {postgres: %q, schema: %s}\ndatabases: {w: {postgres: %[1]q}}\n", connection, schema)
	}
	g.exec("CREATE SCHEMA " + g.name)
	t.Cleanup(func() {
		conn.Exec(context.Background(), "DROP SCHEMA "+g.name+" CASCADE")
		conn.Close(context.Background())
	})
	return g
}

// onTrino has the raw tables and the star that the warehouse loads in Trino, and the other one in SQLite.
func onTrino(t *testing.T) *ground {
	at := startest.Trino(t)
	db, err := trinodb.Open(at.Server, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	from := fmt.Sprintf("\ndatabases: {w: {trino: %q}}\n", at.Server)
	g := &ground{t: t, name: "pub." + at.Schema + "_raw", text: "varchar",
		model: [2]string{"warehouse: {sqlite: star.db}" + from, "warehouse:\n  " + startest.TrinoKeys(at) + from}}
	g.typed = strings.NewReplacer("text", "varchar", "numeric(", "decimal(", "numeric", "decimal(14,5)", "bool", "boolean", "timestamptz", "timestamp(6) with time zone", "timestamp", "timestamp(6)", "float8", "decimal(14,5)", "float4", "decimal(14,5)", "float", "double",
		` collate "C"`, "", ` collate "POSIX"`, "", "char(5)", "varchar(5)", "varchar", "varchar").Replace
	g.exec = func(sql string) {
		if _, err := db.ExecContext(t.Context(), sql); err != nil {
			t.Fatalf("%v\n%s", err, sql)
		}
	}
	g.exec("CREATE SCHEMA " + g.name)
	return g
}

// stars makes the folders of two stars, of which the warehouse loads the second, with one file in each.
func (g *ground) stars(t *testing.T, model, file, text string) (dirs []string) {
	for k, how := range []string{"in_process", "in_warehouse"} {
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", g.model[k]+strings.ReplaceAll(model, "EXECUTE", how))
		startest.WriteOld(t, dir, file, text, 0)
		dirs = append(dirs, dir)
	}
	return dirs
}

// insert adds rows to a table of some columns; "" is null, and what is of no value in this database, too.
func (g *ground) insert(table, columns string, rows [][]string) {
	var lines, casts, names []string
	for k, c := range regexp.MustCompile(`(\w+) (\w+(\([0-9,]+\))?)`).FindAllStringSubmatch(strings.ReplaceAll(g.typed(columns), " with time zone", ""), -1) {
		name := fmt.Sprint("v", k)
		names = append(names, name)
		if c[2] != g.text && g.text == "varchar" {
			name = "case when " + name + " not in ('NaN', 'infinity') then " + name + " end"
		}
		casts = append(casts, fmt.Sprintf("cast(%s as %s)", name, c[2]))
	}
	for _, row := range rows {
		var cells []string
		for _, v := range row {
			if cells = append(cells, "cast(null as "+g.text+")"); v != "" {
				cells[len(cells)-1] = "'" + v + "'"
			}
		}
		lines = append(lines, "("+strings.Join(cells, ", ")+")")
	}
	g.exec(fmt.Sprintf("INSERT INTO %s.%s SELECT %s FROM (VALUES %s) AS v (%s)", g.name, table, strings.Join(casts, ", "),
		strings.Join(lines, ", "), strings.Join(names, ", ")))
}

// TestInside loads random tables of the warehouse's own database, with rows of all kinds of faults, by statements of the
// warehouse and by reading all rows: the stars, the ledgers and the figures are the same.
func TestInside(t *testing.T) { insideCases(t, insideTogether(1), onPostgres, 10, 2, 4) }

// TestInsideTogether is [TestInside] with models of many facts that share their dimensions.
func TestInsideTogether(t *testing.T) { insideCases(t, insideTogether(25), onPostgres, 10, 1, 2) }

// TestTrinoInside is [TestInsideTogether] in Trino, with the other star in SQLite.
func TestTrinoInside(t *testing.T) { insideCases(t, insideTogether(1), onTrino, 14, 1, 2) }

// randomCase makes a random model and loads its two stars some times. It returns how many rows were read, and how many of them
// the warehouse has dealt with.
type randomCase func(t *testing.T, seed uint64, on *ground, loads int) (read, inside int64)

func insideCases(t *testing.T, one randomCase, on func(*testing.T) *ground, from uint64, models, loads int) {
	read, inside := int64(0), int64(0)
	for seed := range uint64(startest.Runs(models)) {
		seed += from
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			all, by := one(t, seed, on(t), loads)
			read, inside = read+all, inside+by
		})
	}
	t.Logf("of %d rows, the warehouse dealt with %d", read, inside)
	if read > 2000 && inside*8 <= read { // a few models say nothing
		t.Error("these are too few")
	}
}

// inTurn is one of some cases, by the seed.
func inTurn(cases ...randomCase) randomCase {
	return func(t *testing.T, seed uint64, g *ground, loads int) (read, inside int64) {
		return cases[seed%uint64(len(cases))](t, seed, g, loads)
	}
}

// insideTogether is of a clinic with some facts.
func insideTogether(facts int) randomCase {
	return func(t *testing.T, seed uint64, g *ground, loads int) (read, inside int64) {
		return newClinic(seed, g.name, facts).load(t, seed, g, loads)
	}
}

// load loads the model some times, with new rows and changed ones.
func (c *clinic) load(t *testing.T, seed uint64, g *ground, loads int) (read, inside int64) {
	g.exec("CREATE TABLE " + g.name + ".visit (" + g.typed(c.visits()) + ")")
	g.exec("CREATE TABLE " + g.name + ".away (" + g.typed(c.visits()) + ")")
	some := false // rows that were there are away
	away := func(which string) {
		some = true
		g.exec("INSERT INTO " + g.name + ".away SELECT * FROM " + g.name + ".visit WHERE " + which)
		g.exec("DELETE FROM " + g.name + ".visit WHERE " + which)
	}
	g.exec("CREATE TABLE " + g.name + ".tariff (" + g.typed(tariff) + ")")
	dirs := g.stars(t, c.text, "wards.csv", "code,at\nW1,one\nW2,two\nW3,three\n")
	var was []moment
	for n := range loads {
		var rows [][]string
		many := 1
		if seed == 10 && n == 1 && g.text == "text" { // more than are read at a time
			many = 100
		}
		for range many * (5 + c.r.IntN(60)) {
			rows = append(rows, c.row())
		}
		g.insert("visit", c.visits(), rows)
		tariffs := c.tariffs(n)
		g.insert("tariff", tariff, tariffs)
		rates := "code,number,rate,city,old,valid\n"
		for _, row := range tariffs {
			rates += strings.Join(row, ",") + "\n"
		}
		change := c.r.IntN(6)
		if some && c.r.IntN(2) == 0 {
			change = 6
		}
		switch change {
		case 4, 5: // and back the next time
			g.exec("UPDATE " + g.name + ".visit SET note = case note when 'seen' then 'Zoë' when 'Zoë' then 'seen' else note end")
		case 2:
			away("doctor = 'D2' and cast(no as varchar(40)) like '%1'")
		case 3:
			away("cast(no as varchar(40)) like '%5' or ward = 'W2'")
		case 6:
			g.exec("INSERT INTO " + g.name + ".visit SELECT * FROM " + g.name + ".away")
			g.exec("DELETE FROM " + g.name + ".away")
			some = false
		case 0:
			g.exec("UPDATE " + g.name + ".visit SET ward = 'W1' WHERE ward = 'W7'")
		case 1:
			g.exec("UPDATE " + g.name + ".visit SET fee = cast('7.25' as " + g.typed(map[bool]string{true: "numeric(7,2)", false: "text"}[c.typed]) + ") WHERE cast(no as varchar(40)) like '%3'")
		}
		for _, dir := range dirs {
			startest.WriteOld(t, dir, fmt.Sprintf("tariffs%d.csv", n), rates, n)
			startest.WriteOld(t, dir, fmt.Sprintf("doctors%d.csv", n), fmt.Sprintf("code,line,grade,since\nd1,a,%d,2024-0%d-01\nD2,b,1,2023-05-01\nd%d ,c,2,2024-06-15\n", n, n+1, n+2), n)
		}
		all, by := loadBoth(t, dirs, "fact visit", n, c.text)
		read, inside = read+all, inside+by
		was = append(was, momentOf(t, dirs[0], int64(n+1)))
	}
	endAlike(t, dirs, c.text, was...)
	return read, inside
}

// loadBoth loads two stars, the second one in the warehouse, and compares them, their ledgers and the figures of the loads. It
// returns how many rows the steps whose names begin so have read, and how many of these the warehouse has dealt with.
func loadBoth(t *testing.T, dirs []string, step string, n int, text string) (read, inside int64) {
	t.Helper()
	var states [2]string
	for k, dir := range dirs {
		opening := []load.Opening{load.AsFits, load.ByKeys, load.Spilled}[n%3]
		// the order of the steps makes no difference, so those of the second star run at the same time
		run, err := startest.Load(t, dir, load.Options{Workers: 2, AtOnce: 1 + 3*k, Opening: opening})
		if run == nil {
			t.Fatalf("%v\n%s", err, text)
		}
		states[k] = fmt.Sprint(err)
		for _, s := range run.Steps {
			s.Figures.Waited = 0
			if k == 1 && strings.HasPrefix(s.Name, step) {
				read, inside = read+s.Figures.Read, inside+s.Figures.Inside
			}
			s.Figures.Inside = 0
			figures, _ := json.Marshal(s.Figures)
			states[k] += fmt.Sprintf("\n%s: %s %s %s", s.Name, s.State, s.Message, figures)
		}
	}
	if states[0] != states[1] {
		t.Fatalf("load %d: %s\n%s", n, startest.Difference(states[0], states[1]), text)
	}
	if one, other := wholeDump(t, dirs[0]), wholeDump(t, dirs[1]); one != other {
		t.Fatalf("load %d: %s\n%s", n, startest.Difference(one, other), text)
	}
	return read, inside
}

// endAlike compares what prove says of two stars, and takes their last runs back: the first star is then as it was after
// the run before, where that is known.
func endAlike(t *testing.T, dirs []string, text string, was ...moment) {
	t.Helper()
	if one, other := fmt.Sprint(startest.Broken(t, dirs[0])), fmt.Sprint(startest.Broken(t, dirs[1])); one != other {
		t.Errorf("what does not hold, since the table was changed: %s, and in the warehouse %s\n%s", one, other, text)
	}
	var after []string
	for k, dir := range dirs {
		wh := startest.Open(t, dir)
		report, err := undo.Take(t.Context(), wh, startest.Model(t, dir), undo.Options{})
		if err != nil {
			t.Fatal(err)
		}
		wh.Close()
		if before := report.Undone[0].Run - 1; k == 0 && before > 0 && was != nil {
			if now := momentOf(t, dir, before); now != was[before-1] {
				t.Errorf("run %d taken back: %s\n%s", before+1, startest.Difference(was[before-1].have, now.have), text)
			}
		}
		after = append(after, wholeDump(t, dir))
	}
	if after[0] != after[1] {
		t.Fatalf("after undo: %s\n%s", startest.Difference(after[0], after[1]), text)
	}
}
