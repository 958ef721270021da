package load_test

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"ironmonger/internal/startest"
)

// stalls is a random table of sales in the database of the warehouse, and a random model of facts and dimensions whose rows
// become one: those of a grain are added up, those of a group, or all but one.
type stalls struct {
	r      *rand.Rand
	schema string
	typed  bool
	odd    int
	text   string
	no     int
}

func (s *stalls) pick(list ...string) string { return list[s.r.IntN(len(list))] }

// newStalls makes a model with some facts.
func newStalls(seed uint64, schema string, facts int) *stalls {
	s := &stalls{r: rand.New(rand.NewPCG(seed, 50)), schema: schema}
	s.typed, s.odd = s.r.IntN(3) > 0, []int{12, 60, 400, 4000}[seed%4]
	base := "{database: w, table: " + schema + ".sale" +
		", columns: {no: integer, stall: text, ware: text, day: date, at: timestamp, price: 'decimal(7,2)', pieces: integer, note: text, paid: boolean}" +
		s.pick("", ", order_by: [no, stall, ware, day, at, price, pieces, note, paid]", ", order_by: [day, no, stall, ware, at, price, pieces, note, paid]") +
		s.pick("", ", leave_out: {\"a test\": \"note = 'test'\"}") + s.pick("", ", derive: {value: \"price * pieces\"}")
	valued := strings.Contains(base, "value:")
	if base += s.pick("", ", require: {\"a price\": \"price >= 0\"}", ", set_aside: {\"too many\": \"pieces > 50\"}") + s.pick("", ", fill: {ware: none}"); s.r.IntN(3) == 0 {
		base += ", join: {place: {source: places, by: {stall: stall}, bring: [town], unmatched: " + s.pick("set_aside", "leave_empty", "drop") + "}}"
	}
	if s.r.IntN(2) == 0 {
		at := strings.LastIndex(base, ", join: {")
		ranged := "band: {source: bands, " + s.pick("", "by: stall, ") + "range: {of: " + s.pick("price, from: low, to: high", "day, from: since, to: until") + "}, bring: [band], unmatched: " +
			s.pick("leave_empty", "set_aside", "drop") + ", several: " + s.pick("first", "last", "set_aside") + "}"
		if base += ", join: {" + ranged + "}"; at >= 0 {
			base = strings.Replace(base[:len(base)-len(", join: {"+ranged+"}")], ", join: {", ", join: {"+ranged+", ", 1)
		}
	}
	bands := s.pick("bands", "bands0")
	if bands == "bands0" { // which others are made of
		bands = "bands: {from: bands0, leave_out: {\"an odd one\": \"band = 'empty'\"}}\n  bands0"
	}
	sources := "  " + bands + ": {" + s.pick("read: bands.csv", "database: w, table: "+schema+".band") +
		", columns: {stall: text, low: 'decimal(7,2)', high: 'decimal(7,2)', since: date, until: date, band: text}" +
		s.pick("", ", require: {\"a name\": \"band is not null\"}") + "}\n"
	sources += "  sales: " + base + "}\n  places: {" + s.pick("read: places.csv", "database: w, table: "+schema+".place") + ", columns: {stall: text, town: text}" +
		s.pick("", "", ", distinct: {by: stall, keep: last}", ", group: {by: stall, aggregates: {town: max(town)}}", ", require: {\"a town\": \"town <> 'lost'\"}, distinct: {by: stall}") + "}\n"
	dims := "  stall: {from: stalls, natural_key: stall, type_1: town}\n  date: {calendar: {from: 2023-01-01, to: 2025-12-31, attributes: basic}}\n"
	made := ""
	for n := range facts {
		name := fmt.Sprint("sale", n)
		from, source := "sales", ""
		levels := s.r.IntN(3)
		if levels > 0 { // a source of its own that is made of the other
			from = name + "s"
			source = "{from: sales" + s.pick("", ", leave_out: {\"not paid\": \"not paid\"}", ", leave_out: {\"of nobody\": \"stall is null\"}") +
				s.pick("", ", derive: {twice: \"price * 2\"}", ", derive: {size: \"upper(note)\"}") + s.pick("", ", require: {\"a day\": \"day >= date '2024-01-05'\"}")
		}
		if levels == 2 {
			sources += "  " + name + "m: " + source + "}\n"
			source = "{from: " + name + "m"
		}
		fact := ""
		keys := "    keys:\n      stall: {by: stall, unmatched: " + s.pick("infer", "unknown", "set_aside", "infer") +
			s.pick("", ", missing: set_aside", ", missing: unknown") + "}\n      date: {by: day" + s.pick("", ", unmatched: unknown") + "}\n"
		switch s.r.IntN(4) {
		case 3:
			windows, measures, others := s.windows(valued && levels == 0)
			if source == "" {
				source, from = "{from: sales", name+"s"
			}
			source += ", window: {" + windows + "}"
			fact = "    grain: " + s.pick("no", "no", "[no, nth]", "[stall, day, nth]") + "\n    measures: [" + measures + "]\n    degenerate: [" + others + "]\n" +
				s.pick("", "    repeated: replace\n", "    repeated: set_aside\n", "    delivers: all\n    gone: flag\n") + keys
			if strings.Contains(fact, "grain: [stall") {
				fact = strings.NewReplacer("unmatched: unknown", "unmatched: set_aside", ", missing: unknown", "").Replace(fact)
			}
		case 0:
			measures := s.pick("price", "[price, pieces]", "pieces")
			if valued && levels == 0 {
				measures = "[price, value]"
			}
			also := s.pick("", "    degenerate: [note]\n", "    degenerate: [paid, at]\n")
			if levels == 0 && strings.Contains(base, "[band]") {
				also = "    degenerate: [band]\n"
			}
			fact = "    grain: " + s.pick("no", "[no, note]", "[ware, day]", "[day]") + "\n    repeated: sum\n    measures: " + measures + "\n" + also + keys
		case 1:
			by := s.pick("[stall, day]", "[stall, day, ware]", "[stall, day, paid]")
			all := []string{"price: sum(price)", "most: max(price)", "least: min(at)", "mean: avg(price)", "each: avg(pieces)", "rows_: count", "some: count(note)",
				"last_: 'latest(note, at)'", "first_: 'earliest(pieces, no)'", "words: max(note)",
				"notes_: list(note)", "any_: max(paid)", "every_: min(paid)", "number: max(no)", "total: sum(pieces)"}
			s.r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
			all = append(all[:1+s.r.IntN(6)], "number: max(no)")
			if at := strings.Index(strings.Join(all[:len(all)-1], ";"), "number:"); at >= 0 {
				all = all[:len(all)-1]
			}
			if source == "" {
				source, from = "{from: sales", name+"s"
			}
			if s.r.IntN(4) == 0 { // a pivot is a group
				all = []string{"of_bread", "of_salt"}
				source += ", pivot: {by: " + by + ", name: ware, value: price, columns: {of_bread: bread, of_salt: salt}, several: " +
					s.pick("sum", "min", "max") + s.pick("", ", others: leave_out") + "}"
			} else {
				source += ", group: {by: " + by + ", aggregates: {" + strings.Join(all, ", ") + "}}"
			}
			var measures, others []string
			for _, a := range all {
				switch name, _, _ := strings.Cut(a, ":"); name {
				case "last_", "words", "notes_", "any_", "every_", "least":
					others = append(others, name)
				case "number":
				default:
					measures = append(measures, name)
				}
			}
			grain := by
			if s.r.IntN(3) == 0 && !strings.Contains(source, "pivot") {
				grain = "number"
			}
			fact = "    grain: " + grain + "\n    measures: [" + strings.Join(measures, ", ") + "]\n" + s.pick("", "    degenerate: [DEGENERATE]\n") +
				s.pick("", "    repeated: replace\n", "    repeated: set_aside\n", "    delivers: all\n    gone: flag\n") + keys
			fact = strings.Replace(fact, "DEGENERATE", strings.Join(others, ", "), 1)
			if grain != "number" { // which the stall and the day are part of
				fact = strings.NewReplacer("unmatched: unknown", "unmatched: set_aside", ", missing: unknown", "").Replace(fact)
			}
		default:
			by := s.pick("no", "[no, note]", "[stall, day]", "ware")
			if source == "" {
				source, from = "{from: sales", name+"s"
			}
			source += ", distinct: {by: " + by + s.pick("", ", keep: last") + "}"
			fact = "    grain: " + s.pick(by, by, "no") + "\n    measures: [price]\n    degenerate: [note, at]\n" + s.pick("", "    repeated: replace\n", "    repeated: keep\n") + keys
			if strings.Contains(fact, "note]\n    m") {
				fact = strings.Replace(fact, "[note, at]", "at", 1)
			}
			if strings.Contains(fact, "grain: [stall") {
				fact = strings.NewReplacer("unmatched: unknown", "unmatched: set_aside", ", missing: unknown", "").Replace(fact)
			}
		}
		if source != "" {
			sources += "  " + from + ": " + source + "}\n"
		}
		if s.r.IntN(2) == 0 && (strings.Contains(source, "window:") || strings.Contains(source, "group:") || strings.Contains(source, "pivot:") || strings.Contains(source, "distinct:")) {
			sources += "  " + name + "t: {from: " + from + s.above(strings.Contains(source, "nth:")) + "}\n"
			from = name + "t"
		}
		if made += "  " + name + ":\n    from: " + from + "\n    execute: EXECUTE\n" + fact; n < 3 {
			ware := fmt.Sprint("ware", n)
			shape := s.pick("distinct: {by: ware}", "distinct: {by: [ware, note], keep: last}",
				"group: {by: ware, aggregates: {note: max(note), price: avg(price), day: min(day)}}",
				"group: {by: [ware, day], aggregates: {note: 'latest(note, at)', price: max(price)}}",
				"columns: {ware: text, day: date, of: {type: text, header: note}, each: {type: 'decimal(7,2)', header: price}}, "+
					"window: {note: lag(of) over (partition by ware order by day), price: max(each) over ("+s.pick("partition by ware", "order by day")+")}")
			sources += "  " + ware + "t: {from: sales, " + shape + "}\n"
			sources += "  " + ware + "s: {from: " + ware + "t" + s.pick("", ", leave_out: {\"no salt\": \"ware = 'salt'\"}", ", require: {\"a price\": \"price > 3\"}") + "}\n"
			dims += "  " + ware + ": {from: " + ware + "s, execute: EXECUTE, natural_key: ware, " +
				s.pick("type_1: [note, price]", "type_0: note, type_1: price", "type_2: price, type_1: note, effective: day") + "}\n"
		}
	}
	s.text = "limits: {unmatched: " + s.pick("none", "none", "none", "2%") + ", set_aside: none, gone: none}\nundo: 20 runs\nsources:\n" + sources +
		"  stalls: {read: 'stalls*.csv', columns: {stall: text, town: text}}\ndimensions:\n" + dims + "facts:\n" + made
	return s
}

