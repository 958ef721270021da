package ledger

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// runOf is a run of steps, each with rows read, rows set aside and milliseconds; those of a step that failed are below
// zero.
func runOf(id int64, steps map[string][3]int64) *Run {
	r := &Run{ID: id}
	for _, name := range []string{"dimension a", "fact b", "fact c"} {
		f, there := steps[name]
		if !there {
			continue
		}
		begin := time.Unix(0, 0)
		end := begin.Add(time.Duration(max(f[2], -f[2])) * time.Millisecond)
		s := &Step{Name: name, State: Done, StartedAt: &begin, EndedAt: &end, Figures: Figures{Read: f[0], Inserted: f[0] - f[1], SetAside: f[1], Table: 7}}
		if f[2] < 0 {
			s.State = Failed
		}
		s.Figures.Keys = map[string]*KeyCounts{"k": {Unmatched: f[1]}}
		r.Steps = append(r.Steps, s)
	}
	return r
}

func TestCompare(t *testing.T) {
	a := runOf(1, map[string][3]int64{"dimension a": {10, 0, 1000}, "fact b": {100, 5, 1000}})
	b := runOf(2, map[string][3]int64{"dimension a": {10, 0, 1190}, "fact b": {90, 15, -2500}, "fact c": {1, 0, 1}})
	var got []string
	for _, c := range Compare(a, b) {
		value := func(v *float64) string {
			if v == nil {
				return "-"
			}
			return fmt.Sprint(*v)
		}
		got = append(got, strings.TrimSpace(strings.Join([]string{c.Step, c.Of, value(c.Before), value(c.After), c.Was, c.Is}, " ")))
	}
	want := []string{
		"fact b state - - done failed",
		"fact b rows read 100 90",
		"fact b rows written 95 75",
		"fact b rows set aside 5 15",
		"fact b unmatched 5 15",
		"fact b seconds 1 2.5",
		"fact c state - - not in the run done",
		"fact c rows read - 1",
		"fact c rows written - 1",
		"fact c table rows - 7",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if same := Compare(a, a); len(same) > 0 {
		t.Errorf("%+v", same)
	}
}

func TestCourses(t *testing.T) {
	runs := []*Run{ // the latest first
		runOf(3, map[string][3]int64{"dimension a": {10, 0, 5}, "fact b": {90, 15, -2500}}),
		runOf(2, map[string][3]int64{"fact b": {100, 0, 1000}}),
		runOf(1, map[string][3]int64{"dimension a": {10, 0, 5}, "fact b": {50, 5, 500}}),
	}
	var got []string
	for _, c := range Courses(runs) {
		line := fmt.Sprint(c.Step, " ", c.Of, " ", c.Runs)
		for _, v := range c.Values {
			if v == nil {
				line += " -"
			} else {
				line += fmt.Sprint(" ", *v)
			}
		}
		got = append(got, line)
	}
	want := []string{
		"dimension a rows read [1 2 3] 10 - 10",
		"dimension a rows written [1 2 3] 10 - 10",
		"dimension a seconds [1 2 3] 0.005 - 0.005",
		"fact b rows read [1 2 3] 50 100 -",
		"fact b rows written [1 2 3] 45 100 -",
		"fact b rows set aside [1 2 3] 5 0 -",
		"fact b unmatched [1 2 3] 5 0 -",
		"fact b seconds [1 2 3] 0.5 1 -",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}
