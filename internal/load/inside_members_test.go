package load_test

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/startest"
)

// guild is a random table of smiths in the database of the warehouse, and a random model of a dimension of them.
type guild struct {
	r     *rand.Rand
	typed bool
	timed bool
	leave bool // members may be gone, and come back
	odd   int
	text  string

	midnight string   // of a job
	becomes  []string // what changes in the model before the third load, an attribute of type 2 that is of type 1 then
}

func newGuild(seed uint64, schema string) *guild {
	g := &guild{r: rand.New(rand.NewPCG(seed, 20))}
	g.typed, g.timed = g.r.IntN(3) > 0, g.r.IntN(3) > 0
	g.odd = []int{8, 40, 300, 3000}[seed%4]
	pick := func(list ...string) string { return list[g.r.IntN(len(list))] }
	every := "no, code, since, line, town, wage, seq"
	if g.typed {
		every += ", at, known, grip"
	}
	source := "{database: w, " + pick("table: "+schema+".smith", `query: "select * from `+schema+`.smith where code is distinct from 'none'"`) +
		", columns: {code: text, no: integer, line: text, town: text, wage: 'decimal(7,2)', known: boolean, grip: double, since: date, at: timestamp, seq: integer}"
	if !g.typed {
		source = strings.Replace(strings.Replace(source, ", at: timestamp", "", 1), ", known: boolean, grip: double", "", 1)
	}
	source += pick("", ", order_by: ["+every+"]", ", order_by: [line, "+strings.Replace(every, ", line", "", 1)+"]") + pick("", ", leave_out: {\"a test\": \"line = 'test'\"}") +
		pick("", ", derive: {pay: \"wage * 2\"}") + pick("", ", require: {\"a name\": \"line is not null\"}") + pick("", ", fill: {town: T0}")
	if g.typed && g.r.IntN(4) == 0 {
		source += ", since: no"
	}
	natural := pick("code", "code", "[code, no]", "no")
	d := "from: smiths, execute: EXECUTE, natural_key: " + natural
	rest := []string{"line", "wage"}
	if g.typed {
		rest = append(rest, "known", "grip")
	}
	if strings.Contains(source, "pay:") {
		rest = append(rest, "pay")
	}
	if g.r.IntN(3) == 0 { // with a file
		source += ", join: {place: {source: towns, by: {code: town}, bring: name, unmatched: " + pick("leave_empty", "set_aside", "drop") + "}}"
		rest = append(rest, "name")
	}
	if natural == "code" {
		rest = append(rest, "no")
	}
	g.r.Shuffle(len(rest), func(i, j int) { rest[i], rest[j] = rest[j], rest[i] })
	cut := 1 + g.r.IntN(len(rest)-1)
	day := "date"
	if g.timed {
		from := "since"
		if g.typed && g.r.IntN(2) == 0 {
			from, day, g.midnight = "at", "timestamp", " 00:00:00"
		}
		d += ", effective: " + from + pick("", ", sequence: seq", ", first_version: from_effective", ", late_rows: set_aside")
		if g.r.IntN(4) > 0 {
			d += ", type_2: [" + strings.Join(rest[:cut], ", ") + "]" + pick("", ", with_current: ["+rest[0]+"]")
			last := rest[cut-1]
			if cut < len(rest) && g.r.IntN(2) == 0 {
				d += ", type_0: " + rest[cut]
				cut++
			}
			if cut < len(rest) {
				d += ", type_1: [" + strings.Join(rest[cut:], ", ") + "]"
				if last != rest[0] && g.r.IntN(2) == 0 {
					g.becomes = []string{", " + last + "]", "]", "type_1: [", "type_1: [" + last + ", "}
				}
			}
		} else {
			d += ", type_1: [" + strings.Join(rest, ", ") + "]"
		}
	} else {
		d += ", type_0: " + rest[0] + ", type_1: [" + strings.Join(rest[1:cut], ", ") + "], type_" + pick("1", "3") + ": [" + strings.Join(rest[cut:], ", ") + "]"
		d = strings.Replace(d, "], type_1: [", map[bool]string{true: "", false: ", "}[cut == 1], 1)
	}
	if strings.Contains(d, "type_2") {
		d += pick("", ", durable_key: kept")
	}
	d += pick("", ", surrogate_key: {start: 100, step: 7}") + pick("", ", matching: {code: upper(trim(code))}")
	if !strings.Contains(natural, "code") {
		d = strings.Replace(d, ", matching: {code: upper(trim(code))}", "", 1)
	}
	town := pick("", "infer", "unknown", "set_aside")
	if town != "" {
		d += ", keys: {town: {by: town, unmatched: " + town + pick("", ", missing: set_aside") + "}}"
		if g.timed && strings.Contains(d, "type_2") {
			d = strings.Replace(d, "type_2: [", "type_2: ["+pick("", "town, "), 1)
		}
	}
	if !strings.Contains(source, "since: no") && g.r.IntN(2) == 0 { // some are away for a time
		g.leave = true
		d += ", delivers: all" + pick("", ", gone: flag", ", gone: flag") + pick("", ", complete_for: "+rest[0], ", complete_for: "+pick(rest[len(rest)-1], natural))
	}
	dims := "  smith: {" + d + "}\n"
	if town != "" {
		dims = "  town: {from: towns, natural_key: code, type_1: name}\n" + dims
	}
	g.text = "limits: {unmatched: none, set_aside: none, gone: " + pick("none", "none", "40%") + "}\nundo: 20 runs\nsources:\n  smiths: " + source + "}\n" +
		"  towns: {read: towns.csv, columns: {code: text, name: text}}\n  jobs: {read: 'jobs*.csv', columns: {job: integer, code: text, no: integer, day: " + day + "}}\n" +
		"dimensions:\n" + dims
	by := natural
	if natural == "[code, no]" {
		by = "[code, no]"
	}
	as := ""
	if strings.Contains(d, "type_2") {
		as = ", as_of: day"
	}
	g.text += "facts: {job: {from: jobs, grain: job, keys: {smith: {by: " + by + as + "}}}}\n"
	return g
}