// windows makes columns that depend on other rows, among them nth, and names those that are measures and those that
// are not.
func (s *stalls) windows(valued bool) (list, measures, others string) {
	by, mixed := s.pick("partition by stall ", "partition by stall, ware ", "partition by stall, day ", "partition by ware ", ""), s.r.IntN(4) == 0
	over := func(order ...string) string {
		if mixed {
			by = s.pick(by, "partition by paid ")
		}
		return " over (" + by + s.pick(order...) + ")"
	}
	orders := []string{"order by day", "order by at desc, no", "order by price desc, note", "order by note", "order by paid desc"}
	all := []string{
		"before_: lag(price)" + over(orders...), "after_: lead(at)" + over(orders...), "running: sum(price)" + over(orders...),
		"total: sum(pieces)" + over(""), "low_: min(note)" + over(append(orders, "")...), "high: max(price)" + over(append(orders, "")...),
		"rows_: count(*)" + over(append(orders, "")...), "some: count(note)" + over(orders...), "any_: max(paid)" + over(append(orders, "")...),
	}
	if valued {
		all = append(all, "sums: sum(value)"+over(orders...))
	}
	s.r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	all = append(all[:1+s.r.IntN(5)], "nth: row_number()"+over(orders...))
	if measures = "price"; strings.HasPrefix(all[0], "before_") {
		all, measures = append(all, "change: lag(before_)"+over(orders...)), "price, change"
	}
	for _, w := range all {
		switch name, _, _ := strings.Cut(w, ":"); name {
		case "after_", "low_", "any_":
			others += ", " + name
		case "nth", "change":
		default:
			measures += ", " + name
		}
	}
	for k, w := range all {
		name, sql, _ := strings.Cut(w, ": ")
		all[k] = name + ": '" + sql + "'"
	}
	return strings.Join(all, ", "), measures, strings.TrimPrefix(others+", note", ", ")
}

