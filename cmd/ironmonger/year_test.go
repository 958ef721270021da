package main

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"ironmonger/internal/startest"
)

const yearModel = `
limits: {retries: 3, set_aside: none, unmatched: none, gone: none}
sources:
  register:
    read: "register/*.csv"
    columns: {vessel_reg: text, name: text, licence_class: text, changed_on: date}
  locks:
    read: locks.csv
    columns: {lock_code: text, name: text, waterway: text}
  days: {calendar: {from: 2024-01-01, to: 2026-12-31, attributes: basic}}
  passages:
    read: "passages/*.csv"
    columns:
      passage_no: integer
      vessel_reg: text
      lock_code: text
      passed_at: timestamp
      settled_on: date
      tonnage: decimal(9,2)
      toll: decimal(9,2)
  owed_from: {from: fact passage, columns: [vessel_vessel_reg, passed_at, toll], derive: {day: cast(passed_at as date), amount: toll}, leave_out: {no toll: toll is null}}
  paid:
    from: fact passage
    columns: [vessel_vessel_reg, settled_date, toll]
    leave_out: {not settled yet: settled_date is null}
    derive: {day: settled_date, amount: 'cast(-toll as decimal(9,2))'}
  owed:
    union: [owed_from, paid]
    columns: [vessel_vessel_reg, day, amount]
    periods: {by: vessel_vessel_reg, on: day, every: month, amount: amount, without_movement: while_not_zero}
  by_lock:
    from: fact passage
    columns: [lock_lock_code, tonnage, toll]
    group: {by: lock_lock_code, aggregates: {passages: count, tonnage: sum(tonnage), toll: sum(toll)}}
dimensions:
  date: {from: days, natural_key: date}
  vessel: {from: register, natural_key: vessel_reg, type_1: name, type_2: licence_class, effective: changed_on}
  lock: {from: locks, natural_key: lock_code, type_1: [name, waterway]}
facts:
  passage:
    from: passages
    grain: passage_no
    repeated: replace
    keys:
      vessel: {by: vessel_reg, as_of: passed_at, unmatched: infer}
      lock: {by: lock_code, unmatched: unknown}
      passed: {dimension: date, by: passed_at}
      settled: {dimension: date, by: settled_on, missing: not_yet}
    measures: [tonnage, toll]
    degenerate: passed_at
  owed:
    from: owed
    grain: [vessel, month_end]
    repeated: replace
    delivers: all
    gone: remove
    keys:
      vessel: {by: vessel_vessel_reg, as_of: period}
      month_end: {dimension: date, by: period}
    measures: [opening, added, taken, closing, movements]
    semi_additive: {opening: month_end, closing: month_end}
  lock_sum:
    from: by_lock
    grain: lock
    repeated: replace
    delivers: all
    gone: remove
    keys:
      lock: {by: lock_lock_code, missing: unknown}
    measures: [passages, tonnage, toll]
`

// year is the files that arrive night after night at a canal authority.
type year struct {
	*rand.Rand
	t        *testing.T
	dirs     []string // to each of which they come
	passages int      // of a night
	next     int
	held     map[string]string // of earlier nights, that have not arrived yet
	sent     []string          // names of files of passages that have arrived as they were written first
	text     map[string]string
	today    time.Time
}

func (y *year) write(name, text string) {
	y.text[name] = text
	for _, dir := range y.dirs {
		startest.Write(y.t, dir, name, text)
	}
}

// rows makes passages of a day: some with faults, some of vessels and locks that nobody knows yet.
func (y *year) rows(day time.Time) string {
	out := "passage_no,vessel_reg,lock_code,passed_at,settled_on,tonnage,toll\n"
	for range y.passages/2 + y.IntN(y.passages) {
		y.next++
		out += y.row(y.next, day.AddDate(0, 0, -min(y.IntN(40), y.IntN(40), y.IntN(40))))
	}
	return out
}

func (y *year) row(no int, day time.Time) string { return y.rowWith(no, day, y.IntN(60) == 0) }