// smith are the columns of the table.
func (g *guild) smith() string {
	if g.typed {
		return "code varchar(20), no int, line text, town text, wage numeric, known bool, since date, at timestamp, seq int, grip float"
	}
	return "code text, no text, line text, town text, wage text, since text, seq text"
}

// row makes a row of the table.
func (g *guild) row(load int) []string {
	pick := func(list ...string) string { return list[g.r.IntN(len(list))] }
	seldom := func(usual string, odd ...string) string {
		if g.r.IntN(g.odd) == 0 {
			return odd[g.r.IntN(len(odd))]
		}
		return usual
	}
	n := g.r.IntN(30 + 20*load)
	day := fmt.Sprintf("20%d-%02d-%02d", 22+load%2, 1+g.r.IntN(12), 1+g.r.IntN(28))
	code, name, town := fmt.Sprint("S", n), pick("Ann", "Bo", "Zoë"), pick("T1", "T2")
	code, name = seldom(code, "", "s1", " S2", strings.Repeat("long", 600)), seldom(name, "", "test")
	town = seldom(town, "", "T7", "t1")
	no, wage, seq := fmt.Sprint(n%7), pick("10", "12.5"), pick("1", "2", "")
	wage, day = seldom(wage, "", "0.001", "999999"), seldom(day, "", "1899-01-01", "9999-12-31")
	if !g.typed {
		no, wage, day = seldom(no, "", "x", "+3"), seldom(wage, "1,5", "+5"), seldom(day, "2024-02-30")
		return []string{code, no, name, town, wage, day, seq}
	}
	at := ""
	if day != "" {
		at = seldom(day+pick(" 00:00:00", " 10:30:00"), "infinity")
	}
	return []string{code, seldom(no, ""), name, town, seldom(wage, "NaN"), pick("true", "true", "false", ""), day, at, seq, seldom(pick("1.5", "0.1", "1.5"), "", "0", "-0", "1e30", "NaN")}
}

// TestMembersInside loads random members of a table of the warehouse's own database, by statements of the warehouse and by
// reading all rows: the stars, the ledgers and the figures are the same, keys, versions and what was observed among them.
func TestMembersInside(t *testing.T) { insideCases(t, membersCase, onPostgres, 20, 10, 4) }

// TestTrinoMembersInside is [TestMembersInside] in Trino, with the other star in SQLite.
func TestTrinoMembersInside(t *testing.T) { insideCases(t, membersCase, onTrino, 2, 1, 2) }

func membersCase(t *testing.T, seed uint64, on *ground, loads int) (read, inside int64) {
	return membersOf(newGuild(seed, on.name), t, on, loads)
}