// above is what a source does with rows that are told by their stall, and perhaps by their number among others.
func (s *stalls) above(numbered bool) string {
	rule := s.pick("", ", leave_out: {\"a stall of nobody\": \"stall is null or stall = 'S2'\"}")
	if numbered && s.r.IntN(2) == 0 {
		rule = ", leave_out: {\"the rest\": \"nth > 3\"}"
	}
	if s.r.IntN(3) == 0 {
		rule += ", join: {place_of: {source: places, by: {stall: stall}, bring: {town: town_of}, unmatched: " + s.pick("set_aside", "leave_empty", "drop") + "}}"
	}
	return rule + s.pick("", ", derive: {loud: \"upper(stall)\"}") + s.pick("", ", require: {\"a known stall\": \"stall <> 'S9'\"}") + s.pick("", ", fill: {stall: S1}")
}

// sale are the columns of the table.
func (s *stalls) sale() string {
	if !s.typed {
		return "no text, stall text, ware text, day text, at text, price text, pieces text, note text, paid text"
	}
	return "no int, stall varchar(20), ware text, day date, at timestamp, price numeric, pieces int, note text, paid bool"
}

// band are the columns of a table of ranges.
const band = "stall text, low numeric(7,2), high numeric(7,2), since date, until date, band text"

// bands makes ranges, which overlap now and then, or leave values between them.
func (s *stalls) bands() (rows [][]string) {
	for _, stall := range []string{"S1", "S2", "S3"} {
		rows = append(rows, []string{stall, s.pick("", "0"), "10", "", "2024-01-10", "low"},
			[]string{stall, s.pick("10", "10", "9", "12"), "20", "2024-01-10", "2024-01-20", s.pick("mid", "mid", "")},
			[]string{stall, "20", s.pick("", "99"), s.pick("2024-01-20", "2024-01-20", "2024-01-19", ""), "", s.pick("high", "Zoë")})
		if s.r.IntN(2) == 0 {
			break
		}
	}
	if s.r.IntN(3) == 0 {
		rows = append(rows, []string{"S1", "5", "5", "2024-01-03", "2024-01-02", "empty"})
	}
	return rows
}