func (y *year) rowWith(no int, day time.Time, fault bool) string {
	settled, toll := "", fmt.Sprintf("%d.%02d", y.IntN(400), y.IntN(100))
	if y.IntN(3) > 0 {
		settled = day.AddDate(0, 0, y.IntN(60)).Format(time.DateOnly)
	}
	if fault {
		toll = []string{"much", "1,5,0", "99999999999.00"}[y.IntN(3)]
	}
	at := day.Add(time.Duration(y.IntN(86400)) * time.Second).Format("2006-01-02 15:04:05")
	return fmt.Sprintf("%d,V%d,L%d,%s,%s,%d.5,%s\n", no, y.IntN(60+y.next/50), y.IntN(12), at, settled, y.IntN(300), toll)
}

// night brings what arrives in a night. The files of a day sort by when they came.
func (y *year) night() {
	day := y.today.Format(time.DateOnly)
	name := "passages/" + day + ".csv"
	if text := y.rows(y.today); y.IntN(12) == 0 && len(y.sent) > 0 {
		y.held[name] = text // it comes some other night
	} else {
		y.write(name, text)
		y.sent = append(y.sent, name)
	}
	for _, late := range slices.Sorted(maps.Keys(y.held)) {
		if late != name && y.IntN(3) == 0 {
			y.write(late[:len(late)-4]+"_"+day+".csv", y.held[late])
			delete(y.held, late)
		}
	}
	if len(y.sent) > 1 && y.IntN(3) == 0 { // an earlier file again: as it was, or some of its rows corrected, or corrected where it stands
		n := y.IntN(len(y.sent) - 1)
		of := y.sent[n]
		lines := strings.SplitAfter(y.text[of], "\n")
		again := of[:len(of)-4] + "_" + day + ".csv"
		switch y.IntN(3) {
		case 0:
			y.write(again, y.text[of])
		case 1:
			text := lines[0]
			for _, line := range lines[1:] {
				if no, err := strconv.Atoi(strings.Split(line, ",")[0]); err == nil && y.IntN(4) == 0 {
					text += y.row(no, y.today.AddDate(0, 0, -y.IntN(30)))
				}
			}
			y.write(again, text)
		case 2:
			for k, line := range lines[1:] {
				if no, err := strconv.Atoi(strings.Split(line, ",")[0]); err == nil && y.IntN(9) == 0 {
					lines[k+1] = y.rowWith(no, y.today, false) // with a fault, the fact would stay as it was
				}
			}
			y.write(of, strings.Join(lines, ""))
		}
		y.sent = slices.Delete(y.sent, n, n+1) // once is enough
	}
	register := "vessel_reg,name,licence_class,changed_on\n"
	for range y.IntN(8) {
		on := y.today.AddDate(0, 0, -min(y.IntN(90), y.IntN(90))).Format(time.DateOnly)
		register += fmt.Sprintf("V%d,Vessel %d,%s,%s\n", y.IntN(60+y.next/50), y.IntN(1000), string(rune('A'+y.IntN(3))), on)
	}
	y.write("register/"+day+".csv", register)
	if day[8:] == "01" || y.text["locks.csv"] == "" {
		locks := "lock_code,name,waterway\n"
		for n := range min(12, 8+int(y.today.Month())) {
			locks += fmt.Sprintf("L%d,Lock %d,W%d\n", n, y.IntN(100), n%3)
		}
		y.write("locks.csv", locks)
	}
	y.today = y.today.AddDate(0, 0, 1)
}

// byNature returns the rows of a star with natural keys in place of surrogate keys, and without what tells when and
// from where rows were loaded.
func byNature(t *testing.T, dir string) string {
	star := startest.Star(t, dir)
	members := map[string]map[string]string{}
	for table, rows := range star {
		noun, ok := strings.CutPrefix(table, "dim_")
		if !ok {
			continue
		}
		members[noun+"_key"] = map[string]string{}
		for _, row := range rows {
			key := row[noun+"_key"]
			delete(row, noun+"_key")
			members[noun+"_key"][key] = plainly(row)
		}
	}
	var lines []string
	for table, rows := range star {
		if strings.HasSuffix(table, "_removed") || strings.HasSuffix(table, "_observed") { // what was there before, and what the program notes
			continue
		}
		for _, row := range rows {
			for name, key := range row {
				if of := members[name]; of != nil {
					row[name] = of[key]
				}
			}
			lines = append(lines, table+": "+plainly(row))
		}
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

func plainly(row map[string]string) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(row)) {
		if !strings.HasPrefix(name, "load_") {
			parts = append(parts, name+"="+row[name])
		}
	}
	return strings.Join(parts, " ")
}

