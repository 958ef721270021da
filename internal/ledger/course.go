package ledger

import (
	"slices"
	"time"
)

// Measures are what the course of a step over runs is told in, in this order.
var Measures = []string{"rows read", "rows written", "rows set aside", "unmatched", "table rows", "seconds"}

// measured returns the measures of a step.
func (s *Step) measured() []float64 {
	f, unmatched := &s.Figures, int64(0)
	for _, k := range f.Keys {
		unmatched += k.Unmatched
	}
	seconds := s.Took().Round(time.Millisecond).Seconds()
	return []float64{float64(f.Read), float64(f.Written()), float64(f.SetAside), float64(unmatched), float64(f.Table), seconds}
}

// Change is what differs between a step of two runs.
type Change struct {
	Step   string   `json:"step"`
	Of     string   `json:"of"`               // one of Measures, or state
	Before *float64 `json:"before,omitempty"` // null if the run did not have the step
	After  *float64 `json:"after,omitempty"`
	Was    string   `json:"was,omitempty"` // states
	Is     string   `json:"is,omitempty"`
}

// Times are compared if they differ by a fifth, and by so many seconds.
const (
	slower       = 0.2
	leastSeconds = 0.1
)

// Compare returns what differs between two runs, step by step.
func Compare(before, after *Run) []Change {
	list := []Change{}
	for _, name := range stepNames(before, after) {
		a, b := before.step(name), after.step(name)
		if was, is := stateOf(a), stateOf(b); was != is {
			list = append(list, Change{Step: name, Of: "state", Was: was, Is: is})
		}
		for k, of := range Measures {
			c := Change{Step: name, Of: of}
			if a != nil {
				c.Before = &a.measured()[k]
			}
			if b != nil {
				c.After = &b.measured()[k]
			}
			if differs(of, c.Before, c.After) {
				list = append(list, c)
			}
		}
	}
	return list
}

func stateOf(s *Step) string {
	if s == nil {
		return "not in the run"
	}
	return s.State
}

func differs(of string, a, b *float64) bool {
	value := func(x *float64) float64 {
		if x == nil {
			return 0
		}
		return *x
	}
	x, y := value(a), value(b)
	if of != "seconds" {
		return x != y
	}
	most := max(x, y)
	return most-min(x, y) >= max(slower*most, leastSeconds)
}

// Course is a measure of a step over runs, from the first to the last; null where the run did not have the step, or did
// not do it.
type Course struct {
	Step   string     `json:"step"`
	Of     string     `json:"of"`
	Runs   []int64    `json:"runs"`
	Values []*float64 `json:"values"`
}

// Courses returns the measures of all steps over runs, which come the latest first. What is zero all the time is left
// out, and so are the rows of tables that stay as many.
func Courses(runs []*Run) []Course {
	list := []Course{}
	for _, name := range stepNames(runs...) {
		for k, of := range Measures {
			c, some, others := Course{Step: name, Of: of}, false, false
			first := (*float64)(nil)
			for _, r := range slices.Backward(runs) {
				var v *float64
				if s := r.step(name); s != nil && s.State == Done {
					v = &s.measured()[k]
					some = some || *v != 0
					if first == nil {
						first = v
					}
					others = others || *v != *first
				}
				c.Runs, c.Values = append(c.Runs, r.ID), append(c.Values, v)
			}
			if some && (others || of != "table rows") {
				list = append(list, c)
			}
		}
	}
	return list
}

// stepNames lists the steps of runs, in the order of the last run that has them.
func stepNames(runs ...*Run) []string {
	var names []string
	for _, r := range runs {
		for _, s := range r.Steps {
			if !slices.Contains(names, s.Name) {
				names = append(names, s.Name)
			}
		}
	}
	return names
}

// step returns a step of the run; nil if it has none of that name.
func (r *Run) step(name string) *Step {
	at := slices.IndexFunc(r.Steps, func(s *Step) bool { return s.Name == name })
	if at < 0 {
		return nil
	}
	return r.Steps[at]
}