// row makes a row of the table.
func (s *stalls) row() []string {
	seldom := func(usual string, odd ...string) string {
		if s.r.IntN(s.odd) == 0 {
			return s.pick(odd...)
		}
		return usual
	}
	if s.no++; s.r.IntN(3) == 0 {
		s.no -= s.r.IntN(3)
	}
	day := fmt.Sprintf("2024-01-%02d", 1+s.r.IntN(28))
	no, at, price, pieces := fmt.Sprint(s.no), day+s.pick(" 08:00:00", " 09:30:00", " 17:15:00"), fmt.Sprintf("%d.%02d", s.r.IntN(30), s.r.IntN(100)), fmt.Sprint(s.r.IntN(9))
	stall, ware, note := seldom(s.pick("S1", "S2", "S3"), "", "S9", "s1"), seldom(s.pick("bread", "salt", "rope", "tar"), "", "Bread", "wäx"), seldom(s.pick("big", "small", "", " big "), "test", "Zoë", "odd")
	price, pieces, day = seldom(price, "", "-1", "0.001", "99999999"), seldom(pieces, "", "60"), seldom(day, "", "1899-01-01", "2022-02-02")
	if s.typed {
		return []string{no, stall, ware, day, seldom(at, ""), seldom(price, "NaN"), pieces, note, s.pick("true", "false", "")}
	}
	return []string{seldom(no, "", "x", "+7"), stall, ware, seldom(day, "2024-02-29", "2024-02-29", "2024-02-30", "1.2.2024"), seldom(at, "", "noon", day+"T10:00:00Z"), seldom(price, "1,5", "+2", ".5"),
		seldom(pieces, "many", "+3", "99999999999"), note, s.pick("true", "no", "Y", "0", "")}
}