// TestYear loads a star every night for a month, or for as many nights as IRONMONGER_NIGHTS says, while files come
// late, twice, corrected or with faults, and while loads are killed, run twice at the same time, find the disk full or
// lose their server. In the morning, the star is the one that a fresh load makes of all files that have arrived, and it
// is proved.
func TestYear(t *testing.T) {
	nights, passages := 30, 40
	if n, err := strconv.Atoi(os.Getenv("IRONMONGER_NIGHTS")); err == nil {
		nights, passages = n, 274 // a tenth of a million passages in a year
	}
	t.Run("sqlite", func(t *testing.T) { nightly(t, nights, passages, "sqlite: star.db", nil) })
	t.Run("postgres", func(t *testing.T) {
		if nights == 30 { // and half a month of that
			nights = 15
		}
		connection, schema, restart := startest.PostgresAlone(t)
		nightly(t, nights, passages, "postgres: "+connection+"\n  schema: "+schema, restart)
	})
}

func nightly(t *testing.T, nights, passages int, place string, restart func()) {
	dir, fresh := t.TempDir(), t.TempDir()
	y := &year{
		Rand: rand.New(rand.NewPCG(uint64(nights), 19)), t: t, dirs: []string{dir, fresh}, passages: passages,
		held: map[string]string{}, text: map[string]string{}, today: time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC),
	}
	startest.Write(t, dir, "ironmonger.yaml", "warehouse:\n  "+place+yearModel)
	startest.Write(t, fresh, "ironmonger.yaml", "warehouse:\n  sqlite: star.db"+yearModel)
	happened, lasts := map[string]int{}, 200*time.Millisecond
	for n := range nights {
		y.night()
		events := []string{"nothing", "killed", "twice", "full"}
		if restart != nil {
			events[3] = "restarted"
		}
		event, soon := events[y.IntN(4)], time.Duration(y.Int64N(int64(lasts)))
		happened[event] += disturbed(t, dir, event, soon, restart)
		begin := time.Now()
		must(t, dir, "load")
		if event == "nothing" {
			lasts = max(lasts, time.Since(begin))
		}
		for _, left := range []string{"star.db", "star.db-wal", "star.db-shm"} {
			os.Remove(filepath.Join(fresh, left))
		}
		must(t, fresh, "load")
		if want, got := byNature(t, fresh), byNature(t, dir); got != want {
			t.Fatalf("night %d (%s): %s", n, event, startest.Difference(want, got))
		}
		must(t, dir, "prove", "--against-sources")
	}
	t.Log(happened)
	for event, times := range happened {
		if event != "nothing" && nights > 30 && times == 0 {
			t.Error("it never mattered that loads were", event)
		}
	}
	if out := must(t, dir, "runs", "--draw"); !strings.Contains(out, "fact passage") {
		t.Error(out)
	}
}

// disturbed runs a load to which something happens, and returns 1 if that kept it from its end, or had it wait or begin
// again.
func disturbed(t *testing.T, dir, event string, soon time.Duration, restart func()) int {
	start := func(name string, args ...string) *exec.Cmd {
		cmd := exec.Command(name, args...)
		cmd.Dir = dir
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		return cmd
	}
	switch event {
	case "nothing":
		return 1
	case "killed":
		cmd := start(program, "load")
		time.Sleep(soon)
		cmd.Process.Signal(syscall.SIGKILL)
		if cmd.Wait() != nil {
			return 1
		}
	case "twice":
		var wait sync.WaitGroup
		waited := make([]int, 2)
		for k := range waited {
			wait.Go(func() {
				out, errs, status := run(t, dir, "load")
				if status != 0 {
					t.Errorf("one of two loads: status %d\n%s%s", status, out, errs)
				}
				if strings.Contains(errs, "waiting for") {
					waited[k] = 1
				}
			})
		}
		wait.Wait()
		return max(waited[0], waited[1])
	case "full": // what a load writes before it is committed may not become large
		blocks := 32 + soon.Milliseconds()
		cmd := start("bash", "-c", fmt.Sprintf("ulimit -f %d; exec %s load", blocks, program))
		if cmd.Wait() != nil {
			return 1
		}
	case "restarted":
		cmd := start(program, "load")
		time.Sleep(soon)
		restart()
		if cmd.Wait() != nil {
			return 1
		}
		if strings.Contains(must(t, dir, "runs", "--format", "json"), "begun again") {
			return 1
		}
	}
	return 0
}
