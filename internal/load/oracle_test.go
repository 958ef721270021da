package load_test

import (
	"cmp"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// The oracle loads random small models and data in several loads and says what must be in the tables, a
// row at a time and as plainly as it can. It shares no code with the loader: values are text here.

// scene is a random model with its data.
type scene struct {
	r                                 *rand.Rand
	mode                              string // of the boats: versioned, timed, plain
	stamps                            bool   // effective times are timestamps
	fromStart                         bool
	sequence                          bool
	keepAt                            bool   // the fact keeps the time itself
	grain                             string // trip, or "boat, day"
	boatMiss, boatUn, boatOut, portUn string
	zoneUn                            string
	boats, ports, trips, rates        []string // rows; loads see more and more of them

	rated            string // whether prices come from rates, and what becomes of a trip that has none there: set_aside, drop, leave_empty
	several          string // of equal rates: first, last
	distinct         string // first, last
	grouped          bool
	firstName        bool   // the names of boats are type 0
	pastBasin        bool   // the basins of boats are type 3
	current          bool   // the current class stands on all versions
	durable          bool   // boats have durable keys, and trips both
	moves            bool   // files have other names in each load
	months           int    // in which boats change: few, so that there are ties
	days             string // what becomes of trips on days that the calendar doesn't have
	spelled          bool   // regs come in several spellings
	turns            bool   // the classes of boats are of type 1 in the last load, and of type 2 before
	turned           bool   // and are so now
	numbered, others string // how surrogate keys are numbered, and the attributes of ports said
}

func pick[T any](r *rand.Rand, words ...T) T { return words[r.IntN(len(words))] }

func newScene(seed uint64) *scene {
	r := rand.New(rand.NewPCG(seed, 7))
	s := &scene{
		r:         r,
		mode:      pick(r, "versioned", "versioned", "versioned", "timed", "plain"),
		stamps:    r.IntN(2) == 0,
		fromStart: r.IntN(2) == 0,
		sequence:  r.IntN(3) == 0,
		keepAt:    r.IntN(2) == 0,
		grain:     pick(r, "trip", "trip", "boat, day"),
		boatMiss: pick(
			r,
			"unknown",
			"set_aside",
			"not_yet",
			"leave_empty",
		),
		boatUn: pick(r, "infer", "infer", "unknown", "set_aside"),
		boatOut: pick(
			r,
			"nearest",
			"nearest",
			"unknown",
			"set_aside",
		),
		portUn: pick(r, "infer", "unknown", "set_aside"),
		zoneUn: pick(r, "unknown", "set_aside"),
	}
	s.rated, s.several = pick(r, "", "", "set_aside", "drop", "leave_empty"), pick(r, "first", "last")
	s.distinct, s.grouped = pick(r, "", "", "first", "last"), r.IntN(3) == 0
	s.numbered = pick(
		r,
		"",
		"",
		"    surrogate_key: {start: 1000000000000, step: 7}\n",
		"    surrogate_key: {step: 10}\n",
	)
	s.months, s.moves = 1+r.IntN(4), seed%3 == 0
	s.others = pick(r, "", "    others: type_1\n")
	s.firstName, s.pastBasin = r.IntN(3) == 0, r.IntN(3) == 0
	s.current, s.durable = s.mode == "versioned" && r.IntN(2) == 0, s.mode == "versioned" && r.IntN(2) == 0
	s.days, s.spelled = pick(r, "set_aside", "unknown"), r.IntN(3) == 0
	s.turns = s.mode == "versioned" && !s.pastBasin && !s.current && r.IntN(2) == 0
	for range r.IntN(12) {
		s.rates = append(
			s.rates,
			strings.Join(
				[]string{
					pick(r, "P1", "P2", "P3", "P4", ""),
					pick(r, "2023-12-31", "2024-01-01", "2024-01-02", "2024-01-03"),
					pick(r, "1.50", "2.25", "3.00", "13.13"),
				},
				",",
			),
		)
	}
	if s.grain != "trip" { // a part of the grain can't become unknown
		s.boatMiss, s.boatUn, s.boatOut = "set_aside", pick(r, "infer", "set_aside"), pick(r, "nearest", "set_aside")
	}
	if s.mode == "plain" {
		s.sequence = false
	}
	for range 3 + r.IntN(40) {
		since := fmt.Sprintf("2024-0%d-1%d", 1+r.IntN(s.months), r.IntN(2))
		if s.stamps {
			since += pick(r, " 00:00:00", " 10:30:00", " 23:59:59.5")
		}
		class, basin := pick(r, "A", "B", ""), pick(r, "east", "west")
		if s.firstName && r.IntN(4) > 0 { // so that rows differ in nothing but the name
			class, basin = "A", "east"
		}
		s.boats = append(
			s.boats,
			strings.Join(
				[]string{s.spell(pick(r, "N", "S", "N", "S", "")), pick(r, "1", "2", "3", "1", "2", "3", "x", ""),
					pick(
						r,
						"Heron",
						"Otter",
						"",
					), class, basin, pick(r, "1", "2", ""), pick(r, since, since, since, since, since, "")},
				",",
			),
		)
	}
	for range 1 + r.IntN(8) {
		s.ports = append(
			s.ports,
			strings.Join(
				[]string{pick(r, "P1", "P2", "P3", ""), pick(r, "Quay", "Wharf", ""), pick(r, "Z1", "Z2", "Z9", "")},
				",",
			),
		)
	}
	for n := range 5 + r.IntN(60) {
		at := fmt.Sprintf("2024-0%d-%02d %s", 1+r.IntN(5), 5+r.IntN(15), pick(r, "00:00:00", "10:30:00", "12:00:00"))
		s.trips = append(
			s.trips,
			strings.Join([]string{pick(r, strconv.Itoa(n), strconv.Itoa(n), strconv.Itoa(r.IntN(n+1)), ""),
				pick(
					r,
					"2024-01-01",
					"2024-01-02",
					"2024-01-03",
				), s.spell(pick(r, "N", "S", "N", "S", "")), pick(r, "1", "2", "3", "4", "5"),
				pick(
					r,
					"P1",
					"P2",
					"P3",
					"P4",
					"",
				), pick(r, at, at, at, at, at, at, "2023-12-31 10:00:00", "1850-03-01 10:00:00", "9999-12-31 10:00:00", ""), pick(r, "1", "2", "3", "-1", "many"), pick(r, "1.50", "2.25", "13.13")}, ","),
		)
		if r.IntN(8) == 0 {
			s.trips = append(s.trips, s.trips[r.IntN(len(s.trips))]) // the same row again
		}
	}
	return s
}

// spell writes a reg as somebody might, where the model takes that for the same; reg gives its one form.
func (s *scene) spell(reg string) string {
	if s.spelled && reg != "" {
		return pick(s.r, reg, strings.ToLower(reg), " "+reg, strings.ToLower(reg)+"  ")
	}
	return reg
}

func (s *scene) reg(as string) string {
	if s.spelled {
		return strings.ToUpper(strings.TrimSpace(as))
	}
	return as
}

func (s *scene) model(warehouse string) string {
	boat := ""
	since := "date"
	if s.stamps {
		since = "timestamp"
	}
	if s.mode != "plain" {
		boat += "    effective: since\n"
	}
	of := map[string][]string{}
	for name, kind := range map[string]string{
		"name":  map[bool]string{true: "type_0", false: "type_1"}[s.firstName],
		"class": map[bool]string{true: "type_2", false: "type_1"}[s.mode == "versioned" && !s.turned],
		"basin": map[bool]string{true: "type_3", false: map[bool]string{true: "type_2", false: "type_1"}[s.mode == "versioned"]}[s.pastBasin],
	} {
		of[kind] = append(of[kind], name)
	}
	for _, kind := range slices.Sorted(maps.Keys(of)) {
		names := of[kind]
		slices.Sort(names)
		boat += "    " + kind + ": [" + strings.Join(names, ", ") + "]\n"
	}
	if of["type_1"] == nil {
		boat += "    type_1: []\n"
	}
	if s.mode == "versioned" {
		boat += "    first_version: " + map[bool]string{true: "from_beginning", false: "from_effective"}[s.fromStart] + "\n"
	}
	if s.current {
		boat += "    with_current: class\n"
	}
	if s.durable {
		boat += "    durable_key: kept\n"
	}
	if s.sequence {
		boat += "    sequence: seq\n"
	}
	if s.spelled {
		boat += "    matching: {reg: upper(trim(reg))}\n"
	}
	asOf, keep := "", ""
	if s.durable {
		keep = "        holds: both\n"
	}
	if s.mode == "versioned" {
		asOf = keep + "        as_of: at\n        outside: " + s.boatOut + "\n"
	}
	if keep = ""; s.keepAt {
		keep = "    degenerate: at\n"
	}
	return "warehouse:\n  " + warehouse + `
undo: 20 runs
limits:
  set_aside: none
  unmatched: none
sources:
  boats:
    read: "boats/*.csv*"
    columns:
      reg: text
      no: integer
      name: text
      class: text
      basin: text
      seq: integer
      since: ` + since + `
  ports:
    read: "ports/*.csv*"
    columns:
      code: text
      label: text
      zone: text
  rates:
    read: rates/*.csv*
    columns:
      port: text
      since: date
      price: decimal(7,2)
  read_trips:
    read: "trips/*.csv*"
    columns:
      trip: integer
      day: date
      reg: text
      no: integer
      port: text
      at: timestamp
      qty: integer
      ` + map[bool]string{true: "price", false: "listed"}[s.rated == ""] + `: {type: "decimal(7,2)", header: price}
` + s.shaping() + `
  trips:
    from: read_trips
    derive:
      amount: round(qty * price * 0.335, 2)
dimensions:
  date:
    calendar:
      from: 2024-01-01
      to: 2024-12-31
  zone:
    natural_key: code
    rows:
      - {code: Z1, name: Upper}
      - {code: Z2, name: Lower}
  lot:
    combinations: {reg: text, port: text}
  port:
    from: ports
    natural_key: code
` + s.others + s.numbered + `    keys:
      zone:
        by: zone
        unmatched: ` + s.zoneUn + `
  boat:
    from: boats
    natural_key: [reg, no]
` + s.numbered + boat + `
facts:
  trip:
    from: trips
    grain: [` + s.grain + `]
    keys:
      boat:
        by: [reg, no]
        missing: ` + s.boatMiss + `
        unmatched: ` + s.boatUn + `
` + asOf + `      port:
        by: port
        unmatched: ` + s.portUn + `
      sailed:
        dimension: date
        by: at
        unmatched: ` + s.days + `
      lot: [reg, port]
    measures: [qty, amount]
` + keep
}

// shaping is what the model does to the rows of trips.
func (s *scene) shaping() string {
	text := ""
	if s.rated != "" {
		text += "    join:\n      rates:\n        by: port\n        effective: since\n        as_of: day\n        bring: price\n        unmatched: " + s.rated + "\n        several: " + s.several + "\n    fill: {price: 1.50}\n"
	}
	text += "    require:\n      good quantity: qty > 0\n    set_aside:\n      cursed: price = 13.13\n"
	if s.distinct != "" {
		text += "    distinct:\n      by: [trip, day]\n      keep: " + s.distinct + "\n"
	}
	if s.grouped {
		text += "    group:\n      by: [trip, day, reg, no, port, at, price]\n      aggregates: {qty: sum(qty)}\n"
	}
	return text
}

// shape does to the rows of trips what the model says, a row at a time. It gives those that go on, and counts the
// others.
func (s *scene) shape(rows, rates []string) (on []string, aside, gone int) {
	for _, line := range rows {
		f := fields(line)
		qty, err := strconv.Atoi(f[6])
		if err != nil {
			aside++
			continue
		}
		if s.rated != "" {
			since, price := "", ""
			for _, rate := range rates {
				if x := fields(rate); x[0] != "" && x[0] == f[4] && x[1] <= f[1] &&
					(x[1] > since || x[1] == since && s.several == "last") {
					since, price = x[1], x[2]
				}
			}
			if price == "" && s.rated == "set_aside" {
				aside++
				continue
			} else if price == "" && s.rated == "drop" {
				gone++
				continue
			}
			f[7] = cmp.Or(price, "1.50")
		}
		if qty <= 0 || f[7] == "13.13" {
			aside++
			continue
		}
		line := strings.Join(f, ",")
		same := slices.IndexFunc(
			on,
			func(other string) bool { o := fields(other); return o[0] == f[0] && o[1] == f[1] },
		)
		switch {
		case s.distinct == "first" && same >= 0:
			gone++
			continue
		case s.distinct == "last" && same >= 0:
			gone++
			on = slices.Delete(on, same, same+1)
		}
		on = append(on, line)
	}
	if !s.grouped {
		return on, aside, gone
	}
	rows, on = on, nil
	for _, line := range rows {
		f := fields(line)
		same := slices.IndexFunc(on, func(other string) bool {
			o := fields(other)
			return slices.Equal(o[:6], f[:6]) && o[7] == f[7]
		})
		if same < 0 {
			on = append(on, line)
			continue
		}
		gone++
		o := fields(on[same])
		a, _ := strconv.Atoi(o[6])
		b, _ := strconv.Atoi(f[6])
		o[6] = strconv.Itoa(a + b)
		on[same] = strings.Join(o, ",")
	}
	return on, aside, gone
}

// write puts the first rows into files, several for each source, so that pieces and files are met.
func (s *scene) write(t *testing.T, dir string, share float64) {
	for _, src := range []struct {
		name, header string
		rows         []string
	}{{"boats", "reg,no,name,class,basin,seq,since", s.boats}, {"ports", "code,label,zone", s.ports}, {"trips", "trip,day,reg,no,port,at,qty,price", s.trips}, {"rates", "port,since,price", s.rates}} {
		n := int(float64(len(src.rows)) * share)
		half := n / 2
		for k, text := range []string{src.header + "\n" + strings.Join(append(slices.Clone(src.rows[:half]), ""), "\n"),
			"\ufeff" + src.header + "\r\n" + strings.Join(append(slices.Clone(src.rows[half:n]), ""), "\r\n")} {
			name := fmt.Sprintf("%s/%d.csv", src.name, k+1)
			if s.moves { // the same rows stand in a file of another name, compressed or not
				os.Remove(filepath.Join(dir, name+".gz"))
				os.Remove(filepath.Join(dir, fmt.Sprintf("%s/%d-%v.csv", src.name, k+1, lastShare(share))))
				name = fmt.Sprintf("%s/%d-%v.csv", src.name, k+1, share)
			}
			if s.moves && int(share*10+float64(k))%2 == 0 {
				var b strings.Builder
				z := gzip.NewWriter(&b)
				z.Write([]byte(text))
				z.Close()
				text, name = b.String(), fmt.Sprintf("%s/%d.csv.gz", src.name, k+1)
			}
			startest.Write(t, dir, name, text)
		}
	}
}

// lastShare is the share of rows that the load before had.
func lastShare(share float64) float64 { return map[float64]float64{0.4: 0, 0.7: 0.4, 1: 0.7}[share] }

// world is the oracle's star.
type world struct {
	*scene
	boats map[string][]*boatVersion // by natural key, in order; inferred ones have one without effective
	ports map[string]map[string]string
	trips map[string]*tripRow
	aside int               // rows of trips set aside in the last load
	said  map[*tripRow]bool // the facts that a row of the last load says

	lasting map[string]string // the durable keys of boats
}

type boatVersion struct{ effective, from, to, name, class, basin, pastBasin string }

// tripRow is a fact: natural keys, or what stands for them.
type tripRow struct {
	trip, day, boat, port, at, qty, amount, lot string

	openBoat, openPort string // natural keys that no member had
	saysBoat, saysPort string // those of the row; empty if a part is null
}

const always, never = "1900-01-01", "9999-12-31"

func fields(line string) []string { return strings.Split(line, ",") }

// observe works out all boats from all rows seen.
func (w *world) observe(rows []string) {
	inferred := map[string]bool{}
	for nk, v := range w.boats {
		if len(v) == 1 && v[0].effective == "inferred" {
			inferred[nk] = true
		}
	}
	type seen struct {
		f     []string
		order int
	}
	by := map[string][]seen{}
	for i, line := range rows {
		f := fields(line)
		if f[0] == "" || f[1] == "" || f[1] == "x" || w.mode != "plain" && f[6] == "" {
			continue
		}
		nk := w.reg(f[0]) + " " + f[1]
		by[nk] = append(by[nk], seen{f, i})
	}
	before := w.boats
	w.boats = map[string][]*boatVersion{}
	for nk, list := range by {
		slices.SortFunc(list, func(a, b seen) int {
			if w.mode == "plain" {
				return cmp.Compare(a.order, b.order)
			}
			c := cmp.Compare(a.f[6], b.f[6])
			if c == 0 && w.sequence {
				c = cmp.Compare(a.f[5], b.f[5])
			}
			return cmp.Or(c, cmp.Compare(a.order, b.order))
		})
		var versions []*boatVersion
		basin, pastBasin := "", ""
		for i, o := range list {
			if i+1 < len(list) && w.mode != "plain" && list[i+1].f[6] == o.f[6] {
				continue // a later one of the same time counts
			}
			v := &boatVersion{effective: o.f[6], from: o.f[6], to: never, class: o.f[3], basin: o.f[4], name: o.f[2]}
			if len(versions) > 0 && v.basin != basin {
				pastBasin = basin
			}
			basin = v.basin
			n := len(versions)
			if w.pastBasin && n > 0 {
				versions[n-1].basin = v.basin
			}
			name := o.f[2]
			if w.firstName && n > 0 {
				name = versions[0].name
			}
			differs := n == 0 || versions[n-1].basin != v.basin || versions[n-1].class != v.class && !w.turned ||
				w.turned && stays(before[nk], v)
			if w.mode != "versioned" {
				versions = []*boatVersion{v}
			} else if differs {
				if n > 0 {
					versions[n-1].to = v.from
				}
				versions = append(versions, v)
			}
			for _, earlier := range versions {
				earlier.name = name
				if w.turned {
					earlier.class = v.class
				}
				if w.pastBasin {
					earlier.basin, earlier.pastBasin = basin, pastBasin
				}
			}
		}
		if w.mode == "plain" { // the last row of each load counts
			if w.firstName {
				versions[0].name = list[0].f[2]
			}
			if was := before[nk]; w.pastBasin && was != nil && was[0].effective != "inferred" &&
				was[0].basin != versions[0].basin {
				versions[0].pastBasin = was[0].basin
			} else if w.pastBasin && was != nil {
				versions[0].pastBasin = was[0].pastBasin
			} else {
				versions[0].pastBasin = ""
			}
		}
		if w.fromStart || w.mode != "versioned" {
			versions[0].from = always
		}
		w.boats[nk] = versions
	}
	for nk := range inferred {
		if w.boats[nk] == nil {
			w.inferBoat(nk)
		}
	}
}

// stays reports whether a version is one of a type 2 attribute that is of type 1 now: nothing tells it from the one
// before, and it stays (rule R15).
func stays(before []*boatVersion, v *boatVersion) bool {
	k := slices.IndexFunc(before, func(b *boatVersion) bool { return b.effective == v.effective })
	return k > 0 && before[k].basin == v.basin && before[k-1].basin == v.basin
}

func (w *world) inferBoat(nk string) {
	w.boats[nk] = []*boatVersion{{effective: "inferred", from: always, to: never}}
}

func (w *world) observePorts(rows []string) {
	for nk, p := range w.ports {
		if p["is_inferred"] == "false" {
			delete(w.ports, nk)
		}
	}
	for _, line := range rows {
		f := fields(line)
		zone := map[string]string{"Z1": "Z1", "Z2": "Z2", "": "-1", "Z9": "-1"}[f[2]]
		if f[0] == "" || f[2] == "Z9" && w.zoneUn == "set_aside" {
			continue
		}
		w.ports[f[0]] = map[string]string{"label": f[1], "zone": zone, "is_inferred": "false"}
	}
}

// load takes the trips of one load, row by row.
func (w *world) load(rows []string) {
	w.aside, w.said = 0, map[*tripRow]bool{}
	w.settle()
	for _, line := range rows {
		if !w.take(fields(line)) {
			w.aside++
		}
	}
}

// take says false if the row is set aside.
func (w *world) take(f []string) bool {
	qty, err := strconv.Atoi(f[6])
	if err != nil || qty <= 0 || f[7] == "13.13" {
		return false
	}
	cents, _ := strconv.Atoi(strings.Replace(f[7], ".", "", 1))
	amount := (qty*cents*335 + 500) / 1000 // half away from zero; all are positive
	row := &tripRow{
		trip:   f[0],
		day:    f[1],
		at:     f[5],
		qty:    f[6],
		lot:    f[2] + "/" + f[4],
		amount: fmt.Sprintf("%d.%02d", amount/100, amount%100),
	}
	boat, keep, inferBoat := w.boatKey(f)
	port, keepPort, inferPort := w.portKey(f)
	if !keep || !keepPort || f[5] != "" && !strings.HasPrefix(f[5], "2024") && w.days == "set_aside" ||
		w.grain == "trip" && f[0] == "" {
		return false
	}
	row.boat, row.port = boat, port
	row.openBoat, row.openPort = w.openKeys(f)
	if row.saysPort = f[4]; f[2] != "" {
		row.saysBoat = w.reg(f[2]) + " " + f[3]
	}
	id := row.trip
	if w.grain != "trip" {
		id = row.boat + "|" + row.day
	}
	if there := w.trips[id]; there != nil {
		same := w.same(there, row)
		w.said[there] = w.said[there] || same
		return same
	}
	w.said[row] = true
	if inferBoat {
		w.inferBoat(boat)
	}
	if inferPort {
		w.ports[port] = map[string]string{"zone": "-1", "is_inferred": "true"}
	}
	w.trips[id] = row
	return true
}

// openKeys returns the natural keys of a row that no member has.
func (w *world) openKeys(f []string) (boat, port string) {
	special := func(rule string) bool { return rule != "infer" && rule != "set_aside" }
	if nk := w.reg(f[2]) + " " + f[3]; special(w.boatUn) && f[2] != "" && w.boats[nk] == nil {
		boat = nk
	}
	if special(w.portUn) && w.ports[f[4]] == nil {
		port = f[4]
	}
	return boat, port
}

// settle points facts to members that have come since (rule R2).
func (w *world) settle() {
	for _, fact := range w.trips {
		if versions := w.boats[fact.openBoat]; fact.openBoat != "" && versions != nil {
			outside := w.mode == "versioned" &&
				(w.time(fact.at) < max(always, versions[0].from) || w.time(fact.at) >= never)
			if !outside || w.boatOut == "nearest" {
				fact.boat, fact.openBoat = fact.openBoat, ""
			}
		}
		if fact.openPort != "" && w.ports[fact.openPort] != nil {
			fact.port, fact.openPort = fact.openPort, ""
		}
	}
}

// orphans reports whether there are facts that no row at the source says any more: surely, where none has their
// grain and measures, or perhaps, where those that have are set aside by a rule of a key.
func (w *world) orphans(rows []string) (surely, perhaps bool) {
	for _, fact := range w.trips {
		if w.said[fact] {
			continue
		}
		perhaps = true
		like := slices.ContainsFunc(rows, func(line string) bool {
			f := fields(line)
			id := fact.trip == f[0]
			if w.grain != "trip" {
				id = fact.boat == w.reg(f[2])+" "+f[3] && fact.day == f[1]
			}
			qty, _ := strconv.Atoi(f[6])
			cents, _ := strconv.Atoi(strings.Replace(f[7], ".", "", 1))
			amount := (qty*cents*335 + 500) / 1000
			return id && fact.qty == f[6] && fact.amount == fmt.Sprintf("%d.%02d", amount/100, amount%100)
		})
		surely = surely || !like
	}
	return surely, perhaps
}

// same compares a row with one that stands, in the columns that are kept.
func (w *world) same(a, b *tripRow) bool {
	x, y := *a, *b
	x.openBoat, x.openPort, y.openBoat, y.openPort = "", "", "", ""
	x.saysBoat, x.saysPort, y.saysBoat, y.saysPort = "", "", "", ""
	if !w.tellsAt() {
		if x.at, y.at = sailed(x.at), sailed(y.at); x.at == "-1" && w.days == "unknown" {
			y.at = x.at
		}
	}
	if w.grain != "trip" {
		x.trip, y.trip = "", ""
	} else {
		x.day, y.day = "", ""
	}
	lenient := func(rule ...string) bool { return slices.Contains(rule, "unknown") }
	if a.openBoat != "" && a.openBoat != b.saysBoat || a.openPort != "" && a.openPort != b.saysPort {
		return false // the ledger knows which natural key no member had
	}
	if strings.HasPrefix(x.boat, "-") && (lenient(w.boatUn) || w.mode == "versioned" && lenient(w.boatOut)) ||
		x.boat == "" && w.boatUn == "leave_empty" {
		y.boat = x.boat
	}
	if x.boat == "" && (lenient(w.boatUn) || w.mode == "versioned" && lenient(w.boatOut)) {
		y.boat = x.boat
	}
	if strings.HasPrefix(x.port, "-") && lenient(w.portUn) {
		y.port = x.port
	}
	return x == y
}

// tellsAt reports whether a fact keeps its time: where the model says so, and where the key of its day does not
// tell enough to find the version of that time again.
func (w *world) tellsAt() bool {
	return w.keepAt || w.mode == "versioned" && (w.stamps || w.days == "unknown")
}

// sailed is the key of the day that a trip sailed.
func sailed(at string) string {
	if !strings.HasPrefix(at, "2024") {
		return "-1"
	}
	return strings.ReplaceAll(at[:10], "-", "")
}

// boatKey returns the natural key or what stands for it, and whether the row is kept and a member made.
func (w *world) boatKey(f []string) (key string, keep, infer bool) {
	rule := func(outcome string) (string, bool, bool) {
		special := map[string]string{"unknown": "-1", "not_yet": "-2", "leave_empty": ""}
		return special[outcome], outcome != "set_aside", false
	}
	if f[2] == "" {
		return rule(w.boatMiss)
	}
	if w.mode == "versioned" && f[5] == "" {
		return "", false, false
	}
	nk := w.reg(f[2]) + " " + f[3]
	versions := w.boats[nk]
	outside := w.mode == "versioned" && (w.time(f[5]) < always || w.time(f[5]) >= never)
	if outside && w.boatOut != "nearest" && (versions != nil || w.boatUn == "infer") {
		return rule(w.boatOut)
	}
	if versions == nil {
		if w.boatUn == "infer" {
			return nk, true, true
		}
		return rule(w.boatUn)
	}
	if w.mode != "versioned" {
		return nk, true, false
	}
	if w.time(f[5]) < versions[0].from && w.boatOut != "nearest" {
		return rule(w.boatOut)
	}
	return nk, true, false
}

func (w *world) portKey(f []string) (key string, keep, infer bool) {
	switch {
	case f[4] == "":
		return "-1", true, false
	case w.ports[f[4]] != nil:
		return f[4], true, false
	case w.portUn == "infer":
		return f[4], true, true
	}
	return "-1", w.portUn == "unknown", false
}

// time returns a time in the precision of the validity.
func (w *world) time(at string) string {
	if w.stamps {
		return at
	}
	return at[:10]
}

// expect lists what must be in the tables.
func (w *world) expect() []string {
	var lines []string
	line := func(parts ...string) { lines = append(lines, strings.Join(parts, "|")) }
	for nk, versions := range w.boats {
		for i, v := range versions {
			c := *v
			if w.stamps && w.mode == "versioned" {
				if c.from == always {
					c.from += " 00:00:00"
				}
				if c.to == never {
					c.to += " 00:00:00"
				}
			}
			inferred := "false"
			if c.effective == "inferred" {
				c.effective, inferred = "", "true"
			}
			if w.mode == "plain" {
				c.effective = ""
			}
			if w.mode != "versioned" {
				c.from, c.to = "", ""
			}
			current := ""
			if w.current {
				current = versions[len(versions)-1].class
			}
			line(
				"boat",
				nk,
				current,
				c.pastBasin,
				c.name,
				c.class,
				c.basin,
				c.effective,
				c.from,
				c.to,
				strconv.FormatBool(i == len(versions)-1),
				inferred,
			)
		}
	}
	for code, p := range w.ports {
		line("port", code, p["label"], p["zone"], p["is_inferred"])
	}
	lots := map[string]bool{}
	for _, f := range w.trips {
		boat := f.boat
		if versions := w.boats[boat]; versions != nil && w.mode == "versioned" {
			at := w.time(f.at)
			version := versions[0]
			for _, v := range versions {
				if v.from <= at {
					version = v
				}
			}
			boat += "@" + version.effective
			if version.effective == "inferred" {
				boat = f.boat + "@"
			}
		}
		trip, day, at := f.trip, f.day, f.at
		if w.grain != "trip" {
			trip = ""
		} else {
			day = ""
		}
		if !w.tellsAt() {
			at = ""
		}
		line("trip", trip, day, boat, f.port, sailed(f.at), at, f.qty, f.amount, f.lot)
		lots["lot|"+f.lot] = true
	}
	lines = slices.AppendSeq(lines, maps.Keys(lots))
	slices.Sort(lines)
	return lines
}

// numbers checks that a key is one of those that the model means.
func (w *world) numbers(t *testing.T, surrogate string) {
	t.Helper()
	key, err := strconv.ParseInt(surrogate, 10, 64)
	start, step := int64(1), int64(1)
	if w.numbered != "" {
		step = 10
	}
	if strings.Contains(w.numbered, "start") {
		start, step = 1000000000000, 7
	}
	if err != nil || key > 0 && (key < start || (key-start)%step != 0) {
		t.Errorf("the key %s is none from %d in steps of %d", surrogate, start, step)
	}
}

// found lists what is in the tables, in the words of expect.
func (w *world) found(t *testing.T, dir string) []string {
	tables := startest.Star(t, dir)
	var lines []string
	line := func(parts ...string) { lines = append(lines, strings.Join(parts, "|")) }
	boat, port, zone, lasting := map[string]string{}, map[string]string{}, map[string]string{}, map[string]string{}
	for _, r := range tables["dim_zone"] {
		zone[r["zone_key"]] = cmp.Or(r["code"], r["zone_key"])
	}
	for _, r := range tables["dim_boat"] {
		w.numbers(t, r["boat_key"])
		if strings.HasPrefix(r["boat_key"], "-") {
			boat[r["boat_key"]] = r["boat_key"]
			continue
		}
		nk := r["reg"] + " " + r["no"]
		current := cmp.Or(r["is_current"], "true")
		line(
			"boat",
			nk,
			r["current_class"],
			r["previous_basin"],
			r["name"],
			r["class"],
			r["basin"],
			r["effective_from"],
			r["valid_from"],
			r["valid_to"],
			current,
			r["is_inferred"],
		)
		boat[r["boat_key"]] = nk
		if was := w.lasting[nk]; w.durable && was != "" && was != r["boat_durable_key"] {
			t.Errorf("the durable key of %s was %s and is %s", nk, was, r["boat_durable_key"])
		}
		lasting[r["boat_key"]], w.lasting[nk] = r["boat_durable_key"], r["boat_durable_key"]
		if w.mode == "versioned" {
			boat[r["boat_key"]] += "@" + r["effective_from"]
		}
	}
	for _, r := range tables["dim_port"] {
		port[r["port_key"]] = cmp.Or(r["code"], r["port_key"])
		if r["code"] != "" {
			line("port", r["code"], r["label"], zone[r["zone_key"]], r["is_inferred"])
		}
	}
	lots := map[string]string{}
	for _, r := range tables["dim_lot"] {
		if r["lot_key"] != "-1" {
			lots[r["lot_key"]] = r["reg"] + "/" + r["port"]
			line("lot", lots[r["lot_key"]])
		}
	}
	for _, r := range tables["fact_trip"] {
		b, ok := boat[r["boat_key"]]
		if !ok && r["boat_key"] != "" {
			b = "orphan " + r["boat_key"]
		}
		if want := lasting[r["boat_key"]]; w.durable && !strings.HasPrefix(r["boat_key"], "-") &&
			want != r["boat_durable_key"] {
			t.Errorf(
				"trip %s has the durable key %s of boat %s, whose is %s",
				r["trip"],
				r["boat_durable_key"],
				r["boat_key"],
				want,
			)
		}
		line(
			"trip",
			r["trip"],
			r["day"],
			b,
			port[r["port_key"]],
			r["sailed_date_key"],
			r["at"],
			r["qty"],
			r["amount"],
			lots[r["lot_key"]],
		)
	}
	slices.Sort(lines)
	return lines
}

func TestMain(m *testing.M) { os.Exit(startest.Main(m)) }

// TestOracle holds the loader against the oracle: what is in the star after each of several loads
// (properties 4, 6 to 8 and 10), that another load of the same changes nothing (3), and that neither the
// number of workers nor the size of pieces nor how dimensions are opened makes a difference (1).
func TestOracle(t *testing.T) {
	cases := startest.Runs(16)
	first := uint64(1)
	if seed, err := strconv.ParseUint(os.Getenv("IRONMONGER_SEED"), 10, 64); err == nil {
		first, cases = seed, 1
	} else if cases > 1000 {
		first = uint64(time.Now().UnixNano())
	}
	servers, inside := 0, int64(0)
	for seed := first; seed < first+uint64(cases); seed++ {
		kind := "sqlite"
		if seed%4 == 0 {
			kind = "postgres"
		}
		if os.Getenv("IRONMONGER_KIND") != "" {
			kind = os.Getenv("IRONMONGER_KIND")
		}
		if kind != "sqlite" {
			servers++
		}
		if !t.Run(fmt.Sprint(kind, seed), func(t *testing.T) { inside += oracleCase(t, seed, kind) }) {
			t.Logf("again: IRONMONGER_SEED=%d go test ./internal/load -run TestOracle", seed)
			return
		}
	}
	if t.Logf("warehouses loaded %d facts", inside); servers > 3 && inside == 0 {
		t.Error("no warehouse has loaded facts")
	}
}

// waiting counts the rows of a source that wait outside the star.
func waiting(t *testing.T, dir, source string) (n int) {
	t.Helper()
	wh := startest.Open(t, dir)
	defer wh.Close()
	err := ledger.EachAside(t.Context(), wh, ledger.Waiting, func(a *ledger.Aside, _ int64) error {
		if a.Source == source {
			n++
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// oracleCase returns how many rows of facts the warehouse has loaded, where it has.
func oracleCase(t *testing.T, seed uint64, kind string) (inside int64) {
	settled(t, seed)
	s := newScene(seed)
	w := &world{
		scene:   s,
		lasting: map[string]string{},
		boats:   map[string][]*boatVersion{},
		ports:   map[string]map[string]string{},
		trips:   map[string]*tripRow{},
	}
	ways := []load.Options{{Workers: 2, Piece: 64}, {Workers: 8, Piece: 200, Opening: load.ByKeys},
		{Workers: 3, Piece: 90, Opening: load.Spilled}, {Workers: 2, Piece: 64, Opening: load.Whole, Memory: 12_000}}
	options := []load.Options{{Workers: 1}, ways[seed%2], ways[2+seed%2]}
	dirs, models := make([]string, len(options)), make([]func() string, len(options))
	inWarehouse := int(seed/4+seed) % len(options) // the star whose facts the warehouse loads, if that can
	for i := range dirs {
		dirs[i] = t.TempDir()
		warehouse := "sqlite: star.db"
		if kind == "postgres" {
			connection, schema := startest.Postgres(t)
			warehouse = "postgres: " + connection + "\n  schema: " + schema
		}
		if kind == "trino" && i == int(seed)%len(dirs) { // the one that is taken back in the end; it says what the others say
			warehouse = startest.TrinoKeys(startest.Trino(t))
		}
		models[i] = func() string {
			if i != inWarehouse || strings.HasPrefix(warehouse, "sqlite") {
				return s.model(warehouse)
			}
			return strings.Replace(s.model(warehouse), "    from: trips\n    grain", "    from: trips\n    execute: in_warehouse\n    grain", 1)
		}
		startest.Write(t, dirs[i], "ironmonger.yaml", models[i]())
	}
	var past []moment // of one of the stars
	for _, share := range []float64{0.4, 0.7, 1} {
		w.turned = w.turns && share == 1
		n := func(rows []string) []string { return rows[:int(float64(len(rows))*share)] }
		var dumps []string
		var run *ledger.Run
		var figures string
		for i, dir := range dirs {
			s.write(t, dir, share)
			if w.turned {
				startest.Write(t, dir, "ironmonger.yaml", models[i]())
			}
			var err error
			if run, err = startest.Load(t, dir, options[i]); err != nil {
				for _, step := range run.Steps {
					t.Log(step.Name, step.State, step.Message)
				}
				t.Fatal(err, "\n", s.model(""))
			}
			dumps = append(dumps, startest.Dump(t, dir))
			if i == int(seed)%len(dirs) {
				past = append(past, momentOf(t, dir, run.ID))
			}
			told := ""
			for _, step := range run.Steps {
				inside += step.Figures.Inside
				step.Figures.Waited, step.Figures.Inside = 0, 0 // they say nothing of what became of rows
				text, err := json.Marshal(step.Figures)
				if err != nil {
					t.Fatal(err)
				}
				told += step.Name + " " + string(text) + "\n"
			}
			if i > 0 && told != figures {
				t.Fatalf("dimensions opened otherwise, other figures:\n%s", startest.Difference(figures, told))
			}
			figures = told
		}
		for i := range dumps[1:] {
			if dumps[0] != dumps[i+1] {
				t.Fatalf("other workers or pieces, another star:\n%s", startest.Difference(dumps[0], dumps[i+1]))
			}
		}
		w.observe(n(s.boats))
		w.observePorts(n(s.ports))
		on, aside, gone := s.shape(n(s.trips), n(s.rates))
		w.load(on)
		w.aside += aside
		want, got := strings.Join(w.expect(), "\n"), strings.Join(w.found(t, dirs[0]), "\n")
		if want != got {
			t.Fatalf(
				"after %v of the rows, %s, the star is not what it must be:\n%s\nmodel:\n%s\nboats:\n%s",
				share,
				s.mode,
				startest.Difference(want, got),
				s.model(""),
				strings.Join(n(s.boats), "\n"),
			)
		}
		broken := startest.Broken(t, dirs[0])
		speaks := slices.Contains(broken, "sources of fact_trip")
		if surely, perhaps := w.orphans(on); len(broken) > 1 || len(broken) == 1 && !speaks || speaks && !perhaps ||
			!speaks && surely && !s.moves {
			t.Fatalf(
				"%v are said to be broken; facts without a row that says them: %v, or perhaps %v; model:\n%s",
				broken,
				surely,
				perhaps,
				s.model(""),
			)
		}
		last := run.Steps[len(run.Steps)-1].Figures
		if last.SetAside != int64(w.aside) || last.Read != int64(len(n(s.trips))) ||
			last.Dropped+last.Merged != int64(gone) ||
			last.Read != last.Inserted+last.Same+last.SetAside+last.Dropped+last.Merged {
			t.Fatalf("the account of the trips is %+v; %d rows should be set aside", last, w.aside)
		}
		// of a row that was set aside before and is merged into others now, nobody knows where it went with its file
		if n := waiting(t, dirs[0], "trips"); n != w.aside && !(s.moves && (s.grouped || s.distinct != "")) {
			t.Fatalf("%d rows wait outside the star, and %d were set aside", n, w.aside)
		}
		again, err := startest.Load(t, dirs[0], load.Options{Workers: 2, Piece: 100})
		if err != nil {
			t.Fatal(err)
		}
		if dump := startest.Dump(t, dirs[0]); dump != dumps[0] {
			t.Fatalf("a second load of the same changed something:\n%s", startest.Difference(dumps[0], dump))
		}
		for _, step := range again.Steps {
			if n := step.Figures.Written(); n != 0 {
				t.Fatalf("a second load of the same says that %s wrote %d rows: %+v", step.Name, n, step.Figures)
			}
		}
		for _, dir := range dirs[1:] { // so that runs have the same numbers everywhere
			if _, err := startest.Load(t, dir, load.Options{}); err != nil {
				t.Fatal(err)
			}
		}
		past = append(past, momentOf(t, dirs[int(seed)%len(dirs)], again.ID))
	}
	at := int(seed) % len(dirs)
	if i := (at + 1) % len(dirs); !s.moves && seed%2 == 0 {
		rebuiltCase(t, w, dirs[i], kind)
	}
	if w.turned { // with the model of then, or the one of before
		undoFrom(t, dirs[at], past[4].run)
		w.turned, past = false, past[:4]
		startest.Write(t, dirs[at], "ironmonger.yaml", models[at]())
		if now := momentOf(t, dirs[at], 0); now.have != past[3].have {
			t.Fatalf("taken back, with the model of before:\n%s", startest.Difference(past[3].have, now.have))
		}
	}
	takeBack(t, dirs[at], past, s.r.IntN)
	return inside
}

// rebuiltCase makes a star anew and holds it against one that is loaded from all of its files at once. Members and
// their versions keep their keys.
func rebuiltCase(t *testing.T, w *world, dir, kind string) {
	fresh, warehouse := t.TempDir(), "sqlite: fresh.db"
	if kind == "postgres" {
		connection, schema := startest.Postgres(t)
		warehouse = "postgres: " + connection + "\n  schema: " + schema
	}
	startest.Write(t, fresh, "ironmonger.yaml", w.model(warehouse))
	w.write(t, fresh, 1)
	if _, err := startest.Load(t, fresh, load.Options{}); err != nil {
		t.Fatal(err)
	}
	lasting := w.lasting
	w.lasting = map[string]string{}
	want := w.found(t, fresh)
	w.lasting = lasting
	before := keysIn(t, dir)
	run, err := startest.Load(t, dir, load.Options{Anew: true})
	if err != nil {
		t.Fatalf("%v: %+v", err, run.Steps[len(run.Steps)-1])
	}
	if got := w.found(t, dir); !slices.Equal(got, want) {
		t.Fatalf("made anew, the star is not what a first load makes:\n%s", startest.Difference(strings.Join(want, "\n"), strings.Join(got, "\n")))
	}
	now := keysIn(t, dir)
	for member, key := range now {
		if was := before[member]; was != "" && was != key {
			t.Errorf("the key of %s was %s and is %s", member, was, key)
		}
	}
	for range 2 {
		again, err := startest.Load(t, dir, load.Options{})
		if err != nil {
			t.Fatal(err)
		}
		for _, step := range again.Steps {
			if step.Figures.Wrote() {
				t.Errorf("a load after it has written: %+v", step)
			}
		}
	}
	if !startest.Proved(t, dir) {
		t.Error("made anew, the star is broken")
	}
}

// keysIn returns the keys of boats and ports, by their natural keys and the times of their versions.
func keysIn(t *testing.T, dir string) map[string]string {
	keys := map[string]string{}
	star := startest.Star(t, dir)
	for _, r := range star["dim_boat"] {
		keys["boat "+r["reg"]+" "+r["no"]+" "+r["valid_from"]] = r["boat_key"]
	}
	for _, r := range star["dim_port"] {
		keys["port "+r["code"]] = r["port_key"]
	}
	return keys
}