// TestInsideMerging is [TestInside] with rows that become one, and with sources that are made of others.
func TestInsideMerging(t *testing.T) { insideCases(t, stallsTogether(8, nil), onPostgres, 187, 1, 3) }

// TestTrinoInsideMerging is [TestInsideMerging] in Trino, with the other star in SQLite.
func TestTrinoInsideMerging(t *testing.T) {
	insideCases(t, inTurn(stallsTogether(1, nil), stallsTogether(1, (*stalls).inUnion)), onTrino, 86, 1, 2)
}

// stallsTogether is of stalls with some facts, changed perhaps.
func stallsTogether(facts int, change func(*stalls)) randomCase {
	return func(t *testing.T, seed uint64, g *ground, loads int) (read, inside int64) {
		s := newStalls(seed, g.name, facts)
		if change != nil {
			change(s)
		}
		g.exec("CREATE TABLE " + g.name + ".sale (" + g.typed(s.sale()) + ")")
		g.exec("CREATE TABLE " + g.name + ".place (" + g.typed("stall text, town text") + ")")
		g.insert("place", "stall text, town text", [][]string{{"S1", "north"}, {"S2", "Zoë"}, {"S3", "east"}})
		if regexp.MustCompile(`places: .*(distinct|group)`).MatchString(s.text) {
			g.insert("place", "stall text, town text", [][]string{{"S1", "west"}, {"S3", s.pick("lost", "")}})
		}
		bands := s.bands()
		g.exec("CREATE TABLE " + g.name + ".band (" + g.typed(band) + ")")
		g.insert("band", band, bands)
		dirs := g.stars(t, s.text, "places.csv", "stall,town\nS1,north\nS2,Zoë\nS3,east\n")
		for n := range loads {
			var rows [][]string
			for range 10 + s.r.IntN(90) {
				rows = append(rows, s.row())
			}
			g.insert("sale", s.sale(), rows)
			if n > 0 {
				switch s.r.IntN(3) {
				case 0:
					g.exec("DELETE FROM " + g.name + ".sale WHERE ware = 'tar' and stall = 'S2'")
				case 1:
					g.exec("UPDATE " + g.name + ".sale SET note = 'late' WHERE stall = 'S3' and note = 'big'")
				}
			}
			for _, dir := range dirs {
				startest.WriteOld(t, dir, "bands.csv", csv(band, bands), 0)
				startest.WriteOld(t, dir, fmt.Sprintf("stalls%d.csv", n), "stall,town\nS1,north\nS2,Zoë\n"+map[bool]string{true: "S9,far\n"}[n > 0], n)
			}
			all, by := loadBoth(t, dirs, "fact sale", n, s.text)
			read, inside = read+all, inside+by
		}
		endAlike(t, dirs, s.text)
		return read, inside
	}
}