func membersOf(g *guild, t *testing.T, on *ground, loads int) (read, inside int64) {
	on.exec("CREATE TABLE " + on.name + ".smith (" + on.typed(g.smith()) + ")")
	on.exec("CREATE TABLE " + on.name + ".away (" + on.typed(g.smith()) + ")")
	dirs := on.stars(t, g.text, "towns.csv", "code,name\nT1,one\nT2,two\n")
	for n := range loads {
		var rows [][]string
		for range 5 + g.r.IntN(50) {
			rows = append(rows, g.row(n))
			if g.r.IntN(9) == 0 {
				rows = append(rows, rows[g.r.IntN(len(rows))])
			}
		}
		on.insert("smith", g.smith(), rows)
		some := fmt.Sprintf(" WHERE code like '%%%d'", g.r.IntN(10))
		if g.leave { // those who were away are back, and others leave
			on.exec("INSERT INTO " + on.name + ".smith SELECT * FROM " + on.name + ".away")
			on.exec("DELETE FROM " + on.name + ".away")
			leave := fmt.Sprintf(" WHERE code like '%%%d'", g.r.IntN(10))
			on.exec("INSERT INTO " + on.name + ".away SELECT * FROM " + on.name + ".smith" + leave)
			on.exec("DELETE FROM " + on.name + ".smith" + leave)
		}
		switch g.r.IntN(4) {
		case 0:
			on.exec("DELETE FROM " + on.name + ".smith" + some)
		case 1:
			on.exec("UPDATE " + on.name + ".smith SET wage = cast('11.25' as " + map[bool]string{true: on.typed("numeric"), false: on.text}[g.typed] + ")" + some)
		case 2:
			on.exec("UPDATE " + on.name + ".smith SET line = 'Cy', town = 'T2'" + some)
		}
		jobs := "job,code,no,day\n"
		for k := range 8 {
			m := g.r.IntN(60)
			jobs += fmt.Sprintf("%d,S%d,%d,2022-0%d-11%s\n", 100*n+k, m, m%7, 1+k, g.midnight)
		}
		if n == 2 && g.becomes != nil {
			at := strings.Index(g.text, "type_2: [")
			rest := strings.Replace(g.text[at:], g.becomes[0], g.becomes[1], 1)
			g.text = g.text[:at] + strings.Replace(rest, g.becomes[2], g.becomes[3], 1)
			for k, how := range []string{"in_process", "in_warehouse"} {
				startest.Write(t, dirs[k], "ironmonger.yaml", on.model[k]+strings.Replace(g.text, "EXECUTE", how, 1))
			}
		}
		for _, dir := range dirs {
			startest.WriteOld(t, dir, fmt.Sprintf("jobs%d.csv", n), jobs, n)
		}
		all, by := loadBoth(t, dirs, "dimension smith", n, g.text)
		read, inside = read+all, inside+by
	}
	endAlike(t, dirs, g.text)
	return read, inside
}

// TestMembersArrived is [TestMembersInside] with the rows of the dimension in files.
func TestMembersArrived(t *testing.T) { insideCases(t, membersOfFiles, onPostgres, 60, 2, 4) }

func membersOfFiles(t *testing.T, seed uint64, on *ground, loads int) (read, inside int64) {
	g := newGuild(seed, on.name)
	g.text = regexp.MustCompile(`database: w, (table: [^,]+|query: "[^"]*")`).ReplaceAllString(g.text, `read: "smiths*.csv"`)
	g.text = regexp.MustCompile(`, order_by: \[[^]]*\]|, since: no`).ReplaceAllString(g.text, "")
	dirs := on.stars(t, g.text, "towns.csv", "code,name\nT1,one\nT2,two\n")
	write := func(name, text string, n int) {
		for _, dir := range dirs {
			startest.WriteOld(t, dir, name, text, n)
		}
	}
	var files [][][]string
	for n := range loads {
		var rows [][]string
		for range 5 + g.r.IntN(60) {
			rows = append(rows, g.row(n))
		}
		files = append(files, rows)
		of := &files[g.r.IntN(len(files))]
		switch g.r.IntN(5) {
		case 0: // a file is cut
			*of = (*of)[:len(*of)/2]
		case 1: // a file says something else
			for k := range *of {
				if g.r.IntN(3) == 0 {
					(*of)[k][2] = "Cy"
				}
			}
		case 2: // rows come again behind others
			files = append(files, slices.Concat(rows[len(rows)/2:], (*of)[:len(*of)/3]))
		}
		for k, rows := range files {
			write(fmt.Sprintf("smiths%d.csv", 100-k), csv(g.smith(), rows), n) // the last one is read first
		}
		jobs := "job,code,no,day\n"
		for k := range 8 {
			m := g.r.IntN(60)
			jobs += fmt.Sprintf("%d,S%d,%d,2022-0%d-11%s\n", 100*n+k, m, m%7, 1+k, g.midnight)
		}
		write(fmt.Sprintf("jobs%d.csv", n), jobs, n)
		all, by := loadBoth(t, dirs, "dimension smith", n, g.text)
		read, inside = read+all, inside+by
	}
	endAlike(t, dirs, g.text)
	return read, inside
}
