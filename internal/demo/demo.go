// Package demo makes the canal authority's example: a model and its data, made up, the same on every
// machine, of any size.
package demo

import (
	"bufio"
	"embed"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

//go:embed files
var files embed.FS

// Passages is how many passages the example has unless one chooses.
const Passages = 6000

// Write makes the example in a folder, which must be empty or not there, with about the given number of passages.
func Write(dir string, passages int) error {
	if there, err := os.ReadDir(dir); err == nil && len(there) > 0 {
		return fmt.Errorf(
			"%s already has files, such as %s, and the example would write over them: choose another folder",
			dir,
			there[0].Name(),
		)
	}
	for _, sub := range []string{"register", "passages", "gauges", "works/mill", "works/tide"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			return err
		}
	}
	texts, err := fs.Sub(files, "files")
	if err != nil {
		return err
	}
	if err := os.CopyFS(dir, texts); err != nil {
		return err
	}
	a := &authority{dir: dir, vessels: max(40, passages/15), keepers: 60, passages: max(60, passages)}
	a.reference()
	a.register()
	a.books()
	a.offices()
	a.works()
	a.gauges()
	a.staff()
	a.departments()
	a.duty()
	a.openings()
	return a.err
}

// authority makes the data; its numbers come from one sequence.
type authority struct {
	dir                        string
	vessels, keepers, passages int
	state                      uint64
	err                        error
	staffRows                  [][]any     // of the keepers
	firstSeen                  []time.Time // of each vessel
}

// pick returns 0 to n-1 (splitmix64).
func (a *authority) pick(n int) int {
	a.state += 0x9e3779b97f4a7c15
	z := a.state
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return int((z ^ z>>31) >> 33 % uint64(n))
}

func (a *authority) of(words ...string) string { return words[a.pick(len(words))] }

// file writes lines to a file, with its header.
func (a *authority) file(name, eol, header string, write func(line func(format string, args ...any))) {
	if a.err != nil {
		return
	}
	f, err := os.Create(filepath.Join(a.dir, name))
	if err != nil {
		a.err = err
		return
	}
	w := bufio.NewWriter(f)
	io.WriteString(w, header+eol)
	write(func(format string, args ...any) {
		fmt.Fprintf(w, format, args...)
		io.WriteString(w, eol)
	})
	if a.err = w.Flush(); a.err == nil {
		a.err = f.Close()
	}
}

var (
	first = []string{
		"Silver",
		"Grey",
		"Old",
		"Quiet",
		"Amber",
		"Wild",
		"Swift",
		"Iron",
		"Willow",
		"Copper",
		"Early",
		"Broad",
	}
	second = []string{
		"Heron",
		"Otter",
		"Lantern",
		"Swan",
		"Reed",
		"Anchor",
		"Kestrel",
		"Barrow",
		"Tern",
		"Rudder",
		"Plover",
		"Basin",
	}
	basins  = []string{"Millpool", "Eastwharf", "Greenquay", "Slatehythe"}
	cargoes = []string{
		"gravel",
		"timber",
		"grain",
		"slate",
		"salt",
		"wool",
		"lamp oil",
		"bricks",
		"cider, in casks",
		"ice",
	}
)

func (a *authority) name() string { return a.of(first...) + " " + a.of(second...) }

func (a *authority) reference() {
	a.file("locks.csv", "\n", "lock_code,name,waterway_code,chamber_m", func(line func(string, ...any)) {
		for i := 1; i <= 24; i++ {
			line("L%02d,%s Lock,W%d,%d", i, a.name(), 1+a.pick(4), 20+a.pick(80))
		}
	})
	a.file("cargoes.csv", "\n", "cargo_code,name,hazard,perishable", func(line func(string, ...any)) {
		for i, name := range cargoes {
			line(`C%02d,"%s",%s,%t`, i+1, name, a.of("none", "none", "low", "high"), strings.Contains(name, "ice"))
		}
	})
	for i := 1; i <= a.keepers; i++ {
		a.staffRows = append(
			a.staffRows,
			[]any{fmt.Sprintf("%03d", i), a.of(second...) + ", " + a.of(first...), a.of("A", "B", "C")},
		)
	}
}

func vessel(v int) string { return fmt.Sprintf("%s,NV-%05d", []string{"N", "S"}[v%2], v/2+1) }

// register writes the changes of the vessels: each is entered before 2025 but for one in a hundred, and
// changes now and then.
func (a *authority) register() {
	years := map[int][][]string{}
	day := func(t time.Time) string { return t.Format(time.DateOnly) }
	a.firstSeen = make([]time.Time, a.vessels)
	byDay := map[string][]string{}
	for v := range a.vessels {
		at := time.Date(2023, 1, 2, 0, 0, 0, 0, time.UTC).AddDate(0, 0, a.pick(600))
		if v%100 == 99 {
			at = time.Date(2025, 2, 10, 0, 0, 0, 0, time.UTC) // passes in January already
		}
		a.firstSeen[v] = at
		name, class, basin, draught := a.name(), a.of("A", "B", "C", "D"), a.of(basins...), 60+a.pick(200)
		for {
			byDay[day(at)] = append(
				byDay[day(at)],
				fmt.Sprintf("%s,%s,%s,%s,%d,%s", vessel(v), name, class, basin, draught, day(at)),
			)
			at = at.AddDate(0, 0, 30+a.pick(500))
			if at.Year() > 2025 || at.After(time.Date(2025, 3, 31, 0, 0, 0, 0, time.UTC)) {
				break
			}
			switch a.pick(4) {
			case 0:
				class = a.of("A", "B", "C", "D")
			case 1:
				basin = a.of(basins...)
			case 2:
				name = a.name()
			case 3:
				draught += a.pick(9) - 4
			}
		}
	}
	for at := time.Date(2023, 1, 1, 0, 0, 0, 0, time.UTC); at.Year() <= 2025; at = at.AddDate(0, 0, 1) {
		years[at.Year()] = append(years[at.Year()], byDay[day(at)])
	}
	for year := 2023; year <= 2025; year++ {
		header := "registry,vessel_reg,name,licence_class,home_basin,draught_cm,changed_on"
		if year == 2023 {
			header = "\ufeff" + header
		}
		a.file(fmt.Sprintf("register/%d.csv", year), "\n", header, func(line func(string, ...any)) {
			for _, lines := range years[year] {
				for _, l := range lines {
					line("%s", l)
				}
			}
		})
	}
}

var remarks = []string{
	"",
	"",
	"",
	"",
	"",
	"",
	"towed",
	"night passage",
	`"waited, then passed"`,
	`"keeper said ""no draught"", measured again"`,
}

// books writes the passages of the first three months of 2025, a file a month.
func (a *authority) books() {
	header := "passage_no,registry,vessel_reg,lock_code,cargo_code,keeper_no,booked_on,passed_at,settled_on,tonnage,rate,rebate,wait_minutes,remark"
	start := time.Date(2025, 1, 1, 4, 0, 0, 0, time.UTC)
	step := time.Duration(90*24) * time.Hour / time.Duration(a.passages)
	no := 0
	for month := time.January; month <= time.March; month++ {
		eol := "\n"
		if month == time.February {
			eol = "\r\n"
		}
		a.file(fmt.Sprintf("passages/2025-%02d.csv", month), eol, header, func(line func(string, ...any)) {
			for ; no < a.passages; no++ {
				at := start.Add(time.Duration(no) * step).Truncate(time.Second)
				if at.Month() != month {
					return
				}
				for _, l := range a.passage(no, at) {
					line("%s", l)
				}
			}
		})
	}
}

// passage returns the lines of one passage: one, unless it is among those written twice.
func (a *authority) passage(no int, at time.Time) []string {
	v := a.pick(a.vessels)
	if a.firstSeen[v].After(at) {
		v = 0
	}
	who, lock, cargo := vessel(v), fmt.Sprintf("L%02d", 1+a.pick(24)), fmt.Sprintf("C%02d", 1+a.pick(len(cargoes)))
	keeper := fmt.Sprintf("%03d", 1+a.pick(a.keepers))
	booked := at.AddDate(0, 0, -a.pick(20)).Format(time.DateOnly)
	settled := at.AddDate(0, 0, a.pick(30)).Format(time.DateOnly)
	tonnage, rate, rebate := 1000+a.pick(20000), 500+a.pick(20000), []int{0, 0, 0, 500, 1250}[a.pick(5)]
	passed := at.Format(time.DateTime)
	switch no % 500 {
	case 17, 117, 217:
		who = fmt.Sprintf("%s,XV-%05d", []string{"N", "S"}[a.pick(2)], 1+a.pick(6)) // no register knows it
	case 42:
		lock = "L99"
	case 77:
		cargo += " "
	case 105:
		passed = ""
	case 160:
		tonnage = -tonnage
	case 230, 231, 232, 233:
		settled = ""
	case 290:
		keeper = ""
	case 333:
		if a.vessels > 99 {
			who = vessel(99) // registered in February only
		}
	}
	wait := a.pick(240)
	write := func(wait int) string {
		return fmt.Sprintf(
			"%d,%s,%s,%s,%s,%s,%s,%s,%s,%s,%s,%d,%s",
			no+1,
			who,
			lock,
			cargo,
			keeper,
			booked,
			passed,
			settled,
			fixed(tonnage, 2),
			fixed(rate, 4),
			fixed(rebate, 4),
			wait,
			remarks[a.pick(len(remarks))],
		)
	}
	lines := []string{write(wait)}
	switch no % 1000 {
	case 400:
		lines = append(lines, write(wait))
	case 401:
		lines = append(lines, write(wait+5))
	}
	return lines
}

// fixed writes v with its last digits behind the point.
func fixed(v, places int) string {
	sign := ""
	if v < 0 {
		sign, v = "-", -v
	}
	s := fmt.Sprintf("%0*d", places+1, v)
	return sign + s[:len(s)-places] + "." + s[len(s)-places:]
}
